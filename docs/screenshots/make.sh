#!/usr/bin/env bash
# Makes the pictures of this folder from the demo estate: a terminal window on a virtual screen, 1280x800.
# `make.sh NAME...` makes only these.
# Needs Debian's packages xvfb, xterm, imagemagick, fonts-dejavu-core, curl. Run it from anywhere after a release build.
set -euo pipefail
root=$(cd "$(dirname "$0")/../.." && pwd)
export PATH=$root/target/release:$PATH
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work"
mkdir saltmere
cp -r "$root"/demo/saltmere/* "$root"/demo/faults saltmere/
# the estate as somebody might leave it in a hurry
sed -e 's/^default-policy = /default-polcy = /' -e 's/  as = "office-lines"/  as = "office-line"/' \
  -e 's/203.0.113.11-203.0.113.14/203.0.113.14-203.0.113.11/' -e 's/external = "uplink:24012/external = "uplink:24011/' \
  saltmere/harbour.toml >saltmere/hurried.toml

wanted=" $* "

picture() { # NAME COMMAND
  [[ $wanted == "  " || $wanted == *" $1 "* ]] || return 0
  for _ in 1 2 3; do
    shoot "$@"
    # a screen that was not there yet gives an empty picture
    [ "$(stat -c %s "$root/docs/screenshots/$1.png")" -gt 5000 ] && return
  done
}

shoot() {
  local display=:$((300 + RANDOM % 500)) server window
  Xvfb "$display" -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
  server=$!
  for _ in $(seq 50); do [ -e "/tmp/.X11-unix/X${display#:}" ] && break; sleep 0.1; done
  DISPLAY=$display xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry 142x42+0+0 -bg '#11151c' -fg '#d7dde8' -bw 0 -b 0 +sb \
    -e bash -c "printf '\033[1;32m$\033[0m %s\n' '$2'; $2; tput civis; sleep 30" >/dev/null 2>&1 &
  window=$!
  sleep 2.5
  DISPLAY=$display import -window root "$root/docs/screenshots/$1.png"
  kill "$window" "$server" 2>/dev/null || true
  wait "$window" "$server" 2>/dev/null || true
}

picture predict 'zarnet predict saltmere/harbour.toml saltmere/morning.csv --at 2h45m --rows 8 --device harbour-edge'
picture check 'zarnet check saltmere/hurried.toml'
picture new 'zarnet new edge.toml && head -37 edge.toml'
picture storm 'zarnet predict saltmere/harbour.toml saltmere/storm.toml --at 31m --rows 14 --device harbour-edge'
picture follow 'zarnet follow saltmere/harbour.toml "kiosk-3 -> 198.51.100.80:443/tcp"'
picture expect 'zarnet expect saltmere/harbour.toml; zarnet expect saltmere/faults/chain-wrong-port.toml'
picture why 'zarnet why saltmere/faults/chain-wrong-address.toml "198.51.100.80 -> 203.0.113.2:443/tcp"'
picture lines 'zarnet why saltmere/ferry-office.toml "198.51.100.80 -> 192.0.2.66:443/tcp" --color always | head -38'
picture compare 'zarnet compare saltmere/harbour.toml saltmere/morning.csv --at 2h45m --observed saltmere/observed.csv --columns protocol=1,internal=2,external=3 --device harbour-edge'
picture capacity 'zarnet capacity saltmere/terminal.toml saltmere/saturday.toml --brief --rows 4 -q --color always | head -38'
[[ $wanted == "  " || $wanted == *" capacity-chart "* ]] &&
  { zarnet capacity saltmere/terminal.toml saltmere/saturday.toml -q --brief --force --chart "$root/docs/screenshots/capacity-chart.png" >/dev/null || true; }
picture define 'zarnet define saltmere/harbour.toml --device harbour-edge forward uplink:24070/tcp gauge-north:4010 --name spare-gauge --source head-office --from yard --with-access --dry-run'
picture impact 'zarnet impact saltmere/harbour.toml saltmere/after.toml --rows 4'
picture behaviour 'zarnet behaviour carrier'
picture exposure 'zarnet rules saltmere/harbour.toml saltmere/morning.csv --device harbour-edge -q; zarnet exposure saltmere/harbour.toml; zarnet sheet saltmere/harbour.toml'
# the log that the edge will write, kept and asked
zarnet log saltmere/harbour.toml saltmere/morning.csv --begins 2026-08-01T06:00:00Z --as mappings --into morning.ipfix -q >/dev/null
picture whose 'zarnet log saltmere/harbour.toml saltmere/morning.csv --begins 2026-08-01T06:00:00Z --summary; zarnet record log-store morning.ipfix; zarnet whose log-store 203.0.113.2:49201/tcp --at 2026-08-01T08:45:00Z --plan saltmere/harbour.toml; zarnet whose log-store 203.0.113.2:49201/tcp --at 2026-08-01T12:45:00Z'

# the edge itself, played by the stand-in: a change is sent, then somebody enters a rule by hand
export ZARNET_ACCESS=$work/access.toml
edge=https://localhost:8443
zarnet stand-in saltmere/harbour.toml --play saltmere/morning.csv --at 2h45m --speed 0 --device harbour-edge \
  --begins 2026-08-01T06:00:00Z --listen 127.0.0.1:8443 --access access.toml --certificate edge.pem >/dev/null 2>&1 &
stand_in=$!
trap 'kill $stand_in 2>/dev/null || true; rm -rf "$work"' EXIT
for _ in $(seq 50); do [ -s access.toml ] && break; sleep 0.1; done
zarnet retrieve $edge --into site -q >/dev/null
zarnet define site/edge.toml forward uplink:24070/tcp 10.61.8.41:4010 --name spare-gauge \
  --source 198.51.100.128/28 --from yard -q >/dev/null
printf '\n[[expect]]\nflow = "198.51.100.130 -> 203.0.113.2:24070/tcp"\nreaches = "10.61.8.41:4010"\n' >>site/edge.toml
picture send "zarnet send site/edge.toml $edge --yes"
zarnet send site/edge.toml $edge --yes >/dev/null
picture watch "zarnet watch site/edge.toml $edge"
token=$(sed -n 's/^token = "\(.*\)"/\1/p' access.toml)
curl -sSf --cacert edge.pem -H "Authorization: Bearer $token" -H 'Content-Type: application/yang-data+json' -X POST \
  --data '{"ietf-nat:mapping-entry": [{"index": 99, "type": "static", "transport-protocol": 6,
    "internal-src-address": "10.61.8.42/32", "internal-src-port": {"start-port-number": 4010},
    "external-src-address": "203.0.113.2/32", "external-src-port": {"start-port-number": 24999}}]}' \
  $edge/restconf/data/ietf-nat:nat/instances/instance=1/mapping-table
picture drift "zarnet drift site/edge.toml $edge; echo; zarnet compare site/edge.toml saltmere/morning.csv --at 2h45m --observed $edge"
