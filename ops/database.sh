#!/usr/bin/env bash
# Start this installation's database again whenever it is gone.
set -uo pipefail
. ops/setup.sh
. ops/postgres.sh
postgres_environment
export POSTGRES_KEEPS_PORT=yes
while sleep 1; do
  postgres_running || postgres_start
done
