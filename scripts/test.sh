#!/usr/bin/env bash
# Every check and test, cheapest first. Each prints its name; the first that fails ends the run.
set -euo pipefail
cd "$(dirname "$0")/.."

step() { printf '\n== %s\n' "$1"; }

step "formatting"
unformatted=$(gofmt -l client cmd examples internal scripts)
[ -z "$unformatted" ] || { echo "run gofmt -w on: $unformatted"; exit 1; }

step "console: types follow the contract"
(cd console && npx --no-install openapi-typescript ../internal/httpapi/openapi.yaml -o ../build/schema.d.ts >/dev/null)
diff -q build/schema.d.ts console/src/api/schema.d.ts >/dev/null || { echo "run npm run types in console/ and commit the result"; exit 1; }

step "console: type check and lint"
(cd console && npm run --silent check && npm run --silent lint)

step "console: build"
make --no-print-directory console

step "go vet"
go vet ./...

step "staticcheck"
go tool staticcheck ./...

step "known vulnerabilities"
if out=$(timeout 120 go tool govulncheck ./... 2>&1); then
  echo "none that the program reaches"
elif grep -q 'fetching vulnerabilities' <<<"$out"; then
  echo "NOT CHECKED: the vulnerability database cannot be reached from this machine"
else
  echo "$out"
  exit 1
fi

step "a static program"
CGO_ENABLED=0 go build -trimpath -ldflags "-s -w" -o bin/tansu ./cmd/tansu
if ldd bin/tansu >/dev/null 2>&1; then echo "bin/tansu needs shared libraries"; exit 1; fi

step "tests, with the race detector"
# Go's checks of unsafe pointers, which come with the race detector, take half the time in what SQLite's C code was made into, and say
# nothing of ours: off there, on everywhere else.
go test -race -short -timeout 30m -gcflags=modernc.org/...=-d=checkptr=0 ./...

step "a million random decisions against the naive reading"
go test -run NaiveReading -v ./internal/core/access | grep -v '^=== '

step "the story, in FIPS 140-3 mode"
GODEBUG=fips140=on bin/tansu demo --story | tail -1
