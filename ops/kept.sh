#!/usr/bin/env bash
# kept.sh N: be the N-th process of an installation, the only one of its name. It holds a lock as long as it lives, so
# whoever is started for a name that is taken waits, and takes its place the moment it is gone.
KEPT=(web-0 web-1 database work exchange desk broker gateway)
name=${KEPT[$1]}
sleep 0.3  # one that cannot start is not tried without a pause
mkdir -p "$STRELL_STATE/run"
exec 8>> "$STRELL_STATE/run/$name.lock"
flock 8
echo $$ > "$STRELL_STATE/run/$name.pid"
case "$name" in
  # two listen on one port: while one is away the other answers
  web-*) exec .venv/bin/python -m config.serve "$STRELL_PORT" ;;
  database) exec bash ops/database.sh ;;
  *) exec bash ops/after-web.sh .venv/bin/python server/manage.py "$name" ;;
esac
