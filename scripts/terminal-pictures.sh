#!/usr/bin/env bash
# Takes pictures of the command line in a terminal window under Xvfb, from the
# demo's data: scripts/terminal-pictures.sh FOLDER
set -euo pipefail
folder=$(realpath "$1")
cd "$(dirname "$0")/.."

for tool in Xvfb:xvfb xterm:xterm import:imagemagick; do
  if ! command -v "${tool%%:*}" >/dev/null; then
    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends xvfb xterm imagemagick fonts-dejavu-core >/dev/null
    break
  fi
done

work=$(mktemp -d)
pids=()
finish() { kill "${pids[@]}" 2>/dev/null || true; rm -rf "$work"; }
trap finish EXIT

Xvfb :97 -screen 0 1280x800x24 -noreset >/dev/null 2>&1 & pids+=($!)
bin/kanban demo --listen 127.0.0.1:7790 --ports-from 7791 --data "$(mktemp -d -u)" >"$work/demo.txt" 2>&1 & pids+=($!)
for _ in $(seq 300); do grep -q 'Look around' "$work/demo.txt" && break; sleep 0.2; done
export XDG_CONFIG_HOME="$work" PATH="$PWD/bin:$PATH" DISPLAY=:97
echo grow-more-plants | kanban sign-in --address http://127.0.0.1:7790 --email maud@fernmoor.example >/dev/null

# shoot NAME SHOWN COMMAND...: runs a command in a terminal window, behind the prompt and
# what is shown as typed, and keeps a picture of it.
shoot() {
  local name=$1 shown=$2; shift 2
  printf '#!/bin/bash\nprintf "\\033[1m$ %%s\\033[0m\\n" %q\n%s\nsleep 5\n' "$shown" "$*" >"$work/$name.sh"
  xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry 157x46+0+0 -bg '#fffdf8' -fg '#21281e' -e bash "$work/$name.sh" & local term=$!
  sleep 3
  import -window root "$folder/$name.png"
  kill "$term" 2>/dev/null || true
}

# The demo's account is longer than a page: its end is shown.
shoot terminal-demo 'make demo' "echo '   …'; echo; sed -n '/^14\./,\$p' $work/demo.txt"
run='kanban pairings run PROP-A; echo; kanban stages group Propagator; echo; kanban rules list; echo; kanban events list --limit 8'
shoot terminal-run "$run" "$run"
