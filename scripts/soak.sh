#!/usr/bin/env bash
# Looks for what happens rarely, and ends by itself: kills the service again and again under
# load, feeds the readers with damaged input, and runs the tests from end to end with the race
# detector. RUNS of it in a row, of which the last BUSY beside two busy loops; a line for each.
#   scripts/soak.sh                    one run
#   RUNS=10 BUSY=5 KILLS=30 FUZZ=20s scripts/soak.sh
set -uo pipefail
cd "$(dirname "$0")/.."
runs=${RUNS:-1} busy=${BUSY:-0} kills=${KILLS:-30} fuzz=${FUZZ:-20s}
logs=$(mktemp -d)
loops=()
calm() { for p in "${loops[@]}"; do kill "$p" 2>/dev/null; done; loops=(); }
trap calm EXIT
declare -a lines
failures=0
step() { # NAME LOG COMMAND…
  local name=$1 log=$2 started=$SECONDS
  shift 2
  if "$@" >"$log" 2>&1; then said="$name ok ($((SECONDS - started)) s)"; else said="$name FAILED ($((SECONDS - started)) s, $log)"; failures=$((failures + 1)); fi
}
for ((n = 1; n <= runs; n++)); do
  beside=""
  if ((n > runs - busy)) && ((${#loops[@]} == 0)); then
    for _ in 1 2; do (while :; do :; done) & loops+=($!); done
  fi
  ((${#loops[@]})) && beside=" beside two busy loops"
  # Beside the rest, as most of it is waiting.
  (failures=0; step kills "$logs/$n-kills" env KANBAN_SOAK=yes KANBAN_KILLS="$kills" go test -count=1 -timeout 60m -parallel 3 -v -run '^TestSoak' ./internal/e2e
    echo "$said" >"$logs/$n-kills-said"; exit "$failures") &
  killing=$!
  line="run $n$beside:"
  for target in FuzzCSV:./internal/wire/oneroster FuzzFilter:./internal/wire/scim FuzzAddressKey:./internal/core/roster FuzzDamagedPackage:./internal/app/registers; do
    step "${target%%:*}" "$logs/$n-${target%%:*}" go test -run '^$' -fuzz "^${target%%:*}\$" -fuzztime "$fuzz" "${target#*:}"
    line="$line $said;"
  done
  step "units with race" "$logs/$n-units" go run ./internal/store/storetest/shared go test -race -count=1 -timeout 60m $(go list ./internal/... | grep -vxE 'kanban/internal(/e2e|/notices)?')
  line="$line $said;"
  step "end to end with race" "$logs/$n-e2e" go test -race -count=1 -timeout 60m -parallel 4 ./internal/e2e
  before=$failures
  wait "$killing" || failures=$((before + 1))
  line="$line $said; $(cat "$logs/$n-kills-said")"
  figures=$(grep -ohE "soak: .*" "$logs/$n-kills" | tail -1)
  [ -n "$figures" ] && line="$line: $figures"
  lines+=("$line")
  echo "$line"
done
calm
echo
printf '%s\n' "${lines[@]}"
echo "$runs runs, $failures steps failed"
((failures == 0)) && rm -rf "$logs"
exit $((failures > 0))
