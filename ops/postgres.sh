# A PostgreSQL cluster of this project's own: own folder, own port, loopback only.

PG_BIN=$(ls -d /usr/lib/postgresql/*/bin 2>/dev/null | sort -V | tail -n 1 || true)

# The cluster of this very checkout: another one that once lay in the same folder had other passwords and other data.
postgres_home() {
  local kept="$STRELL_STATE/postgres.home" usual
  usual="/var/lib/strell/$(pwd | sha256sum | cut -c1-12)"
  if [ ! -f "$kept" ]; then
    mkdir -p "$STRELL_STATE"
    # a state folder that has a port already is older than this file
    if [ -d "$usual" ] && [ ! -f "$STRELL_STATE/postgres.port" ]; then
      say "$usual is left from an earlier checkout in this folder; remove it when nothing in it is needed"
      usual="$usual-$(date +%s)"
    fi
    echo "$usual" > "$kept"
  fi
  cat "$kept"
}

postgres_environment() {
  # PostgreSQL does not run as root; where it cannot enter the state folder, its home is elsewhere
  if [ "$(id -u)" = 0 ]; then
    PG_HOME=$(postgres_home)
    AS_PG=(setpriv --reuid=postgres --regid=postgres --init-groups --reset-env)
  else
    PG_HOME="$STRELL_STATE/postgres"
    AS_PG=()
  fi
  [ -f "$STRELL_STATE/postgres.port" ] || { mkdir -p "$STRELL_STATE"; free_port 54700 > "$STRELL_STATE/postgres.port"; }
  STRELL_DB_PORT=$(cat "$STRELL_STATE/postgres.port")
  export STRELL_DB_PORT
}

# postgres_as ROLE PASSWORD DATABASE …: psql
postgres_as() { PGPASSWORD=$2 "$PG_BIN/psql" -h 127.0.0.1 -p "$STRELL_DB_PORT" -U "$1" -d "$3" -v ON_ERROR_STOP=1 -qtA "${@:4}"; }

# postgres_says DATABASE SQL: the answer, without head and rule
postgres_says() { postgres_as strell_owner "$STRELL_DB_OWNER_PASSWORD" "$1" -c "$2"; }

postgres_admin() { postgres_as strell_admin "$STRELL_DB_ADMIN_PASSWORD" "$@"; }

# A cluster of before there were roles has one, strell, that may everything: it becomes the admin, and cannot sign in.
postgres_adopt() {
  local before=${STRELL_DB_APP_PASSWORD:-$STRELL_DB_PASSWORD}
  [ "$(postgres_as strell "$before" postgres -c 'SELECT rolsuper FROM pg_roles WHERE rolname = current_user' 2>/dev/null)" = t ] || return 0
  say "giving the database roles of their own"
  postgres_as strell "$before" postgres -c "CREATE ROLE strell_admin SUPERUSER LOGIN PASSWORD '$STRELL_DB_ADMIN_PASSWORD'"
  postgres_admin postgres -c 'ALTER ROLE strell RENAME TO strell_before' -c 'ALTER ROLE strell_before NOLOGIN'
  postgres_roles
  postgres_admin strell -f ops/adopt.sql
}

postgres_roles() {
  postgres_admin postgres -v app="${STRELL_DB_APP_PASSWORD:-$STRELL_DB_PASSWORD}" -v owner="$STRELL_DB_OWNER_PASSWORD" -f ops/roles.sql
}

# What the application may do with the tables that are there: again after every migration.
postgres_grant() { postgres_as strell_owner "$STRELL_DB_OWNER_PASSWORD" "${1:-strell}" -f ops/grants.sql; }

postgres_running() { "${AS_PG[@]}" "$PG_BIN/pg_ctl" -D "$PG_HOME/data" status >/dev/null 2>&1; }

postgres_start() {
  PG_BIN=$(ls -d /usr/lib/postgresql/*/bin | sort -V | tail -n 1)
  POSTGRES_OURS=no POSTGRES_NEW=no
  if [ ! -f "$PG_HOME/data/PG_VERSION" ]; then
    say "making a database cluster"
    POSTGRES_NEW=yes
    rm -rf "$PG_HOME"
    mkdir -p "$PG_HOME"
    local password="$PG_HOME/password"
    (umask 077; echo "$STRELL_DB_ADMIN_PASSWORD" > "$password")
    [ "$(id -u)" = 0 ] && chown -R postgres:postgres "$PG_HOME" && chmod 755 /var/lib/strell
    "${AS_PG[@]}" "$PG_BIN/initdb" -D "$PG_HOME/data" --locale=C.UTF-8 -E UTF8 -A scram-sha-256 -U strell_admin \
      --pwfile="$password" >/dev/null
    rm -f "$password"
  fi
  postgres_running && { postgres_adopt; return 0; }
  POSTGRES_OURS=yes
  # another program may have taken the port since the last start
  one_at_a_time
  # processes that are running know where it was
  [ "${POSTGRES_KEEPS_PORT:-no}" = yes ] || STRELL_DB_PORT=$(free_port "$STRELL_DB_PORT")
  echo "$STRELL_DB_PORT" > "$STRELL_STATE/postgres.port"
  local options="-p $STRELL_DB_PORT -c listen_addresses=127.0.0.1 -c unix_socket_directories=$PG_HOME -c unix_socket_permissions=0700"
  if ! "${AS_PG[@]}" "$PG_BIN/pg_ctl" -w -D "$PG_HOME/data" -l "$PG_HOME/log" -o "$options" start >/dev/null 9<&-; then
    tail -n 5 "$PG_HOME/log" >&2
    echo "PostgreSQL did not start; its log is $PG_HOME/log" >&2
    exit 1
  fi
  another_may
  postgres_adopt
  if ! postgres_roles >/dev/null; then
    echo "The database in $PG_HOME does not take the password in $STRELL_STATE/secrets.env." >&2
    echo "If nothing in it is needed any more: ./strell reset, then try again." >&2
    postgres_stop
    exit 1
  fi
}

postgres_stop() { if postgres_running; then "${AS_PG[@]}" "$PG_BIN/pg_ctl" -w -m fast -D "$PG_HOME/data" stop >/dev/null; fi; }
postgres_stop_if_ours() { if [ "${POSTGRES_OURS:-no}" = yes ]; then postgres_stop; fi; }
# A cluster that a test run made for itself holds nothing that anybody typed, unless a demo came into it meanwhile.
postgres_remove_if_new() {
  local tables=0
  if [ "${POSTGRES_NEW:-no}" = yes ] && postgres_running; then
    tables=$(postgres_says strell "SELECT count(*) FROM pg_tables WHERE schemaname = 'public'" || echo 1)
    [ "$tables" != 0 ] || { postgres_stop; rm -rf "$PG_HOME"; return 0; }
  fi
  postgres_stop_if_ours
}
