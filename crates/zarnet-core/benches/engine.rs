//! The engine alone, without files, against the least that it could do: a bare table in the same
//! run. What counts is the ratio; `cargo bench -p zarnet-core` prints it with the time of each.

use std::collections::{BTreeSet, HashMap};
use std::convert::Infallible;
use std::hint::black_box;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant as Clock;

use zarnet_core::device::Device;
use zarnet_core::net::{Endpoint, Instant, Packet, Protocol};
use zarnet_core::plan::{InterfaceId, Plan};
use zarnet_core::predict::{Options, predict};
use zarnet_core::traffic::{Flow, Item, OneByOne, Party};

const EDGE: &str = r#"
[[segment]]
name = "internet"
internet = true
routed = [{ to = "192.0.2.0/24", via = "198.18.0.2" }]
[[device]]
name = "edge"
behaviour = { preset = "bcp", PORTS }
  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.64.0.1/14"
  ACL
  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "internet"
  address = "198.18.0.2/30"
  [[device.acl]]
  name = "all"
  entries = [{ accept = "any" }]
  [[device.route]]
  to = "0.0.0.0/0"
  via = "198.18.0.1"
  [[device.pool]]
  name = "block"
  addresses = "192.0.2.1-192.0.2.100"
  pick = "by-source"
  [[device.rule]]
  name = "all-out"
  type = "overload"
  as = "block"
"#;

fn plan(ports: &str, acl: &str) -> Arc<Plan> {
    built(EDGE.replace("PORTS", ports).replace("ACL", acl))
}

fn built(text: String) -> Arc<Plan> {
    let loaded = zarnet_formats::plan::from_text(Path::new("bench.toml"), text);
    Arc::new(loaded.expect("the plan of the benchmark is right").plan)
}

/// A small generator of its own, the same on every machine.
struct Numbers(u64);

impl Numbers {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let z = (self.0 ^ self.0 >> 30).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z ^ z >> 27
    }
}

fn flows(count: u64) -> Vec<Flow> {
    let mut numbers = Numbers(1846);
    let flow = |i: u64| {
        let (a, b) = (numbers.next(), numbers.next());
        let protocol = if a % 5 < 3 { Protocol::TCP } else { Protocol::UDP };
        Flow {
            start: Instant(i * 600_000_000_000 / count),
            protocol,
            source: Party::Address(
                std::net::Ipv4Addr::from_bits(0x0A40_0100 + (a >> 8 & 0x3FFF) as u32).into(),
            ),
            source_port: Some(1024 + (a >> 32) as u16 % 64_000),
            destination: Party::Address(
                std::net::Ipv4Addr::from_bits(0xC612_0100 | (b & 0xFFFF) as u32).into(),
            ),
            destination_port: Some(if b >> 20 & 1 == 0 { 443 } else { 53 }),
            lasts: (b >> 40 & 0xFFFF) * 1_000_000,
            ending: None,
            round_trip: None,
        }
    };
    (0..count).map(flow).collect()
}

/// The floor: remembers each conversation and when it was last heard of, in one hash table, and
/// nothing else.
fn floor(flows: &[Flow]) -> usize {
    let mut table: HashMap<(Party, u16, Party, u16, Protocol), u64, foldhash::fast::RandomState> =
        HashMap::default();
    for f in flows {
        let key = (
            f.source,
            f.source_port.unwrap_or(0),
            f.destination,
            f.destination_port.unwrap_or(0),
            f.protocol,
        );
        table.insert(key, f.start.0 + f.lasts);
    }
    table.len()
}

fn engine(plan: &Arc<Plan>, flows: &[Flow]) -> u64 {
    let items = flows.iter().map(|f| Ok::<_, Infallible>(Item::Flow(*f)));
    let options = Options { sessions: false, ..Options::default() };
    predict(plan.clone(), OneByOne(items), Vec::new(), options).map_or(0, |p| p.tally.total())
}

/// The median of so many runs, in nanoseconds a flow.
fn time(flows: usize, mut run: impl FnMut()) -> f64 {
    let mut times: Vec<f64> = (0..5)
        .map(|_| {
            let start = Clock::now();
            run();
            start.elapsed().as_nanos() as f64 / flows as f64
        })
        .collect();
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

/// The same edge with so many rules before its own, each for another destination and service.
fn with_rules(count: u32) -> Arc<Plan> {
    let rule = |n: u32| {
        let to = std::net::Ipv4Addr::from_bits(0xC633_6400 + n % 256);
        format!(
            "  [[device.rule]]\n  name = \"r{n}\"\n  type = \"overload\"\n  as = \"block\"\n  \
             destination = \"{to}\"\n  service = \"{}/tcp\"\n",
            1 + n / 256
        )
    };
    let (before, own) = EDGE.split_at(EDGE.rfind("  [[device.rule]]").unwrap_or(0));
    let rules: String = (0..count).map(rule).collect();
    built(
        format!("{before}{rules}{own}")
            .replace("PORTS", "port-assignment = \"sequential\"")
            .replace("ACL", ""),
    )
}

fn device(plan: &Arc<Plan>) -> Device {
    let taken =
        ["10.64.0.1", "198.18.0.1", "198.18.0.2"].iter().filter_map(|t| t.parse().ok()).collect();
    let taken = Arc::new(taken);
    Device::new(&plan.devices[0], &taken, 1)
}

fn datagram(host: u32, port: u16, peer: u32) -> Packet {
    let end = |a: u32, p| Endpoint::new(std::net::Ipv4Addr::from_bits(a), p);
    Packet::first(Protocol::UDP, end(0x0A40_0100 + host, port), end(0xC612_0100 + peer, 53))
}

fn ratio(name: &str, each: f64, bare: f64) {
    println!("{name:46} {each:7.0} ns, floor {bare:7.0} ns, {:6.2} times the floor", each / bare);
}

/// So many sessions whose time is up, against as many entries taken out of a hash table in the
/// order of a sorted list.
fn expiry(count: u32) {
    let plan = plan("port-assignment = \"sequential\"", "");
    let mut edge = device(&plan);
    for n in 0..count {
        edge.receive(
            Instant(u64::from(n) * 1000),
            InterfaceId(0),
            datagram(n >> 6, 1024 + (n & 63) as u16, n & 0xFF),
        );
    }
    let clock = Clock::now();
    edge.expire(Instant(3_600_000_000_000));
    let each = clock.elapsed().as_nanos() as f64 / f64::from(count);
    assert_eq!(edge.mapping_count(), 0);
    let mut numbers = Numbers(7);
    let keys: Vec<(u64, u64)> = (0..u64::from(count)).map(|n| (n, numbers.next())).collect();
    let mut table: HashMap<u64, [u64; 4], foldhash::fast::RandomState> =
        keys.iter().map(|k| (k.1, [0; 4])).collect();
    let clock = Clock::now();
    let mut due = keys;
    due.sort_unstable();
    due.iter().for_each(|k| {
        black_box(table.remove(&k.1));
    });
    ratio(
        &format!("{count} sessions expire, each"),
        each,
        clock.elapsed().as_nanos() as f64 / f64::from(count),
    );
}

/// A set of numbers that is nearly used up: the lowest free one is taken, another is given back.
fn bare_choice(size: u32, free: u32, rounds: u32) -> f64 {
    let mut set: BTreeSet<u32> = (size - free..size).collect();
    let mut numbers = Numbers(3);
    let clock = Clock::now();
    for _ in 0..rounds {
        let lowest = set.pop_first();
        black_box(lowest);
        set.insert(numbers.next() as u32 % size);
    }
    clock.elapsed().as_nanos() as f64 / f64::from(rounds)
}

/// A pool of whole addresses, or the ports of one address, nearly used up: each new flow takes what
/// just became free.
fn scarcity(name: &str, plan: &Arc<Plan>, size: u32, packet: impl Fn(u32) -> Packet) {
    let mut edge = device(plan);
    let held = size - size / 512;
    // one a millisecond: after 300 s one comes free for each that is asked for
    let step = 300_000_000_000 / u64::from(held);
    for n in 0..held {
        edge.receive(Instant(u64::from(n) * step), InterfaceId(0), packet(n));
    }
    let clock = Clock::now();
    for n in held..2 * held {
        black_box(edge.receive(Instant(u64::from(n) * step), InterfaceId(0), packet(n)));
    }
    let each = clock.elapsed().as_nanos() as f64 / f64::from(held);
    assert!(edge.mapping_count() > u64::from(held) - 10, "{}", edge.mapping_count());
    ratio(name, each, bare_choice(size, size / 512, held));
}

/// Three edges in a row, each of which translates: the last is the one of the other cases.
fn row() -> Arc<Plan> {
    let link = |name: &str, inside: &str, segment: &str, outside: &str| {
        let (from, to) = (inside.split('/').next().unwrap_or(""), outside);
        format!(
            "[[segment]]\nname = \"{segment}\"\n[[device]]\nname = \"{name}\"\n\
             behaviour = {{ port-assignment = \"sequential\" }}\n\
             [[device.interface]]\nname = \"floor\"\nrealm = \"internal\"\naddress = \
             \"{inside}\"\n{}\
             [[device.interface]]\nname = \"uplink\"\nrealm = \"external\"\nsegment = \
             \"{segment}\"\n\
             address = \"{to}.201/24\"\n[[device.route]]\nto = \"0.0.0.0/0\"\nvia = \"{to}.202\"\n\
             [[device.pool]]\nname = \"block\"\naddresses = \"{to}.1-{to}.100\"\npick = \
             \"by-source\"\n\
             [[device.rule]]\nname = \"all-out\"\ntype = \"overload\"\nas = \"block\"\n",
            if from.starts_with("172") { "segment = \"first\"\n" } else { "" },
        )
    };
    let last = EDGE
        .replace("PORTS", "port-assignment = \"sequential\"")
        .replace("ACL", "segment = \"second\"");
    let last = last.replace("10.64.0.1/14", "172.17.0.202/24");
    let (near, mid) = (
        link("near", "10.64.0.1/14", "first", "172.16.0"),
        link("mid", "172.16.0.202/24", "second", "172.17.0"),
    );
    built(format!("{near}{mid}{last}"))
}

fn main() {
    // under `cargo test --benches` a short run shows that it works
    let count = if std::env::args().any(|a| a == "--bench") { 500_000 } else { 5_000 };
    let flows = flows(count);
    let sequential = "port-assignment = \"sequential\"";
    let cases = [
        ("overload, sequential ports", plan(sequential, "")),
        ("overload, ports kept", plan("port-assignment = \"preserve\"", "")),
        ("overload, random ports", plan("port-assignment = \"random\"", "")),
        ("overload behind a filter", plan(sequential, "ingress-acl = \"all\"")),
    ];
    let bare = time(flows.len(), || {
        black_box(floor(black_box(&flows)));
    });
    println!("{:30} {bare:7.0} ns a flow", "floor: one bare hash table");
    for (name, plan) in &cases {
        let each = time(flows.len(), || {
            black_box(engine(plan, black_box(&flows)));
        });
        println!("{name:30} {each:7.0} ns a flow, {:5.2} times the floor", each / bare);
    }
    let single = time(flows.len(), || {
        black_box(engine(&plan(sequential, "ingress-acl = \"all\""), black_box(&flows)));
    });
    let row = row();
    let each = time(flows.len(), || {
        black_box(engine(&row, black_box(&flows)));
    });
    println!(
        "{:30} {each:7.0} ns a flow, {:5.2} times three single ones",
        "three edges in a row",
        each / single / 3.0
    );
    println!();
    let few = &flows[..flows.len() / 5];
    for count in [10, 1000, 10_000] {
        let plan = with_rules(count);
        let each = time(few.len(), || {
            black_box(engine(&plan, black_box(few)));
        });
        let bare = time(few.len(), || {
            black_box(floor(black_box(few)));
        });
        ratio(&format!("first match of {count} rules, a new flow"), each, bare);
    }
    expiry(count as u32 * 2);
    let text = EDGE.replace("PORTS", "port-assignment = \"sequential\"").replace("ACL", "");
    let whole = built(
        text.replace("192.0.2.1-192.0.2.100", "198.19.0.0-198.19.255.255")
            .replace("\"by-source\"", "\"lowest\"\n  usable = \"all\"")
            .replace("type = \"overload\"", "type = \"pool\""),
    );
    scarcity("a pool of 65536 addresses, nearly full", &whole, 65_536, |n| {
        datagram(n, 5000, n & 0xFF)
    });
    let ports = built(text.replace("192.0.2.1-192.0.2.100", "192.0.2.1"));
    scarcity("the ports of one address, nearly full", &ports, 64_512, |n| {
        datagram(n & 0xFF, 1024 + (n >> 8) as u16, 1)
    });
}
