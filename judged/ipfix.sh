#!/usr/bin/env bash
# What a decoder and an analyser by others make of the translation logs that were checked in: every field of RFC 8158 has its name, every record is there.
set -euo pipefail
cd "$(dirname "$0")/logs"
told=$(mktemp)
trap 'rm -f "$told"' EXIT
for log in *.ipfix; do
    ipfixDump --in "$log" --data >"$told"
    # fields that have no name are those of our own enterprise
    unnamed=$(grep -E '_alien|unknown' "$told" | grep -vcE '\((32473/[12])\)' || true)
    [ "$unnamed" = 0 ] || { echo "$log: $unnamed fields without a name" >&2; exit 1; }
    records=$(grep -c 'observationTimeMilliseconds' "$told")
    said=$(tail -n +2 "${log%.ipfix}.csv" | wc -l)
    [ "$records" = "$said" ] || { echo "$log: $records records, $said events" >&2; exit 1; }
    events=$(tshark -r "$log" -V 2>/dev/null | grep -c 'Nat Event: ')
    [ "$events" = "$said" ] || { echo "$log: $events events to the analyser, $said to us" >&2; exit 1; }
    malformed=$(tshark -r "$log" -Y '_ws.malformed || _ws.expert.severity >= 6291456' 2>/dev/null | wc -l)
    [ "$malformed" = 0 ] || { echo "$log: $malformed malformed" >&2; exit 1; }
    echo "decoded: $log: $records records; $(tshark -r "$log" -V 2>/dev/null | sed -n 's/.*Nat Event: \(.*\)/\1/p' | sort | uniq -c | sed 's/^ *//' | paste -sd, | sed 's/,/, /g')"
done
