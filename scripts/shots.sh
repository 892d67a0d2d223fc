#!/usr/bin/env bash
# Takes the pictures in docs/screenshots anew, from the demo data.
set -euo pipefail
cd "$(dirname "$0")/../e2e"
mkdir -p ../docs/screenshots
npx playwright test -c shots.config.ts
