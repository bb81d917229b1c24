#!/usr/bin/env bash
# Runs the examples on a cluster of one master and two workers on this machine, and compares with what the program says.
# Needs `zarnet` on the path, and `install.sh` to have been run. Exit code 77: it did not run.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
python=${CLUSTER_PYTHON:-$here/.venv/bin/python}
if ! command -v java >/dev/null || ! "$python" -c 'import pyspark' 2>/dev/null; then
    echo "NOT RUN: the cluster examples need Java 17 and PySpark; examples/cluster/install.sh installs it" >&2
    exit 77
fi
work=$(mktemp -d)
spark=$("$python" -c 'import os, pyspark; print(os.path.dirname(pyspark.__file__))')
export PYSPARK_PYTHON=$python PYSPARK_DRIVER_PYTHON=$python SPARK_LOCAL_IP=127.0.0.1 SPARK_LOCAL_DIRS=$work/local
processes=()
trap 'kill "${processes[@]}" 2>/dev/null || true; wait 2>/dev/null || true; rm -rf "$work"' EXIT

port=$((20000 + RANDOM % 20000))
begin() { # CLASS ARGUMENT...
    "$spark/bin/spark-class" "$@" >>"$work/cluster.log" 2>&1 &
    processes+=($!)
}
begin org.apache.spark.deploy.master.Master --host 127.0.0.1 --port "$port" --webui-port 0
export SPARK_MASTER=spark://127.0.0.1:$port
for _ in 1 2; do
    begin org.apache.spark.deploy.worker.Worker --host 127.0.0.1 --webui-port 0 --cores 1 --memory 1g --work-dir "$work/work" "$SPARK_MASTER"
done
for _ in $(seq 100); do
    [ "$(grep -c 'Successfully registered with master' "$work/cluster.log" || true)" = 2 ] && break
    sleep 0.3
done

demo=$here/../../demo/saltmere
cat >"$work/questions" <<'QUESTIONS'
203.0.113.2 49201 tcp 2026-08-01T08:45:00Z
203.0.113.2 49160 udp 2026-08-01T07:00:00Z
203.0.113.5 443 tcp 2026-08-01T08:45:00Z
203.0.113.2 49201 tcp 2026-08-01T12:00:00Z
QUESTIONS
for log in mappings sessions; do
    zarnet log "$demo/harbour.toml" "$demo/morning.csv" --begins 2026-08-01T06:00:00Z --as $log --format ipfix >"$work/$log.ipfix"
    zarnet record "$work/$log-store" "$work/$log.ipfix" --quiet >/dev/null
    "$python" "$here/whose.py" "$work/$log-store" <"$work/questions" 2>>"$work/driver.log" >"$work/theirs.jsonl"
    while read -r address number protocol at; do
        zarnet whose "$work/$log-store" "$address:$number/$protocol" --at "$at" --format json >"$work/ours.json" || [ $? = 1 ]
        "$python" - "$address:$number/$protocol" "$at" "$work/ours.json" "$work/theirs.jsonl" <<'PYTHON'
import datetime
import json
import sys

def milliseconds(text):
    return None if text is None else round(datetime.datetime.fromisoformat(text).timestamp() * 1000)

asked, at = sys.argv[1], milliseconds(sys.argv[2])
ours = sorted(json.dumps({
    "asked": asked, "device": a["device"], "rule": a["rule"], "internal": a["internal"]["address"],
    "internal-port": a["internal"]["port"], "begun": milliseconds(a["from"]), "ended": milliseconds(a["until"]),
}) for a in json.load(open(sys.argv[3]))["answers"])
theirs = [json.loads(line) for line in open(sys.argv[4])]
theirs = sorted(json.dumps(t) for t in theirs
                if t["asked"] == asked and t["begun"] <= at and (t["ended"] is None or t["ended"] >= at))
assert ours == theirs, f"ours: {ours}\ntheirs: {theirs}"
print(f"same: {asked} at {sys.argv[2]}: {len(ours)}")
PYTHON
    done <"$work/questions"
done

mkdir "$work/fleet"
for n in $(seq 16); do
    cp "$demo/harbour.toml" "$work/fleet/edge-$n.toml"
    # each edge has a part of the morning
    awk -v n="$n" 'NR == 1 || NR % 16 == n % 16' "$demo/morning.csv" >"$work/fleet/edge-$n.csv"
done
cp "$demo/jetty.toml" "$work/fleet/"
"$python" "$here/fleet.py" "$work/fleet" 2>>"$work/driver.log" >"$work/fleet.jsonl"
for plan in "$work"/fleet/edge-*.toml; do
    zarnet predict "$plan" "${plan%.toml}.csv" --format json >"$work/one.json" || [ $? = 1 ]
    "$python" - "$work/one.json" "$(basename "${plan%.toml}")" "$work/fleet.jsonl" <<'PYTHON'
import json
import sys

answer, name = json.load(open(sys.argv[1])), sys.argv[2]
theirs = next(e for e in map(json.loads, open(sys.argv[3])) if e["edge"] == name)
assert theirs == {"edge": name, "flows": answer["flows"], "mappings": len(answer["mappings"])}, theirs
PYTHON
done
echo "same: $(wc -l <"$work/fleet.jsonl") edges predicted on the cluster as by the program"
