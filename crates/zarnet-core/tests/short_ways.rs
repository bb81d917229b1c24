//! Flows that are entered at once come to the same as step by step: through several devices in a
//! row, under every type of rule, of both families; and they really are entered at once.

use std::convert::Infallible;
use std::net::IpAddr;
use std::sync::Arc;

use proptest::prelude::*;
use zarnet_core::net::{Instant, Protocol};
use zarnet_core::plan::Plan;
use zarnet_core::predict::{Moment, Options, Prediction, Sources, predict};
use zarnet_core::traffic::{Flow, Item, OneByOne, Party};
use zarnet_testkit::edge::plan;

const S: u64 = 1_000_000_000;

/// A device of a chain as text: how it behaves, and its pools, rules, filters and policies.
#[derive(Debug, Clone)]
struct Link {
    behaviour: &'static str,
    /// Whether a filter is attached inside, and what it holds.
    filter: &'static str,
    rules: String,
}

/// The plan of some devices in a row, the first one innermost. In the rules of each, `POOL` stands
/// for addresses outside and `INNER` for the machine inside that forwards lead to.
fn chain(links: &[Link]) -> String {
    let mut text = String::from("[[segment]]\nname = \"world\"\ninternet = true\n");
    (0..links.len()).for_each(|i| text += &format!("[[segment]]\nname = \"s{i}\"\n"));
    for (i, link) in links.iter().enumerate() {
        let last = i + 1 == links.len();
        let (inner, six) = match i {
            0 => ("10.0.0.1/24".to_owned(), "fd00:0:0:1::1/64"),
            _ => (format!("172.16.{i}.1/28"), ""),
        };
        let (outer, hop, segment, network) = match last {
            true => ("192.0.2.1/28".into(), "192.0.2.14".into(), "world".into(), "192.0.2".into()),
            false => {
                let network = format!("172.16.{}", i + 1);
                let segment = format!("s{}", i + 1);
                (format!("{network}.2/28"), format!("{network}.1"), segment, network)
            }
        };
        let within = match i {
            0 => "10.0.0.20".to_owned(),
            _ => format!("172.16.{i}.2"),
        };
        let both = |four: &str, six: &str| match six {
            "" => format!("\"{four}\""),
            six => format!("[\"{four}\", \"{six}\"]"),
        };
        let six_out = if last && links.len() == 1 { "2001:db8:ffff::2/64" } else { "" };
        let six_route = match six_out {
            "" => "",
            _ => "  [[device.route]]\n  to = \"::/0\"\n  via = \"2001:db8:ffff::1\"\n",
        };
        let (attached, acl) = match link.filter {
            "" => ("", String::new()),
            entries => (
                "  ingress-acl = \"in\"\n",
                format!("  [[device.acl]]\n  name = \"in\"\n  entries = [{entries}]\n"),
            ),
        };
        let rules = link.rules.replace("POOL", &format!("{network}.4-{network}.7"));
        let rules = rules.replace("INNER", &within);
        text += &format!(
            "[[device]]\nname = \"d{i}\"\nbehaviour = {}\n  [[device.interface]]\n  name = \"in\"\n  \
             realm = \"internal\"\n  segment = \"s{i}\"\n  address = {}\n{attached}  \
             [[device.interface]]\n  name = \"out\"\n  realm = \"external\"\n  segment = \
             \"{segment}\"\n  address = {}\n{acl}  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \
             \"{hop}\"\n{six_route}{rules}",
            link.behaviour,
            both(&inner, six),
            both(&outer, six_out),
        );
    }
    if links.len() == 1 {
        let routed = "routed = [{ to = \"2001:db8:100::/48\", via = \"2001:db8:ffff::2\" }]";
        text = text.replacen("internet = true", &format!("internet = true\n{routed}"), 1);
    }
    text
}

fn rule(name: &str, keys: &str) -> String {
    format!("  [[device.rule]]\n  name = \"{name}\"\n  {keys}\n")
}

fn pool(kind: &str, pick: &str) -> String {
    format!(
        "  [[device.pool]]\n  name = \"lines\"\n  addresses = \"POOL\"\n  pick = \"{pick}\"\n{}",
        rule("dynamic", &format!("type = \"{kind}\"\n  as = \"lines\""))
    )
}

fn forward() -> String {
    rule(
        "door",
        "type = \"forward\"\n  external = \"out:8443/tcp\"\n  internal = \"INNER:8443\"\n  hairpin = \
         [\"internal\"]",
    )
}

/// Another door to the same server: who comes in by both from one port has the same answers.
fn back_door() -> String {
    forward().replace("\"door\"", "\"back-door\"").replace("out:8443", "out:9443")
}

fn links() -> impl Strategy<Value = Vec<Link>> {
    let behaviour = prop_oneof![
        3 => Just("\"bcp\""),
        1 => Just("\"symmetric\""),
        1 => Just("{ port-assignment = \"random\", hold-down-timeout = 20 }"),
        1 => Just("{ preset = \"carrier\", block-size = 64, ports-per-host = 3 }"),
        1 => Just("{ port-assignment = \"sequential\", port-classes = [\"1-65535 -> 3000-3005\"] }"),
        1 => Just("{ max-mappings = 6, pooling = \"arbitrary\" }"),
        1 => Just("{ hairpin-source = \"keep\", max-sessions = 9 }"),
    ];
    let filter = prop_oneof![
        3 => Just(""),
        1 => Just("{ drop = \"53/udp\" }, { accept = \"any\" }"),
        1 => Just("{ drop = \"any\", source = \"10.0.0.7\" }, { accept = \"any\" }"),
    ];
    let dynamic = prop_oneof![
        Just(rule("dynamic", "type = \"overload\"\n  as = \"out\"")),
        Just(pool("overload", "by-source")),
        Just(pool("overload", "random")),
        Just(pool("pool", "lowest")),
        Just(
            pool("pool", "in-turn")
                .replace("as = \"lines\"", "as = \"lines\"\n  when-exhausted = \"out\"")
        ),
        Just(
            rule("aside", "type = \"exempt\"\n  destination = \"203.0.113.0/24\"")
                + &rule("dynamic", "type = \"overload\"\n  as = \"out\"\n  limit = 5")
        ),
    ];
    let fixed = prop_oneof![
        2 => Just(String::new()),
        1 => Just(rule("one", "type = \"static\"\n  internal = \"10.0.0.6\"\n  external = \"192.0.2.9\"")),
        1 => Just(rule("web", "type = \"static\"\n  internal = \"10.0.0.5\"\n  external = \"192.0.2.10\"\n  service = \"80/tcp\"")),
        1 => Just(rule("six", "type = \"static\"\n  internal = \"fd00::/48\"\n  external = \"2001:db8:100::/48\"")),
    ];
    let door = prop_oneof![
        2 => Just(String::new()),
        1 => Just(forward()),
        1 => Just(forward() + &back_door()),
    ];
    let link = (behaviour, filter, dynamic, fixed, door).prop_map(|(b, filter, d, f, door)| Link {
        behaviour: b,
        filter,
        rules: format!("{f}{door}{d}"),
    });
    proptest::collection::vec(link, 1..4)
}

fn flows() -> impl Strategy<Value = Vec<Flow>> {
    let address = |a: &str| a.parse::<IpAddr>().unwrap();
    let inside = prop_oneof![9 => 5u8..9, 1 => Just(20)];
    let inside = inside.prop_map(|n| IpAddr::from([10, 0, 0, n])).boxed();
    let peer = prop_oneof![Just(address("198.51.100.10")), Just(address("203.0.113.20"))].boxed();
    let outer = prop_oneof![
        3 => Just(address("192.0.2.1")),
        1 => Just(address("192.0.2.9")),
        1 => Just(address("192.0.2.10")),
        1 => Just(address("192.0.2.5")),
    ]
    .boxed();
    let six = (1u16..4).prop_map(|n| IpAddr::from([0xfd00, 0, 0, 1, 0, 0, 0, n])).boxed();
    let ends = prop_oneof![
        8 => (inside.clone(), peer.clone()),
        2 => (peer, outer.clone()),
        2 => (inside, outer),
        2 => (six, Just(address("2001:db8:2::9"))),
    ];
    let protocol =
        prop_oneof![4 => Just(Protocol::TCP), 4 => Just(Protocol::UDP), 1 => Just(Protocol::ICMP)];
    let port = || prop_oneof![Just(80u16), Just(8443), Just(9443), Just(53), 5000u16..5008];
    let from = proptest::option::weighted(0.8, port());
    let flow = (0u64..300_000, protocol, ends, from, port(), 0u64..60_000).prop_map(
        |(start, protocol, (a, b), from, to, lasts)| Flow {
            start: Instant(start * 1_000_000),
            protocol,
            source: Party::Address(a),
            source_port: from,
            destination: Party::Address(b),
            destination_port: protocol.has_ports().then_some(to),
            lasts: lasts * 1_000_000,
            ending: None,
            round_trip: None,
        },
    );
    proptest::collection::vec(flow, 1..120).prop_map(|mut flows| {
        flows.sort_by_key(|f| f.start);
        flows
    })
}

fn run(plan: &Arc<Plan>, flows: &[Flow], options: Options) -> Prediction {
    let sources: Sources = flows
        .iter()
        .filter_map(|f| if let Party::Address(a) = f.source { Some(a) } else { None })
        .collect();
    let items = flows.iter().map(|f| Ok::<_, Infallible>(Item::Flow(*f)));
    let options = Options { seed: 5, sources: Some(sources), ..options };
    predict(plan.clone(), OneByOne(items), Vec::new(), options).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// Everything that is told of every device.
    #[test]
    fn flows_come_to_the_same_at_once_and_step_by_step(
        links in links(),
        flows in flows(),
        at in 0u64..400_000,
    ) {
        let text = chain(&links);
        let plan = plan(&text);
        for moment in [Moment::At(Instant(at * 1_000_000)), Moment::End] {
            let of = |stepwise| run(&plan, &flows, Options { moment, stepwise, ..Options::default() });
            let (short, long) = (of(false), of(true));
            prop_assert_eq!(&short.not_translated, &long.not_translated);
            prop_assert_eq!(short.tally, long.tally);
            prop_assert_eq!((short.at, short.end), (long.at, long.end));
            for (a, b) in short.tables.iter().zip(&long.tables) {
                prop_assert_eq!(&a.mappings, &b.mappings);
                prop_assert_eq!(&a.sessions, &b.sessions);
                prop_assert_eq!(&a.totals, &b.totals);
            }
        }
    }
}

/// A thousand flows from four hosts, or from as many peers to an external end.
fn ordinary(
    from: fn(u64) -> IpAddr,
    to: fn(u64) -> IpAddr,
    port: u16,
    from_port: bool,
) -> Vec<Flow> {
    let flow = |n: u64| Flow {
        start: Instant(n * S / 10),
        protocol: if port == 8443 {
            Protocol::TCP
        } else {
            [Protocol::TCP, Protocol::UDP][n as usize % 2]
        },
        source: Party::Address(from(n)),
        source_port: from_port.then_some(20_000 + n as u16),
        destination: Party::Address(to(n)),
        destination_port: Some(port),
        lasts: 2 * S,
        ending: None,
        round_trip: None,
    };
    (0..1000).map(flow).collect()
}

/// What comes to the same step by step could be slow unseen. The first flow of a class shows the
/// way to the others.
#[test]
fn ordinary_flows_are_entered_at_once_whatever_the_plan() {
    let host = |n: u64| IpAddr::from([10, 0, 0, 5 + (n % 4) as u8]);
    let peer = |n: u64| IpAddr::from([198, 51, 100, (n % 200) as u8]);
    let door = |_: u64| IpAddr::from([192, 0, 2, 1]);
    let six = |n: u64| IpAddr::from([0xfd00, 0, 0, 1, 0, 0, 0, 5 + (n % 4) as u16]);
    let six_peer = |n: u64| IpAddr::from([0x2001, 0xdb8, 2, 0, 0, 0, 0, n as u16]);
    let link = |behaviour: &'static str, filter: &'static str, rules: String| Link {
        behaviour,
        filter,
        rules,
    };
    let overload = || rule("dynamic", "type = \"overload\"\n  as = \"out\"");
    let policy =
        "  [[device.policy]]\n  from = \"internal\"\n  into = \"external\"\n  accept = \"any\"\n";
    let filter = "{ drop = \"23/tcp\" }, { accept = \"any\" }";
    let out = || ordinary(host, peer, 443, true);
    let one = |behaviour, filter, rules| vec![link(behaviour, filter, rules)];
    let cases: Vec<(&str, Vec<Link>, Vec<Flow>)> = vec![
        ("filter and policy", one("\"bcp\"", filter, overload() + policy), out()),
        ("random ports", one("{ port-assignment = \"random\" }", "", overload()), out()),
        ("symmetric", one("\"symmetric\"", "", overload()), out()),
        ("carrier", one("\"carrier\"", "", overload()), out()),
        ("hold-down", one("{ hold-down-timeout = 20 }", "", overload()), out()),
        ("limits", one("{ max-mappings = 90000, max-sessions = 90000 }", "", overload()), out()),
        (
            "shared ports",
            one("{ preset = \"symmetric\", port-overloading = true }", "", overload()),
            out(),
        ),
        ("whole addresses", one("\"bcp\"", "", pool("pool", "lowest")), out()),
        (
            "static prefix",
            one(
                "\"bcp\"",
                "",
                rule(
                    "all",
                    "type = \"static\"\n  internal = \"10.0.0.4/30\"\n  external = \"192.0.2.4/30\"\n",
                ) + &overload(),
            ),
            out(),
        ),
        ("forward", one("\"bcp\"", "", forward() + &overload()), ordinary(peer, door, 8443, true)),
        ("hairpin", one("\"bcp\"", "", forward() + &overload()), ordinary(host, door, 8443, true)),
        (
            "exempt before",
            one(
                "\"bcp\"",
                "",
                rule("aside", "type = \"exempt\"\n  destination = \"203.0.113.0/24\"")
                    + &overload(),
            ),
            out(),
        ),
        (
            "prefixes of IPv6",
            one(
                "\"bcp\"",
                "",
                rule(
                    "six",
                    "type = \"static\"\n  internal = \"fd00::/48\"\n  external = \"2001:db8:100::/48\"",
                ),
            ),
            ordinary(six, six_peer, 443, true),
        ),
        (
            "ports that hosts choose",
            one("\"bcp\"", "", overload()),
            ordinary(host, peer, 443, false),
        ),
        ("three in a row", vec![link("\"bcp\"", "", overload()); 3], out()),
        (
            "three in a row, inward",
            vec![link("\"bcp\"", "", forward() + &overload()); 3],
            ordinary(peer, door, 8443, true),
        ),
    ];
    for (name, links, flows) in cases {
        let plan = plan(&chain(&links));
        let taken = run(&plan, &flows, Options::default());
        assert_eq!(taken.tally.translated, 1000, "{name}: {:?}", taken.not_translated.first());
        // hosts and services are classes of their own where rules tell them apart
        assert!(taken.fast_path >= 980, "{name}: {} of 1000", taken.fast_path);
        let stepwise = Options { stepwise: true, ..Options::default() };
        assert_eq!(run(&plan, &flows, stepwise).fast_path, 0, "{name}");
    }
}
