#!/usr/bin/env bash
# Sets Estampa up in this folder: system libraries, a virtual environment in .venv, locked packages.
# Run again, it does only what is missing. With "dev" it also installs what the tests need, and compiles all kernels.
set -euo pipefail
cd "$(dirname "$0")"
want=${1:-run}

as_root() { if [ "$(id -u)" = 0 ]; then "$@"; else sudo "$@"; fi; }

packages="python3-venv libglib2.0-0 libegl1 libgl1 libgl1-mesa-dri libxkbcommon0 libxkbcommon-x11-0 libxcb-cursor0 libxcb-icccm4
libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0 libxcb-xfixes0 libxcb-xinerama0
libdbus-1-3 libfontconfig1 libgomp1 xvfb xauth"
if [ "$want" = dev ] && ! command -v npm >/dev/null; then packages="$packages nodejs npm"; fi
missing=""
for p in $packages; do
  # since 2024 some libraries carry t64 at the end of their name
  { dpkg-query -W -f='${Status}\n' "$p" "${p}t64" 2>/dev/null || true; } | grep -q "ok installed" || missing="$missing $p"
done
if [ -n "$missing" ]; then
  echo "Installing system packages:$missing"
  as_root apt-get update -qq
  as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
fi

python=""
for candidate in python3.11 python3.12 python3.13 python3; do
  if command -v "$candidate" >/dev/null && "$candidate" -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; then
    python=$candidate
    break
  fi
done
[ -n "$python" ] || { echo "Estampa needs Python 3.11 or later; install it first." >&2; exit 1; }
[ -x .venv/bin/python ] || "$python" -m venv .venv

stamp=".venv/set-up-$want"
lock=requirements.lock
[ "$want" = dev ] && lock=requirements-dev.lock
if ! cmp -s "$lock" "$stamp" 2>/dev/null; then
  echo "Installing Python packages"
  .venv/bin/python -m pip install -q --disable-pip-version-check -r "$lock"
  .venv/bin/python -m pip install -q --disable-pip-version-check --no-deps -e .
  cp "$lock" "$stamp"
fi
if [ "$want" = dev ] && ! { [ -d node_modules/three ] && cmp -s package-lock.json .venv/set-up-node; }; then
  npm install --no-audit --no-fund --silent
  cp package-lock.json .venv/set-up-node
fi
# what tests need is compiled now; the window compiles what its scene needs, and the rest beside itself
if [ "$want" = dev ]; then .venv/bin/python -m estampa.warm; fi
