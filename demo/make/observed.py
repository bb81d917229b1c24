#!/usr/bin/env python3
"""Makes demo/saltmere/observed.csv: the table that the harbour's edge might really have at a quarter to nine, read from its
console in a form of its own, on standard input the predicted one as CSV.

    zarnet predict demo/saltmere/harbour.toml demo/saltmere/morning.csv --at 2h45m --device harbour-edge --format csv \\
        | python3 demo/make/observed.py > demo/saltmere/observed.csv
"""
import csv
import sys

rows = list(csv.DictReader(sys.stdin))


def end(row, name):
    return row[name] + (":" + row[name + "-port"] if row[name + "-port"] else "")


print("# harbour-edge, translations, 08:45 (made up)")
print("proto,private,public,age")
out = []
for n, row in enumerate(r for r in rows if r["device"] == "harbour-edge"):
    line = [row["protocol"], end(row, "internal"), end(row, "external"), str(20 + 7 * n % 300)]
    if row["rule"] == "tide-gauge-south":
        continue                                # the rule was never entered on the device
    if row["rule"] == "office-lines-out" and row["internal"] == "10.61.33.23":
        line[2] = "203.0.113.11"                # the device hands its addresses out in another order
    if row["rule"] == "office-lines-out" and row["internal"] == "10.61.32.21":
        line[2] = "203.0.113.13"
    if row["internal"] == "10.61.16.30" and len(out) > 6:
        continue                                # given up sooner than predicted
    out.append(line)
out.append(["tcp", "10.61.16.11:49152", "203.0.113.2:49152", "9001"])      # kept longer than predicted
out.append(["tcp", "10.61.18.200:50000", "203.0.113.2:50000", "12"])       # a kiosk that the list does not know
out.append(["udp", "10.61.40.9:5060", "203.0.113.6:5060", "31"])           # nothing in the plan is like this
for line in out:
    print(",".join(line))
