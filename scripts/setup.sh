#!/usr/bin/env bash
# Set up the program: Debian libraries that Qt needs, a virtual environment, pinned packages. Safe to run again.
set -euo pipefail
cd "$(dirname "$0")/.."
libraries=(python3-venv libegl1 libgl1 libdbus-1-3 libfontconfig1 libxkbcommon-x11-0 libxcb-cursor0 libxcb-icccm4 libxcb-image0
  libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0 libxcb-xinerama0 libxcb-xkb1)
[ "${1:-}" = dev ] && libraries+=(xvfb openbox)
missing=()
if command -v dpkg-query >/dev/null; then
  for name in "${libraries[@]}"; do
    dpkg-query -W -f='${Status}' "$name" 2>/dev/null | grep -q 'ok installed' || missing+=("$name")
  done
fi
if [ ${#missing[@]} -gt 0 ]; then
  install="apt-get install -y --no-install-recommends ${missing[*]}"
  if [ "$(id -u)" = 0 ]; then
    (apt-get update -qq && DEBIAN_FRONTEND=noninteractive $install) >/dev/null
  elif sudo -n true 2>/dev/null; then
    (sudo apt-get update -qq && sudo DEBIAN_FRONTEND=noninteractive $install) >/dev/null
  else
    echo "Some libraries are missing. Please run: sudo $install"
  fi
fi
# two locks: what the program runs on, and what its checks need on top
lock=requirements.lock
[ "${1:-}" = dev ] && lock=requirements-dev.lock
mark() { echo ".venv/.ready-$1-$(cat "requirements$1.lock" pyproject.toml | sha256sum | cut -c1-16)"; }
if [ ! -f "$(mark -dev)" ] && { [ "$lock" != requirements.lock ] || [ ! -f "$(mark "")" ]; }; then
  [ -x .venv/bin/python ] || "${PYTHON:-python3}" -m venv .venv
  .venv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes --no-compile -r "$lock"
  # bytecode on all cores, and none of the packages' own tests: pip compiles one file after the other
  .venv/bin/python -m compileall -q -j 0 -x '/tests?/' .venv/lib/python3*/site-packages
  .venv/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
  rm -f .venv/.ready-*
  suffix=${lock#requirements}
  touch "$(mark "${suffix%.lock}")"
fi
# the program's own modules as bytecode, whatever the machine says of writing it: a start would compile 270 files otherwise
.venv/bin/python -m compileall -q src
# the list of fonts is made once here, so that the first figure does not wait for it
.venv/bin/python -c "import matplotlib.font_manager"
