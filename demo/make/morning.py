#!/usr/bin/env python3
"""Makes demo/saltmere/morning.csv: a morning at Saltmere Ferries, 06:00 to 10:00, always the same.

    python3 demo/make/morning.py > demo/saltmere/morning.csv
"""
import random

rnd = random.Random(1846)
HOURS = 4
END = HOURS * 3600
flows = []


def flow(start, protocol, source, sport, destination, dport, lasts, ends=""):
    flows.append((round(start, 1), protocol, source, sport, destination, dport, round(lasts, 1), ends))


def busy(t):
    """How busy the quay is: a sailing at every full hour draws a crowd before it."""
    return 0.35 + 1.3 * max(0.0, 1 - abs((t % 3600) - 3000) / 1500)


# kiosks sell tickets: a name is looked up, a card is charged; a few other machines are on the quay too
names = ["kiosk-1", "kiosk-2", "kiosk-3"] + [f"10.61.{16 + n // 200}.{30 + n % 200}" for n in range(24)]
t = 0.0
while t < END:
    t += rnd.expovariate(0.085 * busy(t))
    if t >= END:
        break
    who = rnd.choice(names)
    flow(t, "udp", who, "", "198.51.100.53", 53, 0.1)
    flow(t + 0.2, "tcp", who, "", "198.51.100.80", 443, rnd.uniform(1, 25))

# offices open between 07:00 and 08:30, each works on and off until ten
for name, opens in (("office-1", 3600), ("office-2", 4500), ("office-3", 5400), ("office-4", 6300), ("office-5", 7800),
                    ("office-6", 9000)):
    t = opens + rnd.uniform(0, 60)
    while t < END:
        lasts = rnd.expovariate(1 / 240)
        flow(t, "tcp", name, "", rnd.choice(["198.51.100.25", "198.51.100.80", "192.0.2.44"]), 443, lasts)
        t += rnd.uniform(40, 400)
# the second office closes early and leaves its line to whoever comes next
flows = [f for f in flows if not (f[2] == "office-2" and f[0] > 10200)]

# travellers reach the ticket server; head office reads the tide gauges every five minutes
t = 0.0
while t < END:
    t += rnd.expovariate(0.05 * busy(t))
    flow(t, "tcp", f"192.0.2.{rnd.randrange(60, 250)}", rnd.randrange(1024, 65536), "203.0.113.5", 443, rnd.uniform(0.5, 40))
for t in range(30, END, 300):
    flow(t, "tcp", "198.51.100.130", 40000 + t // 300, "203.0.113.2", 24011, 2.0)
    flow(t + 5, "tcp", "198.51.100.130", 50000 + t // 300, "203.0.113.2", 24012, 2.0)

# what goes wrong on any morning
flow(2100, "tcp", "kiosk-2", "", "198.51.100.99", 23, 5)             # somebody tries telnet
flow(4800, "tcp", "192.0.2.200", 41000, "203.0.113.2", 24011, 5)     # a stranger tries a tide gauge
flow(5000, "tcp", "198.51.100.130", 41001, "203.0.113.2", 24013, 5)  # a port that nobody forwards
flow(6000, "tcp", "ticket-server", "", "198.51.100.80", 443, 3)      # the server itself goes out: bound too
flow(6600, "icmp", "kiosk-1", "", "198.51.100.80", "", 3)
flow(9000, "icmp", "198.51.100.130", 77, "203.0.113.2", "", 0)       # head office pings the edge

# what a collector writes down are addresses
ADDRESSES = {"kiosk-1": "10.61.16.11", "kiosk-2": "10.61.16.12", "kiosk-3": "10.61.16.13", "ticket-server": "10.61.8.20",
             **{f"office-{n}": f"10.61.{32 + (n > 2)}.{20 + n}" for n in range(1, 7)}}
flows = [tuple(ADDRESSES.get(x, x) for x in f) for f in flows]

flows.sort(key=lambda f: f[0])
print("start,protocol,source,source-port,destination,destination-port,lasts,ends")
for f in flows:
    print(",".join(str(x) for x in f))
