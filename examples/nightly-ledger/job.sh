#!/bin/sh
# The nightly job: psql signs in with a password file that exists in memory only, and the query never sees it.
set -eu
cd "$(dirname "$0")"
exec tansu run -- psql --no-password --no-psqlrc -h "$PGHOST" -p "$PGPORT" -U ledger bills -c "select 'the day is booked'"
