#!/usr/bin/env bash
# Installs what Nivot needs and is missing: MariaDB, headless Chromium and curl from Debian's
# packages, the npm packages of the front end and its tests. Does nothing where
# all is there.
set -euo pipefail
cd "$(dirname "$0")/.."

need() { command -v "$1" >/dev/null 2>&1 || { echo "nivot: $1 is not installed; $2" >&2; exit 1; }; }
need go "Nivot is written in Go 1.26 or later (https://go.dev)"
need node "the front end needs Node.js 20 or later"
need npm "the front end needs npm"

packages() {
  [ ! -d "$1/node_modules" ] || [ "$1/package-lock.json" -nt "$1/node_modules/.package-lock.json" ] || return 0
  echo "Installing the npm packages of $1 ..."
  (cd "$1" && npm install --no-audit --no-fund --ignore-scripts --loglevel=error && touch node_modules/.package-lock.json)
}

# All is fetched at the same time. What is wrong with the modules, the build says.
go mod download >/dev/null 2>&1 &
packages web & web=$!
packages e2e & e2e=$!

missing=()
[ -x /usr/sbin/mariadbd ] || command -v mariadbd >/dev/null 2>&1 || missing+=(mariadb-server-core mariadb-client-core)
command -v chromium-headless-shell >/dev/null 2>&1 || missing+=(chromium-headless-shell)
for p in "$@"; do dpkg -s "$p" >/dev/null 2>&1 || missing+=("$p"); done # what the caller needs besides
command -v curl >/dev/null 2>&1 || missing+=(curl) # the tests run the API's examples with it
if [ ${#missing[@]} -gt 0 ]; then
  run=()
  if [ "$(id -u)" != 0 ]; then
    command -v sudo >/dev/null 2>&1 || {
      echo "nivot: ${missing[*]} must be installed, and you are neither root nor is sudo there. As root: apt-get install ${missing[*]}" >&2
      exit 1
    }
    run=(sudo)
  fi
  command -v apt-get >/dev/null 2>&1 || { echo "nivot: ${missing[*]} must be installed; this script knows Debian's apt-get only" >&2; exit 1; }
  echo "Installing ${missing[*]} ..."
  "${run[@]}" apt-get update -qq
  "${run[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi

wait $web
wait $e2e
wait
