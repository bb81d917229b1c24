//! Random plans, flows, captures and events.

use std::net::IpAddr;

use proptest::prelude::*;
use zarnet_core::event::{Action, Clearing, Event};
use zarnet_core::net::{Endpoint, Instant, Packet, Prefix, Protocol, Signal};
use zarnet_core::plan::{DeviceId, InterfaceId, RuleId};
use zarnet_core::traffic::{Ending, Flow, Item, Party, Seen};
use zarnet_testkit::edge::{OVERLOAD, plan, plan_text, pool};

/// Plans of every rule type, with behaviours that take every way through the device.
pub(crate) fn plans() -> impl Strategy<Value = String> {
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
    let parts = (behaviour, timers, any::<bool>(), dynamic, routes, any::<bool>(), passage());
    parts.prop_map(move |(b, t, f, d, r, checks, passage)| {
        let (attached, passage) = passage;
        let rules = format!("{passage}{r}{}{d}", if f { fixed } else { "" });
        let text = plan_text(&b, t, &rules);
        let text = text.replace("realm = \"internal\"", &format!("realm = \"internal\"{attached}"));
        text.replace("internet = true", &format!("internet = true\nchecks-source = {checks}"))
    })
}

/// Filters and policies, most of the time none; and how filters are attached to the inner interface.
fn passage() -> impl Strategy<Value = (String, String)> {
    let entry = prop_oneof![
        Just("{ accept = \"any\", answers = true }"),
        Just("{ drop = \"5000/udp\" }"),
        Just("{ drop = \"80/tcp\", source = \"10.0.0.4-10.0.0.7\" }"),
        Just("{ drop = \"any\", source = \"10.0.0.9\", destination = \"198.51.100.10\" }"),
        Just("{ accept = \"any\", destination = \"10.0.0.0/28\" }"),
        Just("{ accept = \"icmp\" }"),
        Just("{ accept = \"any\" }"),
    ];
    let acl = proptest::collection::vec(entry, 1..6);
    let policy = prop_oneof![
        Just("  drop = \"5001/tcp\"\n"),
        Just("  accept = \"any\"\n  source = \"10.0.0.5-10.0.0.9\"\n"),
        Just("  accept = \"any\"\n  destination = \"203.0.113.0/24\"\n"),
        Just("  accept = \"80/tcp\"\n"),
        Just("  accept = \"any\"\n"),
    ];
    let policies = proptest::collection::vec(policy, 0..4);
    let some = (acl.clone(), acl, policies, any::<bool>()).prop_map(|(a, b, policies, both)| {
        let mut text = String::new();
        for (name, entries) in [("in", a), ("out", b)] {
            let entries = entries.join(", ");
            text += &format!("  [[device.acl]]\n  name = \"{name}\"\n  entries = [{entries}]\n");
        }
        policies.iter().for_each(|p| text += &format!("  [[device.policy]]\n{p}"));
        let out = if both { "\n  egress-acl = \"out\"" } else { "" };
        (format!("\n  ingress-acl = \"in\"{out}"), text)
    });
    prop_oneof![2 => Just(Default::default()), 3 => some]
}

pub(crate) fn flows() -> impl Strategy<Value = Vec<Flow>> {
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
pub(crate) fn captures() -> impl Strategy<Value = Vec<Item>> {
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
pub(crate) fn events() -> impl Strategy<Value = Vec<Event>> {
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
