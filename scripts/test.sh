#!/usr/bin/env bash
# Everything that must pass: generated code is current, Go with the race
# detector, the front end's types, the interface in a real browser.
set -euo pipefail
cd "$(dirname "$0")/.."

# The race detector's build and the first reading of everything go on while packages are fetched and
# the front end is built.
(go mod tidy -diff; go build -race ./internal/...; go tool staticcheck ./internal/...) >/dev/null 2>&1 & ahead=$!
make --no-print-directory build
wait $ahead || true # what is wrong is said below

echo "== generated code"
before=$(cat internal/api/api.gen.go web/src/api/schema.d.ts | sha256sum)
go generate ./internal/api
(cd web && npm run --silent types >/dev/null)
[ "$before" = "$(cat internal/api/api.gen.go web/src/api/schema.d.ts | sha256sum)" ] || {
  echo "internal/api/openapi.yaml has changed and what is made from it has not; run make types and commit" >&2
  exit 1
}

echo "== go"
[ -z "$(gofmt -l cmd internal web/*.go)" ] || { echo "gofmt these:"; gofmt -l cmd internal web/*.go; exit 1; }
go vet ./...
go tool staticcheck ./...
[ -z "$(go mod tidy -diff)" ] || { echo "go mod tidy has something to do"; go mod tidy -diff; exit 1; }
# The front end's types and style are looked at meanwhile.
front=$(mktemp)
(cd web && npm run --silent check && cd ../e2e && npx tsc --noEmit) >"$front" 2>&1 & checked=$!
go test -race -timeout 20m ./internal/engine ./internal/api ./... # the longest first

echo "== front end"
wait $checked || { cat "$front"; exit 1; }
rm "$front"

echo "== interface"
cd e2e
# In two parts side by side: a browser waits most of the time.
said=$(mktemp -d)
NIVOT_E2E_PART=looks NIVOT_E2E_PORT=8540 npx playwright test >"$said/looks" 2>&1 &
failed=0
NIVOT_E2E_PART=work npx playwright test 2>&1 | tee "$said/work" || failed=1
wait $! || failed=1
cat "$said/looks"
if [ $failed = 1 ]; then
  echo "== what failed of the interface"
  for part in looks:8540 work:8520; do
    grep -a 'WebServer.*level=\(ERROR\|WARN\)' "$said/${part%:*}" | tail -20 || true # what the program said of it
    cat "results/${part#*:}/failures.txt" || true
  done
fi
rm -r "$said"
exit $failed
