#!/usr/bin/env bash
# Fuzzes every parser for FUZZTIME (30s) each.
set -euo pipefail
cd "$(dirname "$0")/.."
grep -rl '^func Fuzz' --include='*_test.go' internal | xargs -n1 dirname | sort -u | while read -r dir; do
  grep -ho '^func Fuzz[A-Za-z0-9]*' "$dir"/*_test.go | sed 's/^func //' | while read -r name; do
    echo "== $dir $name"
    go test "./$dir" -run '^$' -fuzz "^$name\$" -fuzztime "${FUZZTIME:-30s}"
  done
done
echo "== requests: mutated bodies of every operation"
NIVOT_FOR="${FUZZTIME:-30s}" NIVOT_SEED="$(date +%s)" go test ./internal/api -run '^TestNoRequestFails$' -timeout 0
