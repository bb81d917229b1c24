#!/usr/bin/env bash
# Reads and edits a stand-in with curl, a client by others, and looks at the device with `drift`.
#
#     curl.sh ZARNET
set -euo pipefail
zarnet=$(realpath "$1")
demo=$(cd "$(dirname "$0")/../demo/saltmere" && pwd)
work=$(mktemp -d)
server=
trap 'test -z "$server" || kill "$server" 2>/dev/null; rm -rf "$work"' EXIT
cd "$work"
"$zarnet" stand-in "$demo/harbour.toml" --play "$demo/morning.csv" --at 2h45m --speed 0 --device harbour-edge --listen 127.0.0.1:0 \
    --access access.toml --certificate edge.pem >/dev/null &
server=$!
for _ in $(seq 100); do test -s edge.pem && break || sleep 0.1; done
value() { sed -n "s/^$1 = \"\(.*\)\"/\1/p" access.toml; }
url=$(value url)
ask() { # METHOD PATH [CURL-OPTION...]: status and headers into head, content to standard output
    local method=$1 path=$2
    shift 2
    curl --silent --show-error --cacert edge.pem --request "$method" --dump-header head \
        --header "Authorization: Bearer $(value token)" "$@" "$url$path"
}
status() { sed -n '1s/^[^ ]* \([0-9]*\).*/\1/p' head; }
want() { # STATUS WHAT
    test "$(status)" = "$1" || { echo "$2: $(status) instead of $1" >&2; exit 1; }
    echo "$1 $2"
}

ask GET /.well-known/host-meta | grep -q 'rel="restconf"'; want 200 "host-meta"
ask GET /restconf/data/ietf-nat:nat/instances/instance=2/name | grep -q harbour-edge; want 200 "a leaf"
ask GET "/restconf/data?content=config" >config.json; want 200 "the configuration"
tag=$(sed -n 's/^[Ee][Tt]ag: \(.*\)\r$/\1/p' head)
ask GET "/restconf/data?content=config" --header "If-None-Match: $tag"; want 304 "the same once more"
rows=$(ask GET /restconf/ds/ietf-datastores:operational/ietf-nat:nat | grep -o '"dynamic-implicit"' | wc -l); want 200 "the table"
test "$rows" -gt 60 || { echo "$rows rows" >&2; exit 1; }

entry='{"ietf-nat:mapping-entry":[{"index":99,"type":"static","transport-protocol":6,"internal-src-address":"10.61.8.42/32",
    "internal-src-port":{"start-port-number":4010},"external-src-address":"203.0.113.2/32","external-src-port":{"start-port-number":24999}}]}'
table=/restconf/data/ietf-nat:nat/instances/instance=2/mapping-table
data="Content-Type: application/yang-data+json"
ask POST "$table" --header "$data" --header 'If-Match: "other"' --data "$entry" >/dev/null; want 412 "an edit of another version"
ask POST "$table" --header "$data" --header "If-Match: $tag" --data "$entry"; want 201 "an entry is made"
ask POST "$table" --header "$data" --data "$entry" >/dev/null; want 409 "it is there already"
"$zarnet" export "$demo/harbour.toml" --device harbour-edge -q >/dev/null || true
"$zarnet" drift "$demo/harbour.toml" "$url" --device harbour-edge --access access.toml >drift.txt && exit 1
grep -q "rule forward-99" drift.txt; echo "    drift names it"
ask DELETE "$table/mapping-entry=99"; want 204 "it is deleted"
"$zarnet" drift "$demo/harbour.toml" "$url" --device harbour-edge --access access.toml >/dev/null; echo "    drift finds nothing"

patch='{"ietf-yang-patch:yang-patch":{"patch-id":"p","edit":[{"edit-id":"e","operation":"replace",
    "target":"/ietf-nat:nat/instances/instance=2/policy=1/timers/udp-timeout","value":{"ietf-nat:udp-timeout":120}}]}}'
ask PATCH /restconf/data --header "Content-Type: application/yang-patch+json" --data "$patch" >/dev/null; want 200 "a list of edits"
ask PATCH /restconf/data --header "$data" --data '{"ietf-restconf:data":{"ietf-nat:nat":{"nothing":1}}}' >/dev/null; want 400 "nonsense"
ask PUT /restconf/data --header "$data" --data @config.json; want 204 "all as it was"
timeout 3 curl --silent --cacert edge.pem --no-buffer --header "Authorization: Bearer $(value token)" "$url/streams/device-events" >events.txt &
listener=$!
sleep 1
ask POST /restconf/operations/zarnet-policy:save; want 204 "saved"
wait "$listener" || true
grep -q "configuration-changed" events.txt; echo "    and told as an event"
curl --silent --cacert edge.pem --output /dev/null --write-out '%{http_code}\n' "$url/restconf/data" | grep -qx 401; echo "401 without the token"
