//! The engine alone, without files, against the least that it could do: a bare table in the same run. What counts is the
//! ratio; `cargo bench -p zarnet-core` prints it with the time of each.

use std::collections::HashMap;
use std::convert::Infallible;
use std::hint::black_box;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant as Clock;

use zarnet_core::net::{Instant, Protocol};
use zarnet_core::plan::Plan;
use zarnet_core::predict::{Options, predict};
use zarnet_core::traffic::{Flow, Item, Party};

const EDGE: &str = r#"
[[segment]]
name = "internet"
internet = true
routed = [{ to = "192.0.2.0/24", via = "198.18.0.2" }]
[[device]]
name = "edge"
behaviour = { preset = "bcp", PORTS }
  [[device.interface]]
  name = "inside"
  realm = "internal"
  address = "10.64.0.1/14"
  ACL
  [[device.interface]]
  name = "outside"
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
    let text = EDGE.replace("PORTS", ports).replace("ACL", acl);
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
            source: Party::Address(std::net::Ipv4Addr::from_bits(0x0A40_0100 + (a >> 8 & 0x3FFF) as u32).into()),
            source_port: Some(1024 + (a >> 32) as u16 % 64_000),
            destination: Party::Address(std::net::Ipv4Addr::from_bits(0xC612_0100 | (b & 0xFFFF) as u32).into()),
            destination_port: Some(if b >> 20 & 1 == 0 { 443 } else { 53 }),
            lasts: (b >> 40 & 0xFFFF) * 1_000_000,
            ending: None,
            round_trip: None,
        }
    };
    (0..count).map(flow).collect()
}

/// The floor: remembers each conversation and when it was last heard of, in one hash table, and nothing else.
fn floor(flows: &[Flow]) -> usize {
    let mut table: HashMap<(Party, u16, Party, u16, Protocol), u64, foldhash::fast::RandomState> = HashMap::default();
    for f in flows {
        let key = (f.source, f.source_port.unwrap_or(0), f.destination, f.destination_port.unwrap_or(0), f.protocol);
        table.insert(key, f.start.0 + f.lasts);
    }
    table.len()
}

fn engine(plan: &Arc<Plan>, flows: &[Flow]) -> u64 {
    let items = flows.iter().map(|f| Ok::<_, Infallible>(Item::Flow(*f)));
    let options = Options { sessions: false, ..Options::default() };
    predict(plan.clone(), items, Vec::new(), options).map_or(0, |p| p.tally.total())
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
}
