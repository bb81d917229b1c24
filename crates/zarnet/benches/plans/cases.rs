//! The plans that are measured: those that people have, derived from one edge.

use super::rules::{devices, forwards, mixed, overloads, statics, with_one_disabled};
use super::traffic::Kind;

/// What a case is held against.
#[derive(Debug, Clone, Copy)]
pub enum Floor {
    /// A bare table of flows.
    Flows,
    /// The same of packets.
    Packets,
    /// The prediction of the same traffic with the plan as it is.
    Prediction,
    /// The plan, read by the library alone as what its notation says.
    Plan,
}

/// A line of the table.
pub struct Case {
    pub name: &'static str,
    pub plan: String,
    /// The plan with one rule disabled, where the command compares the two.
    pub new_plan: Option<String>,
    pub traffic: Kind,
    /// Words of the command; `PLAN`, `NEW` and `TRAFFIC` stand for the files.
    pub command: &'static [&'static str],
    pub floor: Floor,
    /// The ratio that is not to be passed: of processor time, or by the clock where the floor is
    /// the plan, for there a second is meant.
    pub gate: f64,
}

const PREDICT: &[&str] = &["predict", "--format", "csv", "PLAN", "TRAFFIC"];

const EDGE: &str = r#"
[[segment]]
name = "internet"
internet = true
routed = [
  { to = "192.0.2.0/24", via = "198.18.0.2" },
  { to = "198.19.0.0/16", via = "198.18.0.2" },
  { to = "2001:db8:100::/48", via = "2001:db8:ffff::2" },
]
[[device]]
name = "edge"
behaviour = BEHAVIOUR
KEYS
  [[device.interface]]
  name = "campus"
  realm = "internal"
  address = ["10.64.0.1/14", "fd00:0:0:1::1/64"]
INNER
  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "internet"
  address = ["198.18.0.2/30", "2001:db8:ffff::2/64"]
  [[device.route]]
  to = "0.0.0.0/0"
  via = "198.18.0.1"
  [[device.route]]
  to = "::/0"
  via = "2001:db8:ffff::1"
  [[device.pool]]
  name = "block"
  addresses = "192.0.2.1-192.0.2.10"
  pick = "by-source"
PARTS
  [[device.rule]]
  name = "all-out"
  type = "overload"
  source = "10.64.0.0/14"
  as = "block"
"#;

const SEQUENTIAL: &str = "{ preset = \"bcp\", port-assignment = \"sequential\", port-classes = [\"1-65535 -> \
     1024-65535\"] }";

/// The edge with another behaviour, keys of the device and of the inner interface, and parts before
/// its rule.
fn edge(behaviour: &str, keys: &str, inner: &str, parts: &str) -> String {
    let text = EDGE.replace("BEHAVIOUR", behaviour).replace("KEYS", keys);
    text.replace("INNER", inner).replace("PARTS", parts)
}

fn plain() -> String {
    edge(SEQUENTIAL, "", "", "")
}

pub fn parts(parts: &str) -> String {
    edge(SEQUENTIAL, "", "", parts)
}

pub fn rule(name: impl std::fmt::Display, keys: &str) -> String {
    format!("  [[device.rule]]\n  name = \"{name}\"\n  {keys}\n")
}

/// A filter on what comes in from inside, and policies, with so many entries each.
fn passage(entries: usize) -> String {
    let (mut filter, mut policies) = (String::new(), String::new());
    for i in 1..entries {
        let (host, peer) = (format!("10.64.{}.0/24", 1 + i % 80), format!("198.18.{}.7", i % 250));
        let (port, verdict) = (20_000 + i, ["drop", "accept"][i % 2]);
        let entry = match i % 3 {
            0 => format!("{verdict} = \"{port}/tcp\", source = \"{host}\""),
            1 => format!("{verdict} = \"{port}/tcp\", destination = \"{peer}\""),
            _ => format!("{verdict} = \"any\", source = \"{host}\", destination = \"{peer}\""),
        };
        filter += &format!("    {{ {entry} }},\n");
        policies += &format!(
            "  [[device.policy]]\n  {verdict} = \"{port}/tcp\"\n  source = \"{host}\"\n  destination = \
             \"{peer}\"\n"
        );
    }
    filter = if entries == 2 { "    { drop = \"23/tcp\" },\n".into() } else { filter };
    policies = if entries == 2 { String::new() } else { policies };
    let parts = format!(
        "  [[device.acl]]\n  name = \"in\"\n  entries = [\n{filter}    {{ accept = \"any\" }},\n  ]\n\
         {policies}  [[device.policy]]\n  from = \"internal\"\n  into = \"external\"\n  accept = \
         \"any\"\n"
    );
    edge(SEQUENTIAL, "default-policy = \"drop\"", "  ingress-acl = \"in\"", &parts)
}

fn fixed() -> String {
    let statics = (0..8).map(|i| {
        let keys = format!(
            "type = \"static\"\n  internal = \"10.64.{0}.0/22\"\n  external = \"198.19.{0}.0/22\"",
            4 + i * 4
        );
        rule(format!("s{i}"), &keys)
    });
    let forwards = (0..100).map(|i| {
        let keys = format!(
            "type = \"forward\"\n  external = \"192.0.2.240:{}/tcp\"\n  internal = \
             \"10.67.255.{}:443\"",
            1024 + i,
            1 + i
        );
        rule(format!("f{i}"), &keys)
    });
    parts(&statics.chain(forwards).collect::<String>())
}

fn whole_addresses() -> String {
    let pool = "  [[device.pool]]\n  name = \"lines\"\n  addresses = \"198.19.0.0/16\"\n";
    parts(&format!("{pool}{}", rule("lines-out", "type = \"pool\"\n  as = \"lines\"")))
}

fn hairpin() -> String {
    parts(&rule(
        "server",
        "type = \"forward\"\n  external = \"192.0.2.200:443/tcp\"\n  internal = \"10.67.255.10:443\"\n  \
         hairpin = [\"internal\"]",
    ))
}

fn prefixes() -> String {
    parts(&rule(
        "six",
        "type = \"static\"\n  internal = \"fd00::/48\"\n  external = \"2001:db8:100::/48\"",
    ))
}

fn three_in_a_row() -> String {
    let mut text = String::from(
        "[[segment]]\nname = \"internet\"\ninternet = true\nrouted = [{ to = \"192.0.2.0/24\", via = \
         \"198.18.0.2\" }]\n[[segment]]\nname = \"a\"\n[[segment]]\nname = \"b\"\n[[segment]]\nname = \
         \"c\"\n",
    );
    let devices = [
        ("a", "10.64.0.1/14", "b", "172.16.0.2/30", "172.16.0.1", "172.17.0.1-172.17.0.10", ""),
        (
            "b",
            "172.16.0.1/30",
            "c",
            "172.16.1.2/30",
            "172.16.1.1",
            "172.18.0.1-172.18.0.10",
            "172.17.0.0/24 172.16.0.2",
        ),
        (
            "c",
            "172.16.1.1/30",
            "internet",
            "198.18.0.2/30",
            "198.18.0.1",
            "192.0.2.1-192.0.2.10",
            "172.18.0.0/24 172.16.1.2",
        ),
    ];
    for (i, (inner, own, outer, other, hop, pool, back)) in devices.into_iter().enumerate() {
        let back = back.split_once(' ').map_or(String::new(), |(to, via)| {
            format!("  [[device.route]]\n  to = \"{to}\"\n  via = \"{via}\"\n")
        });
        text += &format!(
            "[[device]]\nname = \"d{i}\"\nbehaviour = {SEQUENTIAL}\n  [[device.interface]]\n  name = \
             \"in\"\n  realm = \"internal\"\n  segment = \"{inner}\"\n  address = \"{own}\"\n  \
             [[device.interface]]\n  name = \"out\"\n  realm = \"external\"\n  segment = \"{outer}\"\n  \
             address = \"{other}\"\n  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \
             \"{hop}\"\n{back}  [[device.pool]]\n  name = \"block\"\n  addresses = \"{pool}\"\n  pick = \
             \"by-source\"\n{}",
            rule("out", "type = \"overload\"\n  as = \"block\"")
        );
    }
    text
}

/// Every case, in the order of the table.
pub fn all() -> Vec<Case> {
    let flows = |name, plan, gate| Case {
        name,
        plan,
        new_plan: None,
        traffic: Kind::List,
        command: PREDICT,
        floor: Floor::Flows,
        gate,
    };
    let of = |traffic, case: Case| Case { traffic, ..case };
    let asked = |name, plan, command, gate| Case {
        command,
        traffic: Kind::None,
        floor: Floor::Plan,
        ..flows(name, plan, gate)
    };
    let changed = |name, plan: String, gate| Case {
        new_plan: Some(with_one_disabled(&plan, 10_000)),
        ..asked(name, plan, &["impact", "PLAN", "NEW"], gate)
    };
    const CHECK: &[&str] = &["check", "PLAN"];
    const DEFINE: &[&str] = &["define", "--dry-run", "PLAN", "disable", "r5000"];
    const WHY: &[&str] = &["why", "PLAN", "10.65.0.77:1234 -> 198.18.1.1:80/tcp"];
    vec![
        flows("plain", plain(), 2.2),
        flows("filter and policy", passage(2), 3.0),
        flows("1000 entries each", passage(1000), 4.0),
        flows("ports kept", edge("\"bcp\"", "", "", ""), 3.0),
        flows("random ports", parts("").replace("sequential", "random"), 3.5),
        flows("10000 rules", overloads(10_000), 2.6),
        flows("carrier", edge("\"carrier\"", "", "", "").replace("192.0.2.10", "192.0.2.200"), 5.0),
        flows("statics and 100 forwards", fixed(), 3.5),
        flows("whole addresses", whole_addresses(), 4.0),
        of(Kind::Hairpin, flows("hairpin", hairpin(), 4.0)),
        of(Kind::V6, flows("IPv6 prefixes", prefixes(), 5.0)),
        flows("three in a row", three_in_a_row(), 8.0),
        of(Kind::JsonLines, flows("JSON Lines", plain(), 4.0)),
        of(Kind::Gzip, flows(".gz", plain(), 2.8)),
        of(Kind::Zstd, flows(".zst", plain(), 3.0)),
        Case {
            command: &["predict", "--format", "csv", "--at", "peak", "PLAN", "TRAFFIC"],
            ..flows("--at peak", plain(), 3.5)
        },
        of(Kind::OutOfOrder, flows("out of order", plain(), 4.0)),
        of(Kind::Load, flows("load profile", plain(), 4.0)),
        Case {
            traffic: Kind::Packets,
            floor: Floor::Packets,
            command: &["predict", "--format", "csv", "--seen-at", "edge/campus", "PLAN", "TRAFFIC"],
            ..flows("packets", plain(), 1.5)
        },
        Case {
            command: &[
                "log",
                "--format",
                "ipfix",
                "--as",
                "sessions",
                "--begins",
                "2026-08-01T06:00:00Z",
                "PLAN",
                "TRAFFIC",
            ],
            floor: Floor::Prediction,
            ..flows("log as IPFIX", plain(), 1.3)
        },
        Case {
            command: &["capacity", "--brief", "--at", "end", "PLAN", "TRAFFIC"],
            floor: Floor::Prediction,
            ..flows("capacity", plain(), 1.33)
        },
        Case {
            command: &["predict", "--threads", "1", "--format", "csv", "PLAN", "TRAFFIC"],
            ..flows("one thread", plain(), 2.2)
        },
        asked("check, 10000 overloads", overloads(10_000), CHECK, 13.0),
        asked("check, 10000 statics", statics(10_000), CHECK, 13.0),
        asked("check, 10000 forwards", forwards(10_000), CHECK, 13.0),
        asked("check, 10000 mixed rules", mixed(10_000), CHECK, 13.0),
        asked("check, 60000 statics", statics(60_000), CHECK, 15.0),
        asked("check, 2000 edges", devices(2000), CHECK, 13.0),
        changed("impact, 10000 overloads", overloads(10_000), 2.7),
        changed("impact, 10000 mixed rules", mixed(10_000), 2.7),
        asked("define, 10000 overloads", overloads(10_000), DEFINE, 13.0),
        asked("define, 10000 mixed rules", mixed(10_000), DEFINE, 13.0),
        asked("why, 10000 mixed rules", mixed(10_000), WHY, 13.0),
    ]
}
