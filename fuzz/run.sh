#!/usr/bin/env bash
# Runs fuzz targets for so many seconds each, and prints how many inputs were tried and what was found.
set -euo pipefail
cd "$(dirname "$0")/.."
seconds=${1:-300}
shift || true
targets=("$@")
[ ${#targets[@]} -gt 0 ] || mapfile -t targets < <(sed -n 's/^name = "\([a-z_]*\)"$/\1/p' fuzz/Cargo.toml | grep -v zarnet)
export RUSTC_BOOTSTRAP=1 CARGO_INCREMENTAL=0
dictionary() {
    case "$1" in
        csv_line | json_line | engine_list) echo list ;;
        capture | frame | engine_capture) echo capture ;;
        plan | engine_plan) echo plan ;;
        observed | engine_observed) echo observed ;;
        flow | document | request | ipfix | syslog) echo "$1" ;;
    esac
}
status=0
for target in "${targets[@]}"; do
    mkdir -p "fuzz/corpus/$target"
    log=$(mktemp)
    if cargo fuzz run ${SANITIZER:+-s "$SANITIZER"} "$target" "fuzz/corpus/$target" "fuzz/seeds/$target" -- \
        -dict="fuzz/dictionaries/$(dictionary "$target").dict" -max_total_time="$seconds" -timeout=10 \
        -rss_limit_mb=1024 -print_final_stats=1 -max_len="${MAX_LEN:-4096}" >"$log" 2>&1; then
        found="nothing found"
    else
        found="FOUND: $(grep -E 'SUMMARY|panicked' "$log" | head -1)"
        status=1
    fi
    tried=$(sed -n 's/^stat::number_of_executed_units: *//p' "$log")
    speed=$(sed -n 's/^stat::average_exec_per_sec: *//p' "$log")
    printf '%-16s %12s tried, %8s a second, %s\n' "$target" "${tried:-0}" "${speed:-0}" "$found"
    rm -f "$log"
done
exit $status
