#!/usr/bin/env bash
# Runs the benchmarks and prints one table: figure, goal, ratio (above 1.00 is better than the
# goal). Ends with 1 when a benchmark failed or a goal was missed. KANBAN_BENCH narrows which.
set -uo pipefail
cd "$(dirname "$0")/.."
only=${KANBAN_BENCH:-.}
out=$(mktemp)
trap 'rm -f "$out"' EXIT
failed=0
run() { go test -run '^$' -bench "$only" "$@" 2>&1 | tee -a "$out" || failed=1; }
run -benchmem ./internal/core/...
run -benchtime 1x ./internal/app/registers ./internal/app/runs ./internal/app/scores ./internal/app/badges ./internal/app/stages ./internal/app/reports ./internal/app/persons ./internal/web
run -benchtime 1x -timeout 60m ./internal/e2e
run -benchtime 1x -timeout 30m ./internal/app/pipeline
echo
awk -F' *[|] *' -v results="$out" '
  BEGIN {
    while ((getline line < results) > 0) {
      n = split(line, f, /[ \t]+/)
      if (f[1] !~ /^Benchmark/ || n < 4) continue
      name = f[1]; sub(/-[0-9]+$/, "", name)
      for (i = 3; i < n; i += 2) got[name, f[i + 1]] = f[i]
    }
    printf "%-62s %12s %12s %7s\n", "FIGURE", "MEASURED", "GOAL", "RATIO"
  }
  /^#/ || NF < 5 { next }
  {
    key = $1 SUBSEP $2
    if (!(key in got)) { printf "%-62s %12s %12s %7s\n", $5, "not measured", $3, ""; next }
    v = got[key] + 0; g = $3 + 0
    ok = $4 == "most" ? v <= g : v >= g
    ratio = $4 == "most" ? (v > 0 ? g / v : 1) : v / g
    printf "%-62s %12.4g %12.4g %7.2f%s\n", $5, v, g, ratio, ok ? "" : "  missed"
    if (!ok) missed++
  }
  END { exit missed > 0 }
' scripts/bench-goals.txt || failed=1
exit $failed
