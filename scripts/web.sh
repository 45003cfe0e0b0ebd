#!/usr/bin/env bash
# Builds the page. Idempotent, and quick when nothing changed.
set -euo pipefail
cd "$(dirname "$0")/../web"
if ! command -v npm >/dev/null; then
  echo "Node 20 or later with npm is needed to build the page. Install it and run this again." >&2
  exit 1
fi
lock=$(sha256sum package-lock.json | cut -c1-32)
if [ "$(cat node_modules/.stamp 2>/dev/null)" != "$lock" ]; then
  echo "Installing packages of the page"
  npm ci --no-audit --no-fund --loglevel=error
  echo "$lock" > node_modules/.stamp
fi
sources=$(cat package-lock.json index.html vite.config.ts vite.viewer.config.ts $(find src -type f | sort) | sha256sum | cut -c1-32)
if [ "$(cat dist/.stamp 2>/dev/null)" != "$sources" ]; then
  npx vite build --logLevel warn
  npx vite build --config vite.viewer.config.ts --logLevel warn
  echo "$sources" > dist/.stamp
fi
