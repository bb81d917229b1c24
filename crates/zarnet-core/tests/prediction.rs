//! Traffic through a network: invariants over random plans and random traffic.

use std::collections::HashSet;
use std::convert::Infallible;
use std::net::IpAddr;
use std::sync::Arc;

use proptest::prelude::*;
use zarnet_core::event::{Action, Clearing, Event};
use zarnet_core::net::{Endpoint, Instant, Packet, Prefix, Protocol, Signal};
use zarnet_core::plan::{DeviceId, InterfaceId, Plan, RuleId};
use zarnet_core::predict::{Moment, Options, Prediction, Sources, predict};
use zarnet_core::traffic::{Ending, OneByOne};
use zarnet_core::traffic::{Flow, Item, Party, Seen};
use zarnet_testkit::edge::{OVERLOAD, plan, plan_text, pool};

const S: u64 = 1_000_000_000;

/// Plans of every rule type, with behaviours that take every way through the device.
fn plans() -> impl Strategy<Value = String> {
    let behaviour = prop_oneof![
        Just("\"bcp\"".to_owned()),
        Just("\"symmetric\"".to_owned()),
        Just("{ preset = \"carrier\", ports-per-host = 600 }".to_owned()),
        Just("{ port-assignment = \"sequential\", filtering = \"address-dependent\" }".to_owned()),
        Just("{ pooling = \"arbitrary\", port-classes = [\"1-65535 -> 3000-3007\"] }".to_owned()),
        Just(
            "{ port-assignment = \"sequential\", port-classes = [\"1-65535 -> 3000-3003\"] }"
                .to_owned()
        ),
        Just(
            "{ mapping = \"address-dependent\", port-parity = true, max-sessions = 12 }".to_owned()
        ),
        Just("{ hold-down-timeout = 90, refresh = \"both\", max-mappings = 9 }".to_owned()),
        Just("{ answers-leave = \"as-came\", translates-own = true }".to_owned()),
        Just(
            "{ cannot = [\"icmp\"], port-assignment = \"sequential\", translates-own = true }"
                .to_owned()
        ),
    ];
    let lane = r#"
  [[device.interface]]
  name = "lane"
  realm = "external"
  segment = "world"
  address = "198.18.0.2/28"
  [[device.route]]
  to = "0.0.0.0/0"
  via = "198.18.0.1"
"#;
    let routes = prop_oneof![
        4 => Just(String::new()),
        1 => Just(lane.to_owned()),
        1 => Just(format!("{lane}  source = [\"10.0.0.6\", \"10.0.0.20-10.0.0.21\"]\n")),
        1 => Just(format!("{lane}  from = [\"internal\", \"uplink\"]\n")),
    ];
    let fixed = r#"
  [[device.rule]]
  name = "server"
  type = "static"
  internal = "10.0.0.20"
  external = "192.0.2.4"
  hairpin = ["internal"]
  [[device.rule]]
  name = "door"
  type = "forward"
  external = "uplink:8000-8001/tcp"
  internal = "10.0.0.21:80"
"#;
    let overload_pool =
        pool(2, "pick = \"by-source\"").replace("type = \"pool\"", "type = \"overload\"");
    let dynamic = prop_oneof![
        Just(OVERLOAD.to_owned()),
        Just(pool(2, "pick = \"in-turn\"")),
        Just(
            pool(3, "pick = \"random\"")
                .replace("as = \"lines\"", "as = \"lines\"\n when-exhausted = \"uplink\"")
        ),
        Just(overload_pool),
    ];
    let timers =
        prop_oneof![Just("{}"), Just("{ udp-timeout = 5, binding = 20, icmp-timeout = 2 }")];
    (behaviour, timers, any::<bool>(), dynamic, routes, any::<bool>()).prop_map(
        move |(b, t, f, d, r, checks)| {
            let text = plan_text(&b, t, &format!("{r}{}{d}", if f { fixed } else { "" }));
            text.replace("internet = true", &format!("internet = true\nchecks-source = {checks}"))
        },
    )
}

fn flows() -> impl Strategy<Value = Vec<Flow>> {
    let address = |a: &str| a.parse::<IpAddr>().unwrap();
    let inside = (5u8..11).prop_map(|n| IpAddr::from([10, 0, 0, n])).boxed();
    let server = prop_oneof![Just(address("10.0.0.20")), Just(address("10.0.0.21"))].boxed();
    let peer = prop_oneof![Just(address("198.51.100.10")), Just(address("203.0.113.20"))].boxed();
    let end = prop_oneof![
        Just(address("192.0.2.1")),
        Just(address("192.0.2.4")),
        Just(address("192.0.2.8"))
    ]
    .boxed();
    let ends = prop_oneof![
        6 => (inside.clone(), peer.clone()),
        1 => (server.clone(), peer.clone()),
        2 => (peer, end.clone()),
        1 => (inside.clone(), end),
        1 => (inside, server),
    ];
    let protocol = prop_oneof![
        5 => Just(Protocol::TCP),
        4 => Just(Protocol::UDP),
        1 => Just(Protocol::ICMP),
        1 => Just(Protocol(47)),
    ];
    let ending = prop_oneof![Just(None), Just(Some(Ending::Reset)), Just(Some(Ending::Silent))];
    let port = || prop_oneof![Just(80u16), Just(8000), Just(5000), Just(5001), 1u16..];
    let flow = (
        0u64..900_000,
        protocol,
        ends,
        port(),
        port(),
        0u64..400_000,
        ending,
        proptest::option::weighted(0.1, 0u64..20_000),
    );
    let own = prop_oneof![
        9 => Just(None),
        1 => Just(Some(Party::Device(DeviceId(0)))),
        1 => (0u16..2).prop_map(|i| Some(Party::Interface(DeviceId(0), InterfaceId(i)))),
    ];
    let flow = (flow, own);
    let flow =
        flow.prop_map(|((start, protocol, (a, b), from, to, lasts, ending, round_trip), own)| {
            Flow {
                start: Instant(start * 1_000_000),
                protocol,
                source: own.unwrap_or(Party::Address(a)),
                source_port: protocol.is_multiplexed().then_some(from),
                destination: Party::Address(b),
                destination_port: protocol.has_ports().then_some(to),
                lasts: lasts * 1_000_000,
                ending,
                round_trip: round_trip.map(|r| r * 1_000_000),
            }
        });
    proptest::collection::vec(flow, 1..60).prop_map(|mut flows| {
        flows.sort_by_key(|f| f.start);
        flows
    })
}

/// The packets of some flows as they would be seen on an interface, in their order; and a few that
/// belong nowhere.
fn captures() -> impl Strategy<Value = Vec<Item>> {
    let signal = prop_oneof![
        4 => Just(Signal::Plain),
        1 => Just(Signal::Fin),
        1 => Just(Signal::Rst),
        1 => Just(Signal::Syn),
    ];
    let more = proptest::collection::vec((any::<bool>(), signal, 0u64..200_000_000_000), 0..8);
    let flow = (
        flows(),
        proptest::collection::vec((more, prop_oneof![9 => Just(0u16), 1 => Just(1u16)]), 60),
    );
    flow.prop_map(|(flows, more)| {
        let mut items = Vec::new();
        for (flow, (more, interface)) in flows.iter().zip(more) {
            let (Party::Address(from), Party::Address(to)) = (flow.source, flow.destination) else {
                continue;
            };
            let from = Endpoint::new(from, flow.source_port.unwrap_or(0));
            let to = Endpoint::new(to, flow.destination_port.unwrap_or(0));
            let first = Packet::first(flow.protocol, from, to);
            let seen = |at: u64, packet: Packet| {
                Item::Seen(Seen {
                    at: Instant(at),
                    device: DeviceId(0),
                    interface: InterfaceId(interface),
                    packet,
                })
            };
            items.push(seen(flow.start.0, first));
            items.push(seen(flow.start.0 + 1_000_000, first.answer()));
            for (back, signal, later) in more {
                let packet = if back { first.answer() } else { first };
                let signal = if flow.protocol == Protocol::TCP { signal } else { packet.signal };
                items.push(seen(flow.start.0 + later, Packet { signal, ..packet }));
            }
        }
        items.sort_by_key(Item::at);
        items
    })
}

/// What is done to a device in between, leases and other plans included.
fn events() -> impl Strategy<Value = Vec<Event>> {
    let rule = || (0u16..3).prop_map(RuleId);
    let prefix: Prefix = "192.0.2.0/24".parse().unwrap();
    let clearing =
        (proptest::option::of(rule()), proptest::option::of(Just(Protocol::UDP)), 5u8..11);
    let action = prop_oneof![
        2 => rule().prop_map(Action::Disable),
        2 => rule().prop_map(Action::Enable),
        2 => clearing.prop_map(|(rule, protocol, host)| {
            let host = (host < 8).then(|| IpAddr::from([10, 0, 0, host]));
            Action::Clear(Clearing { host, rule, protocol, pool: None })
        }),
        1 => Just(Action::Restart),
        2 => (1u8..4).prop_map(move |n| {
            Action::Lease(InterfaceId(1), IpAddr::from([192, 0, 2, n]), prefix)
        }),
        2 => plans().prop_map(|text| Action::Plan(plan(&text), DeviceId(0))),
    ];
    let event =
        (0u64..1_300_000, action).prop_map(|(at, action)| (Instant(at * 1_000_000), action));
    proptest::collection::vec(event, 0..6).prop_map(|mut events| {
        events.sort_by_key(|e| e.0);
        // after another plan, rules are what they are there: numbers of this one mean nothing
        let mut replaced = false;
        events.retain(|e| {
            let numbered =
                matches!(&e.1, Action::Disable(_) | Action::Enable(_) | Action::Clear(_));
            replaced |= matches!(e.1, Action::Plan(..));
            !(replaced && numbered)
        });
        events.into_iter().map(|(at, action)| Event { at, device: DeviceId(0), action }).collect()
    })
}

fn run(
    plan: &Arc<Plan>,
    flows: &[Flow],
    events: Vec<Event>,
    moment: Moment,
    stepwise: bool,
) -> Prediction {
    let items: Vec<Item> = flows.iter().map(|f| Item::Flow(*f)).collect();
    run_items(plan, &items, events, moment, stepwise)
}

fn run_items(
    plan: &Arc<Plan>,
    items: &[Item],
    events: Vec<Event>,
    moment: Moment,
    stepwise: bool,
) -> Prediction {
    let rules = plan.devices[0].rules.len();
    let known = |e: &Event| match &e.action {
        Action::Disable(r) | Action::Enable(r) => r.index() < rules,
        Action::Clear(c) => c.rule.is_none_or(|r| r.index() < rules),
        _ => true,
    };
    let events = events.into_iter().filter(known).collect();
    let source = |item: &Item| match item {
        Item::Flow(Flow { source: Party::Address(a), .. }) => Some(*a),
        Item::Seen(seen) => Some(seen.packet.source().address),
        _ => None,
    };
    let sources: Sources = items.iter().filter_map(source).collect();
    let items = items.iter().map(|item| Ok::<_, Infallible>(*item));
    let options = Options {
        moment,
        seed: 5,
        sources: Some(sources),
        sessions: true,
        stepwise,
        record: false,
    };
    predict(plan.clone(), OneByOne(items), events, options).unwrap()
}

/// Whether two predictions come to the same.
fn same(a: &Prediction, b: &Prediction) -> Result<(), TestCaseError> {
    prop_assert_eq!(&a.not_translated, &b.not_translated);
    prop_assert_eq!(a.tally, b.tally);
    prop_assert_eq!(&a.tables[0].mappings, &b.tables[0].mappings);
    prop_assert_eq!(&a.tables[0].sessions, &b.tables[0].sessions);
    prop_assert_eq!(&a.tables[0].totals, &b.tables[0].totals);
    prop_assert_eq!((a.at, a.end), (b.at, b.end));
    Ok(())
}

/// How many of a thousand ordinary flows, and of the packets of as many, are entered at once.
fn taken_at_once(behaviour: &str, rules: &str, stepwise: bool) -> (u64, u64) {
    let plan = plan(&plan_text(behaviour, "{}", rules));
    let (mut flows, mut packets) = (Vec::new(), Vec::new());
    for n in 0..1000u64 {
        let (host, peer) = (
            IpAddr::from([10, 0, 0, 5 + (n % 4) as u8]),
            IpAddr::from([198, 51, 100, (n % 200) as u8]),
        );
        let (start, protocol) =
            (Instant(n * S / 10), [Protocol::TCP, Protocol::UDP][n as usize % 2]);
        let (from, to) = (Endpoint::new(host, 20_000 + n as u16), Endpoint::new(peer, 443));
        flows.push(Item::Flow(Flow {
            start,
            protocol,
            source: Party::Address(host),
            source_port: Some(from.port),
            destination: Party::Address(peer),
            destination_port: Some(to.port),
            lasts: 2 * S,
            ending: (protocol == Protocol::TCP).then_some(Ending::Close),
            round_trip: None,
        }));
        let packet = Packet::first(protocol, from, to);
        let seen = |later, packet| {
            let at = Instant(start.0 + later);
            Item::Seen(Seen { at, device: DeviceId(0), interface: InterfaceId(0), packet })
        };
        packets.extend([seen(0, packet), seen(1_000_000, packet.answer())]);
    }
    let taken = |items: &[Item]| run_items(&plan, items, vec![], Moment::End, stepwise).fast_path;
    (taken(&flows), taken(&packets))
}

/// What comes to the same step by step could be slow unseen: the fast path is really taken.
#[test]
fn ordinary_traffic_takes_the_fast_path() {
    let lines = pool(4, "").replace("type = \"pool\"", "type = \"overload\"");
    let behaviours = [
        "\"bcp\"",
        "{ port-assignment = \"sequential\" }",
        "{ filtering = \"address-dependent\" }",
    ];
    for behaviour in behaviours {
        for rules in [OVERLOAD, &lines] {
            assert_eq!(taken_at_once(behaviour, rules, false), (1000, 2000), "{behaviour}{rules}");
        }
    }
    assert_eq!(taken_at_once("\"bcp\"", OVERLOAD, true), (0, 0), "step by step is step by step");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(250))]

    /// The short way through the device and the long one, step by step, come to the same table at
    /// any moment.
    #[test]
    fn the_short_way_comes_to_the_same_as_the_long_one(
        text in plans(),
        flows in flows(),
        events in events(),
        at in 0u64..1_500_000,
    ) {
        let plan = plan(&text);
        for moment in [Moment::At(Instant(at * 1_000_000)), Moment::End] {
            let short = run(&plan, &flows, events.clone(), moment, false);
            let long = run(&plan, &flows, events.clone(), moment, true);
            same(&short, &long)?;
        }
    }

    /// The same of packets of a capture, and with flows in between.
    #[test]
    fn packets_come_to_the_same_the_short_way_and_the_long_one(
        text in plans(),
        packets in captures(),
        flows in flows(),
        events in events(),
        at in 0u64..1_500_000,
    ) {
        let plan = plan(&text);
        let mut items = packets;
        items.extend(flows.iter().take(10).map(|f| Item::Flow(*f)));
        items.sort_by_key(Item::at);
        for moment in [Moment::At(Instant(at * 1_000_000)), Moment::End] {
            let short = run_items(&plan, &items, events.clone(), moment, false);
            let long = run_items(&plan, &items, events.clone(), moment, true);
            same(&short, &long)?;
        }
    }

    /// RFC 4787 §4.2.1 REQ-3: no two mappings share an external end; every flow is in one class;
    /// what is counted adds up.
    #[test]
    fn ends_are_unique_and_every_flow_is_accounted_for(
        text in plans(),
        flows in flows(),
        events in events(),
        at in 0u64..1_000_000,
    ) {
        let plan = plan(&text);
        let p = run(&plan, &flows, events, Moment::At(Instant(at * 1_000_000)), false);
        prop_assert_eq!(p.tally.total(), flows.len() as u64);
        let untold = p.not_translated.len() as u64;
        prop_assert_eq!(p.tally.total() - p.tally.translated, untold);
        let table = &p.tables[0];
        let mut ends = HashSet::new();
        for m in table
            .mappings
            .iter()
            .filter(|m| !m.fixed && m.kind == "overload" && m.external.port > 0)
        {
            prop_assert!(ends.insert((m.protocol, m.external)), "{} twice", m.external);
            let whole = table
                .mappings
                .iter()
                .any(|w| !w.fixed && w.kind == "pool" && w.external.address == m.external.address);
            prop_assert!(!whole, "{} is borrowed whole", m.external.address);
        }
        let totals = &table.totals;
        prop_assert!(totals.created >= totals.expired + totals.cleared);
        prop_assert_eq!(totals.refused, totals.refused_by.values().sum::<u64>());
        for (i, r) in totals.rules.iter().enumerate() {
            let why = totals.refused_by.iter().filter(|w| w.0.0 == Some(RuleId(i as u16)));
            prop_assert_eq!(r.refused, why.map(|w| *w.1).sum::<u64>());
            prop_assert_eq!(r.hits, r.active + r.expired + r.cleared);
            prop_assert!(r.peak.count <= r.hits && r.active <= r.peak.count);
        }
        let under: u32 = table.mappings.iter().map(|m| m.sessions).sum();
        let ruled: usize = table.sessions.iter().map(|s| s.rules.iter().flatten().count()).sum();
        prop_assert_eq!(under as usize, ruled);
        for s in &table.sessions {
            prop_assert!(s.created <= s.last_active && s.last_active <= p.at && p.at < s.expires);
        }
    }

    /// No leak: all dynamic state is gone after the longest timer.
    #[test]
    fn nothing_is_left_after_the_longest_timer(
        text in plans(),
        flows in flows(),
        events in events(),
    ) {
        let plan = plan(&text);
        let end = run(&plan, &flows, events.clone(), Moment::End, false).end;
        let later = Instant(end.0 + 8000 * S);
        let p = run(&plan, &flows, events, Moment::At(later), false);
        let table = &p.tables[0];
        prop_assert_eq!((table.mapping_count, table.session_count), (0, 0));
        prop_assert!(table.mappings.iter().all(|m| m.fixed && m.sessions == 0));
        prop_assert!(table.pools.iter().all(|p| p.in_use == 0));
    }
}
