#!/usr/bin/env bash
# The demo for who changes it: the front end by Vite, which shows each change at once, in front of
# the server, which is built and started again when a Go file changes. The data stay.
set -euo pipefail
cd "$(dirname "$0")/.."

port=${NIVOT_DEV_PORT:-8430}
mkdir -p bin
server=
stop() {
  trap - EXIT
  [ -z "$server" ] || kill "$server" 2>/dev/null || true
  kill "$vite" 2>/dev/null || true
  wait
}
trap stop EXIT INT TERM

(cd web && exec npx vite --port "$port" --strictPort --host 127.0.0.1 --clearScreen false) & vite=$!
export NIVOT_PUBLIC_URL="http://127.0.0.1:$port" NIVOT_LOG=${NIVOT_LOG:-debug} NIVOT_DEV_API="http://${NIVOT_ADDR:-127.0.0.1:8420}"
while true; do
  touch bin/.built
  if go build -o bin/nivot ./cmd/nivot; then
    if [ -n "$server" ]; then
      kill "$server" 2>/dev/null || true
      wait "$server" || true
    fi
    ./bin/nivot demo & server=$!
  fi
  until [ -n "$(find cmd internal go.mod -newer bin/.built -not -name '*_test.go' -print -quit)" ]; do sleep 1; done
done
