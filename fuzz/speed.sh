#!/usr/bin/env bash
# How many executions a second the parsers make on the committed seeds of at most 512 octets: each seed is executed again
# and again, without a sanitizer, without new inputs, and without tracing compares, which would take most of the time.
set -euo pipefail
cd "$(dirname "$0")/.."
export RUSTC_BOOTSTRAP=1 CARGO_INCREMENTAL=0
times=${1:-100000}
for target in csv_line json_line capture frame plan observed flow document request ipfix syslog; do
    cargo fuzz build -s none --no-trace-compares "$target" >/dev/null 2>&1
    binary=$(find fuzz/target -path '*release/*' -name "$target" -type f -perm -u+x | head -1)
    seeds=$(find "fuzz/seeds/$target" -type f -size -513c)
    count=$(wc -w <<<"$seeds")
    start=$(date +%s.%N)
    # shellcheck disable=SC2086
    "$binary" -runs="$times" $seeds >/dev/null 2>&1
    end=$(date +%s.%N)
    awk -v n="$((times * count))" -v s="$start" -v e="$end" -v t="$target" \
        'BEGIN { printf "%-10s %9.0f a second\n", t, n / (e - s) }'
done
