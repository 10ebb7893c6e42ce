#!/usr/bin/env bash
# Installs what is missing to build, run and test Kanban. Safe to run again: what
# is there already is left alone. Works as root, and with sudo as anybody else.
set -euo pipefail
cd "$(dirname "$0")/.."

as_root() {
  if [ "$(id -u)" = 0 ]; then "$@"; elif command -v sudo >/dev/null; then sudo "$@"; else return 127; fi
}

# version_at_least HAVE WANT
version_at_least() { [ "$(printf '%s\n%s\n' "$2" "$1" | sort -V | head -n1)" = "$2" ]; }

missing=()
if ! command -v initdb >/dev/null && ! ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1; then missing+=(postgresql); fi
if [ "${1:-all}" = all ] && ! command -v chromium >/dev/null; then missing+=(chromium); fi
if ! command -v node >/dev/null; then missing+=(nodejs npm); fi
if ! command -v curl >/dev/null; then missing+=(curl); fi
if [ ! -e /usr/share/zoneinfo/Europe/Berlin ]; then missing+=(tzdata); fi

if [ ${#missing[@]} -gt 0 ]; then
  echo "Installing from Debian: ${missing[*]}"
  if ! as_root apt-get update -qq; then
    echo "Cannot install packages as this user. Ask an administrator for: apt-get install ${missing[*]}" >&2
    exit 1
  fi
  as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi

if ! command -v go >/dev/null; then
  echo "Go 1.26 or newer is needed and Debian's package is older: install it, then run this again." >&2
  exit 1
fi
if ! version_at_least "$(node --version | tr -d v)" 20.19; then
  echo "Node 20.19 or newer is needed, this is $(node --version): install it, then run this again." >&2
  exit 1
fi

# npm leaves a copy of the lock file behind when it has finished.
if ! cmp -s console/package-lock.json console/node_modules/.kanban-lock 2>/dev/null; then
  echo "Installing the console's packages"
  (cd console && npm ci --no-audit --no-fund --loglevel=error)
  cp console/package-lock.json console/node_modules/.kanban-lock
fi
