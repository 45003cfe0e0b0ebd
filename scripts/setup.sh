#!/usr/bin/env bash
# Sets up what the project needs: setup.sh product (to use it) or setup.sh dev (to check it too; the usual).
# Idempotent, and quick when nothing changed.
set -euo pipefail
cd "$(dirname "$0")/.."
PYTHON=${PYTHON:-python3.11}
VENV=.venv
KIND=${1:-dev}

# Debian packages: Open3D's shared libraries, and (for checks only) the stereo pair with known disparity and a browser
packages=(libusb-1.0-0 libgl1 libx11-6 libgomp1)
[ "$KIND" = product ] || packages+=(opencv-doc chromium)
missing=()
if command -v dpkg-query >/dev/null; then
  for p in "${packages[@]}"; do
    dpkg-query -W -f='${Status}' "$p" 2>/dev/null | grep -q 'ok installed' || missing+=("$p")
  done
fi
if [ ${#missing[@]} -gt 0 ]; then
  if [ "$(id -u)" = 0 ]; then
    echo "Installing Debian packages: ${missing[*]}"
    apt-get update -qq
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
  else
    echo "Missing Debian packages. Please run:  sudo apt-get install ${missing[*]}" >&2
    exit 1
  fi
fi

if ! command -v "$PYTHON" >/dev/null; then
  echo "Python 3.11 is needed (looked for $PYTHON). Install it, or set PYTHON to where it is." >&2
  exit 1
fi

lock=requirements.lock
[ "$KIND" = product ] || lock=requirements-dev.lock
sum=$(cat requirements.lock requirements-dev.lock pyproject.toml | sha256sum | cut -c1-32)
# what is set up for checks is enough for use too
known=$(cat $VENV/.stamp 2>/dev/null || true)
if [ "$known" != "dev $sum" ] && [ "$known" != "$KIND $sum" ]; then
  # one that was broken off in the middle has no pip yet
  $VENV/bin/python -m pip --version >/dev/null 2>&1 || "$PYTHON" -m venv --clear $VENV
  echo "Installing Python packages (about 1.5 GB unpacked, a few minutes the first time)"
  # every file has to be the one whose checksum the lock holds
  $VENV/bin/python -m pip install -q --disable-pip-version-check --require-hashes -r $lock
  $VENV/bin/python -m pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e .
  echo "$KIND $sum" > $VENV/.stamp
fi
