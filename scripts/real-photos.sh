#!/usr/bin/env bash
# Real photographs for tests/outside: Debian's visp-images-data (GPL-2), unpacked into a cache outside the project. It is
# fetched for checks only; nothing of it is shipped or committed. Without apt or a network the test that needs it is skipped.
set -u
cache=${VAST_QUARRY_REAL:-$HOME/.cache/vast-quarry-real}
[ -d "$cache/usr/share/visp-images-data/ViSP-images/cube" ] && exit 0
command -v apt-get >/dev/null && command -v dpkg >/dev/null || exit 0
mkdir -p "$cache"
work=$(mktemp -d)
chmod 777 "$work"
echo "Fetching real photographs for the tests (75 MB, once)"
(cd "$work" && apt-get download -qq visp-images-data >/dev/null 2>&1) && dpkg -x "$work"/visp-images-data*.deb "$cache"
rm -rf "$work"
exit 0
