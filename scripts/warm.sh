#!/usr/bin/env bash
# Compiles the numba kernels into the cache, once after each change of the code.
set -euo pipefail
cd "$(dirname "$0")/.."
stamp=$(find src/vast_quarry/core -name '*.py' -newer .venv/.warm 2>/dev/null | head -n 1 || true)
if [ ! -e .venv/.warm ] || [ -n "$stamp" ]; then
  touch .venv/.warm.begun
  # what is kept of a loop does not know of changes in the functions that it calls
  find src/vast_quarry/core -name '*.nb[ic]' -delete
  .venv/bin/vast-quarry warm
  mv .venv/.warm.begun .venv/.warm
fi
