#!/usr/bin/env bash
# Makes demo/saltmere/quay.pcap.gz: real programs talk between network namespaces that have the addresses of the estate,
# and the packets are recorded where the edge has its interface `quay`. Needs root, iproute2, tcpdump, python3, curl,
# ping. Everything happens inside the namespaces and is gone afterwards.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
out=$here/../saltmere/quay.pcap.gz
work=$(mktemp -d)
names=(sm-quay sm-edge sm-world sm-kiosk1 sm-kiosk2)
cleanup() {
  for n in "${names[@]}"; do
    ip netns pids "$n" 2>/dev/null | xargs -r kill 2>/dev/null || true
  done
  sleep 0.2
  for n in "${names[@]}"; do ip netns del "$n" 2>/dev/null || true; done
  rm -rf "$work"
}
trap cleanup EXIT
for n in "${names[@]}"; do ip netns add "$n"; ip -n "$n" link set lo up; done

# the quay is one wire: a bridge in a namespace of its own
ip -n sm-quay link add wire type bridge
ip -n sm-quay link set wire up
join() { # NAMESPACE INTERFACE ADDRESS
  ip link add "$2" netns "$1" type veth peer name "w-$2" netns sm-quay
  ip -n sm-quay link set "w-$2" master wire up
  ip -n "$1" addr add "$3" dev "$2"
  ip -n "$1" link set "$2" up
}
join sm-edge quay 10.61.16.1/22
join sm-kiosk1 kiosk1 10.61.16.11/22
join sm-kiosk2 kiosk2 10.61.16.12/22
for k in sm-kiosk1 sm-kiosk2; do ip -n "$k" route add default via 10.61.16.1; done

# the world behind the edge: it knows the way back, so that no translation is needed to record the inner side
ip link add uplink netns sm-edge type veth peer name edge netns sm-world
ip -n sm-edge addr add 203.0.113.2/28 dev uplink
ip -n sm-edge link set uplink up
ip -n sm-world link set edge up
for a in 203.0.113.1/28 198.51.100.80/32 198.51.100.25/32 198.51.100.53/32; do ip -n sm-world addr add "$a" dev edge; done
ip -n sm-edge route add default via 203.0.113.1
ip -n sm-world route add 10.61.16.0/22 via 203.0.113.2
ip netns exec sm-edge sysctl -qw net.ipv4.ip_forward=1

# servers: a web server, and one that answers every datagram
mkdir "$work/www"
echo '{"tickets": 3, "sailing": "09:00"}' >"$work/www/sale.json"
(cd "$work/www" && ip netns exec sm-world python3 -m http.server 443 --bind 198.51.100.80 >/dev/null 2>&1) &
(cd "$work/www" && ip netns exec sm-world python3 -m http.server 80 --bind 198.51.100.25 >/dev/null 2>&1) &
ip netns exec sm-world python3 - <<'P' &
import socket
s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
s.bind(("198.51.100.53", 53))
while True:
    data, peer = s.recvfrom(2048)
    s.sendto(data[:2] + b"\x81\x80" + data[4:], peer)
P
sleep 1

ip netns exec sm-edge tcpdump -i quay -s 96 --time-stamp-precision=nano -w "$work/quay.pcap" -Z root 2>/dev/null &
dump=$!
sleep 1
ask() { # NAMESPACE: a look-up, by datagram
  ip netns exec "$1" python3 -c '
import socket
s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
s.settimeout(2)
s.sendto(b"\x12\x34\x01\x00\x00\x01\0\0\0\0\0\0\x04sale\x07example\0\0\x01\0\x01", ("198.51.100.53", 53))
s.recv(2048)'
}
for round in 1 2 3; do
  for k in sm-kiosk1 sm-kiosk2; do
    ask "$k"
    ip netns exec "$k" curl -s -o /dev/null http://198.51.100.80:443/sale.json
    sleep 0.3
  done
done
ip netns exec sm-kiosk1 ping -c 2 -i 0.5 198.51.100.80 >/dev/null
ip netns exec sm-kiosk2 curl -s -o /dev/null http://198.51.100.25/sale.json
# a port that nobody listens on, and telnet, which the edge drops in the plan but not here
ip netns exec sm-kiosk2 curl -s -m 2 -o /dev/null http://198.51.100.25:8080/ || true
ip netns exec sm-kiosk1 curl -s -m 1 -o /dev/null telnet://198.51.100.25:23 </dev/null || true
# one connection that stays open when the recording ends
ip netns exec sm-kiosk2 python3 -c '
import socket, time
s = socket.create_connection(("198.51.100.80", 443))
s.send(b"GET /sale.json HTTP/1.1\r\n")
time.sleep(3)' &
sleep 1.5
kill -INT "$dump"
wait "$dump" 2>/dev/null || true
gzip -9nc "$work/quay.pcap" >"$out"
ls -l "$out"
