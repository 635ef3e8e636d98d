# Installing what is missing, each step only when its inputs changed.

export STRELL_STATE="${STRELL_STATE:-$PWD/.state}"
unset PYTHONDONTWRITEBYTECODE
export PYTHONPATH="$PWD/core:$PWD/server:$PWD/gateways"

# Compiled functions are kept by what they are made of: numba looks only at the file a function stands in, not at those
# whose functions and numbers it takes up.
compiled_sources() {
  local found more
  found=$(grep -rl --include='*.py' njit core/strell_core)
  for _ in 1 2; do
    # shellcheck disable=SC2086
    found=$({ printf '%s\n' $found; awk '
      /^from strell_core/ {
        module = $2; line = $0
        while (line ~ /\(/ && line !~ /\)/ && (getline more) > 0) line = line more
        sub(/.* import /, "", line)
        if (line ~ /(^|[ (,])[A-Z][A-Z_0-9]+([ ,)]|$)/) { gsub(/\./, "/", module); print "core/" module ".py" }
      }' $found; } | LC_ALL=C sort -u | while read -r more; do [ ! -f "$more" ] || echo "$more"; done)
  done
  printf '%s\n' $found
}
# shellcheck disable=SC2046
NUMBA_CACHE_DIR="$STRELL_STATE/numba/$(cat $(compiled_sources) | sha256sum | cut -c1-16)"
export NUMBA_CACHE_DIR

# After an update it takes half a minute to compile them: done beside whatever else there is to do, before anybody waits for it.
compile_ahead() {
  [ ! -f "$NUMBA_CACHE_DIR/whole" ] || return 0
  mkdir -p "$NUMBA_CACHE_DIR"
  # while it holds this lock others wait, instead of compiling the same (server/runs/warm.py)
  setpriv --pdeathsig TERM flock --no-fork "$NUMBA_CACHE_DIR/compiling" nice -n 10 .venv/bin/python ops/compiled.py || return 0
  touch "$NUMBA_CACHE_DIR/whole"
  # what earlier versions were made of
  find "$STRELL_STATE/numba" -mindepth 1 -maxdepth 1 ! -path "$NUMBA_CACHE_DIR" -mtime +1 -exec rm -r {} +
}
export MPLCONFIGDIR="$STRELL_STATE/matplotlib"

say() { echo "· $*" >&2; }

# done_with NAME FILES… : whether step NAME was finished for exactly these files
stamp_of() { cat "${@:2}" | sha256sum | cut -d' ' -f1; }
done_with() { [ -f "$STRELL_STATE/stamps/$1" ] && [ "$(cat "$STRELL_STATE/stamps/$1")" = "$(stamp_of "$@")" ]; }
mark_done() { mkdir -p "$STRELL_STATE/stamps"; stamp_of "$@" > "$STRELL_STATE/stamps/$1"; }

apt_install() {
  say "installing from Debian: $*"
  local run=()
  if [ "$(id -u)" != 0 ]; then
    command -v sudo >/dev/null || { echo "Please install these Debian packages, then try again: $*" >&2; exit 1; }
    run=(sudo)
  fi
  "${run[@]}" apt-get update -qq -o Acquire::Retries=1 -o Acquire::http::Timeout=20 >/dev/null
  "${run[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null
}

setup_system() {
  mkdir -p "$STRELL_STATE"
  ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || apt_install postgresql
  for program in python3 node npm; do
    command -v $program >/dev/null || { echo "$program is missing: Strell needs Python 3.11 and Node 20" >&2; exit 1; }
  done
  python3 -c 'import sys; sys.exit(sys.version_info[:2] != (3, 11))' || { echo "python3 must be Python 3.11" >&2; exit 1; }
}

# setup_tool NAME: a tool that only who works on Strell needs, with its packages apart
setup_tool() {
  done_with "$1" "ops/$1.lock" && return 0
  say "installing what ./strell $1 needs"
  python3 -m venv "$STRELL_STATE/$1/venv"
  "$STRELL_STATE/$1/venv/bin/pip" install --quiet --no-compile --disable-pip-version-check --require-hashes -r "ops/$1.lock"
  mark_done "$1" "ops/$1.lock"
}

# Stories, pictures and benchmarks want Chromium's shell without windows, which takes half the time. A whole one does for who would have to be
# asked for a password, and where the shell is not to be had.
setup_test_browser() {
  command -v chromium-headless-shell >/dev/null && return 0
  if [ "$(id -u)" = 0 ] || ! command -v chromium >/dev/null; then
    (apt_install chromium-headless-shell) && return 0
  fi
  command -v chromium >/dev/null || apt_install chromium
}

setup_python() {
  mkdir -p "$STRELL_STATE"
  done_with python requirements.lock && [ -x .venv/bin/python ] && return 0
  say "installing Python packages"
  if [ ! -x .venv/bin/python ]; then
    python3 -m venv .venv 2>/dev/null || { apt_install python3-venv; python3 -m venv .venv; }
  fi
  # pip unpacks one package after another: two pips take half of them each, then one looks that all are there
  awk -v to="$STRELL_STATE/half-" '/^[a-z]/ { n++ } { print > (to n % 2) }' requirements.lock
  install_python --no-deps -r "$STRELL_STATE/half-0" &
  install_python --no-deps -r "$STRELL_STATE/half-1" || true
  wait $! || true
  rm "$STRELL_STATE"/half-?
  install_python -r requirements.lock
  mark_done python requirements.lock
}

# bytecode is made by whoever first imports a module: most are never imported
install_python() {
  .venv/bin/python -m pip install --quiet --no-compile --disable-pip-version-check --require-hashes "$@"
}

setup_web_packages() {
  done_with npm web/package.json web/package-lock.json && [ -d web/node_modules ] && return 0
  say "installing npm packages"
  (cd web && npm ci --silent --no-progress --ignore-scripts >&2)
  mark_done npm web/package.json web/package-lock.json
}

web_sources() { find web/src web/index.html web/vite.config.ts web/package-lock.json -type f | sort; }

setup_web() {
  # shellcheck disable=SC2046
  [ -f web/dist/index.html ] && done_with web $(web_sources) && return 0
  setup_web_packages
  say "building the front end"
  (cd web && npx --no-install vite build --logLevel warn >&2)
  # shellcheck disable=SC2046
  mark_done web $(web_sources)
}

# Both sides of the application, installed and built side by side.
setup_application() {
  local python
  mkdir -p "$STRELL_STATE"
  setup_python &
  python=$!
  "${1:-setup_web}"
  wait $python
}

# Secrets are made once and live in the state folder, readable by its owner only.
environment() {
  local file="$STRELL_STATE/secrets.env"
  if [ ! -f "$file" ]; then
    mkdir -p "$STRELL_STATE"
    (umask 077; python3 - > "$file" <<'PY'
import secrets
print(f"STRELL_SECRET_KEY={secrets.token_urlsafe(48)}\nSTRELL_DB_PASSWORD={secrets.token_urlsafe(24)}")
PY
    )
  fi
  (umask 077; python3 - "$file" <<'PY'
import pathlib, secrets, sys
file = pathlib.Path(sys.argv[1])
for name in ("STRELL_DB_OWNER_PASSWORD", "STRELL_DB_ADMIN_PASSWORD"):
    if f"{name}=" not in file.read_text():
        with file.open("a") as more:
            more.write(f"{name}={secrets.token_urlsafe(24)}\n")
PY
  )
  set -a; . "$file"; set +a
  export DJANGO_SETTINGS_MODULE=config.settings
  STRELL_CHROMIUM="$(command -v chromium-headless-shell || command -v chromium || true)"
  export STRELL_CHROMIUM
  postgres_environment
}

free_port() { python3 - "$1" <<'PY'
import socket, sys
for port in range(int(sys.argv[1]), int(sys.argv[1]) + 200):
    with socket.socket() as s:
        s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            s.bind(("127.0.0.1", port))
        except OSError:
            continue
    print(port)
    break
PY
}

# Between looking for a free port and listening on it nobody else on this machine looks for one. What is started meanwhile
# and stays gets `9<&-`: else it would keep the lock.
PORTS_LOCK=/tmp/strell.ports
one_at_a_time() {
  [ -e "$PORTS_LOCK" ] || (umask 0; : > "$PORTS_LOCK") 2>/dev/null || true
  exec 9< "$PORTS_LOCK"
  flock -w 60 9 || say "another installation takes long to start; going on"
}
another_may() { exec 9<&-; }

until_it_listens() {
  local try
  for try in $(seq 100); do
    (exec 3<> "/dev/tcp/127.0.0.1/$1") 2>/dev/null && return 0
    sleep 0.1
  done
}

# Whether tests named like this need neither a database nor a browser: those of the core.
only_core() {
  local label named=no
  for label in "$@"; do
    case "$label" in
      core|core/*|tests|tests.*) named=yes ;;
      -*) ;;
      *) [ "${before:-}" = -k ] || return 1 ;;
    esac
    local before=$label
  done
  [ $named = yes ]
}

manage() { .venv/bin/python server/manage.py "$@"; }

# What changes tables runs as their owner, everything else as a role that may only read and write rows.
as_owner() (
  export STRELL_DB_USER=strell_owner STRELL_DB_APP_PASSWORD=$STRELL_DB_PASSWORD STRELL_DB_PASSWORD=$STRELL_DB_OWNER_PASSWORD
  "$@"
)

# Of the front end's sources; what is in order is not looked at again.
check_web() {
  local files failed=0
  files="$(web_sources) web/biome.json web/tsconfig.json"
  # shellcheck disable=SC2086
  done_with web-checks $files && return 0
  (cd web && npx --no-install biome check src) || failed=1
  (cd web && npx --no-install tsc --noEmit) || failed=1
  # shellcheck disable=SC2086
  [ $failed = 1 ] || mark_done web-checks $files
  return $failed
}

run_checks() {
  local failed=0 types said="$STRELL_STATE/mypy.log"
  environment
  # the longest one beside the others
  .venv/bin/mypy > "$said" 2>&1 &
  types=$!
  .venv/bin/ruff check . || failed=1
  .venv/bin/python server/manage.py makemigrations --check --dry-run >/dev/null || { echo "models and migrations differ"; failed=1; }
  .venv/bin/ruff format --check --quiet core server gateways browser_tests bench || { echo "ruff format would change files"; failed=1; }
  .venv/bin/lint-imports --no-cache || failed=1
  check_web || failed=1
  wait $types || failed=1
  cat "$said"
  return $failed
}

run_tests() {
  local log="$STRELL_STATE/test.log" status=0
  as_owner .venv/bin/python ops/test.py "$@" 2>&1 | tee "$log" || status=$?
  return $status
}
