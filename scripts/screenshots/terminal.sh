#!/usr/bin/env bash
# Takes pictures of the command line in a terminal window under Xvfb: scripts/screenshots/terminal.sh DIR
set -euo pipefail
cd "$(dirname "$0")/../.."
dir=${1:?usage: scripts/screenshots/terminal.sh DIR}
work=$(mktemp -d)
display=:${TANSU_DISPLAY:-97}
Xvfb "$display" -screen 0 1280x800x24 >/dev/null 2>&1 & xvfb=$!
bin/tansu demo --dir "$work/demo" --listen 127.0.0.1:8297 >"$work/out" 2>&1 & demo=$!
trap 'kill $demo $xvfb 2>/dev/null || true; wait 2>/dev/null || true; rm -rf "$work"' EXIT
until grep -qs 'Ctrl-C ends' "$work/out"; do kill -0 $demo; sleep 0.2; done

# shot NAME COMMANDS [FONT-SIZE]: each line of COMMANDS is shown after a prompt and run. A line may use $receipt, the newest receipt
# that a line before it printed.
shot() {
  local name=$1 size=${3:-9} line
  {
    echo "export TANSU_HOME='$work/demo' PATH='$PWD/bin:$PATH'; cd '$work/ticket-api'; clear"
    while IFS= read -r line; do
      printf 'printf "\\033[1;31m$\\033[0m %%s\\n" "%s"; { %s; } 2> >(tee %q >&2); sleep 0.2; echo\n' "$line" "$line" "$work/talk"
      printf 'receipt=$(sed -n "s/^  receipt  *\\([a-z0-9]*\\) .*/\\1/p" %q)\n' "$work/talk"
    done <<<"$2"
    echo "touch '$work/$name.done'; sleep 60"
  } >"$work/$name.sh"
  DISPLAY=$display xterm -fa 'DejaVu Sans Mono' -fs "$size" -geometry 240x68+0+0 -bw 0 -b 14 -bg '#f7f1e6' -fg '#33291f' -e bash "$work/$name.sh" & local window=$!
  until [ -e "$work/$name.done" ]; do sleep 0.1; done
  sleep 0.5 # the window draws what was written
  DISPLAY=$display import -window root "$dir/$name.png"
  kill $window 2>/dev/null || true
  wait $window 2>/dev/null || true
}

mkdir "$work/ticket-api"
cat >"$work/ticket-api/tansu.yaml" <<'manifest'
manifest: 1
app: ticket-api
drawers: { production: ticketing-prod, staging: ticketing-staging }
needs:
  - { variable: DB_PASSWORD, reference: db-password }
  - { variable: PAYMENT_KEY_FILE, file: payment.key, reference: payment-api-key }
  - { variable: LEDGER_PASSWORD, reference: fuel-billing-prod/ledger-db-password }
manifest
cat >"$work/ticket-api/serve.sh" <<'program'
#!/bin/sh
echo "connects with $DB_PASSWORD"
echo "has a key of $(wc -c <"$PAYMENT_KEY_FILE") bytes in $PAYMENT_KEY_FILE"
program
chmod +x "$work/ticket-api/serve.sh"
shot cli-apps 'cat tansu.yaml serve.sh
tansu preflight --in production
tansu --profile security-duty grant give app:ticket-api consumer fuel-billing-prod/ledger-db-password --until 7d
tansu run --in production -- ./serve.sh
tansu read ticketing-prod/db-password > notes.txt
tansu leaks --in production .
tansu fingerprints --in production --out marks.json
tansu leaks --fingerprints marks.json .'
# What the scene above gave is taken back, so that the next one is refused.
export TANSU_HOME="$work/demo"
granted=$(bin/tansu --profile security-duty grant list --subject app:ticket-api -o json |
  awk -F'"' '$2 == "id" { id = $4 } $2 == "scope" && $4 == "fuel-billing-prod/ledger-db-password" { print id }')
bin/tansu --profile security-duty grant end "$granted" >/dev/null
shot cli-refused 'tansu check ticketing-prod/db-password
tansu check fuel-billing-prod/ledger-db-password
tansu --profile security-duty receipt $receipt
tansu --profile security-duty grant give app:ticket-api consumer fuel-billing-prod/ledger-db-password --until 7d
tansu check fuel-billing-prod/ledger-db-password'
shot cli-trail 'tansu --profile audit-desk list
tansu --profile audit-desk history ticketing-prod/db-password
tansu --profile audit-desk trail --target ticketing-prod --limit 14'
