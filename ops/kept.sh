#!/usr/bin/env bash
# kept.sh NAME COMMAND …: run a command as the one process of that name. It holds a lock as long as it lives, so whoever is
# started for a name that is taken waits, and takes its place the moment it is gone.
sleep 0.3  # one that cannot start is not tried without a pause
mkdir -p "$STRELL_STATE/run"
exec 8>> "$STRELL_STATE/run/$1.lock"
flock 8
echo $$ > "$STRELL_STATE/run/$1.pid"
exec "${@:2}"
