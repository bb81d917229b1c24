//! Random packets through the engine and through a second model of the contract, packet by packet: both say the same of each,
//! and have the same table.

mod common;
mod second;

use std::net::{IpAddr, Ipv4Addr};

use proptest::prelude::*;
use second::{AFTER, Behaviour, Dependence, Exhausted, ICMP, IDLE, Kind, Model, OPEN, OTHER, Pick, Rule, S, UDP};
use zarnet_core::device::Outcome;
use zarnet_core::net::{Endpoint, Instant, Packet, Protocol, Signal, Tuple};
use zarnet_core::network::Network;
use zarnet_core::plan::{DeviceId, InterfaceId, RuleId};
use zarnet_core::traffic::{Action, Clearing, Event};

const LINES: [Ipv4Addr; 2] = [Ipv4Addr::new(192, 0, 2, 8), Ipv4Addr::new(192, 0, 2, 9)];
const OUTSIDE: [Ipv4Addr; 2] = [Ipv4Addr::new(192, 0, 2, 1), Ipv4Addr::new(192, 0, 2, 2)];
const SERVER: Ipv4Addr = Ipv4Addr::new(10, 0, 0, 20);

fn inside(n: u8) -> Ipv4Addr {
    Ipv4Addr::new(10, 0, 0, n)
}

/// Rules as the plan says them.
fn toml(rules: &[Rule], pick: Pick) -> String {
    let pick = match pick {
        Pick::Lowest => "lowest",
        Pick::Highest => "highest",
        Pick::InTurn => "in-turn",
        Pick::BySource => "by-source",
    };
    let lines = "[[device.pool]]\n  name = \"lines\"\n  addresses = \"192.0.2.8-192.0.2.9\"";
    let mut text = format!("\n  {lines}\n  pick = \"{pick}\"\n");
    for rule in rules {
        let kind = match &rule.kind {
            Kind::Static { internal, external, direction } => {
                format!(
                    "type = \"static\"\n  internal = \"{internal}\"\n  external = \"{external}\"\n  direction = \"{direction}\""
                )
            }
            Kind::Forward { protocol, port, servers, in_turn } => {
                let servers: Vec<String> = servers.iter().map(|(a, p)| format!("\"{a}:{p}\"")).collect();
                let spread = if *in_turn { "in-turn" } else { "by-source" };
                format!(
                    "type = \"forward\"\n  external = \"uplink:{port}/{protocol}\"\n  internal = [{}]\n  spread = \"{spread}\"",
                    servers.join(", ")
                )
            }
            Kind::Exempt { destination } => format!("type = \"exempt\"\n  destination = \"{destination}\""),
            Kind::Pool(_) => "type = \"pool\"\n  as = \"lines\"".into(),
            Kind::Overload(a) => {
                format!("type = \"overload\"\n  as = \"{}\"", if a.is_empty() { "uplink" } else { "lines" })
            }
        };
        text += &format!("  [[device.rule]]\n  name = \"{}\"\n  {kind}\n", rule.name);
        text += &rule.source.map_or(String::new(), |s| format!("  source = \"{s}\"\n"));
        text += &rule.destination.map_or(String::new(), |d| format!("  destination = \"{d}\"\n"));
        text += &rule.service.map_or(String::new(), |(p, a, b)| format!("  service = [\"{a}-{b}/{p}\"]\n"));
        text += if rule.hairpin { "  hairpin = [\"internal\"]\n" } else { "" };
        text += &rule.limit.map_or(String::new(), |n| format!("  limit = {n}\n"));
        text += match rule.when_exhausted {
            Exhausted::Drop => "",
            Exhausted::Pass => "  when-exhausted = \"pass\"\n",
            Exhausted::Outside => "  when-exhausted = \"uplink\"\n",
        };
    }
    text
}

fn behaviour_toml(b: &Behaviour) -> (String, String) {
    let dependence = |d: Dependence| match d {
        Dependence::None => "endpoint-independent",
        Dependence::Address => "address-dependent",
        Dependence::Port => "address-and-port-dependent",
    };
    let mut keys = vec![
        format!("mapping = \"{}\"", dependence(b.mapping)),
        format!("filtering = \"{}\"", dependence(b.filtering)),
        format!("pooling = \"{}\"", if b.paired { "paired" } else { "arbitrary" }),
        format!("port-assignment = \"{}\"", if b.sequential { "sequential" } else { "preserve" }),
        format!("hairpin-source = \"{}\"", if b.keep { "keep" } else { "external" }),
        format!("hold-down-timeout = {}", b.hold_down),
        format!("port-parity = {}", b.parity),
        format!("rule-order = \"{}\"", if b.fixed_first { "fixed-first" } else { "listed" }),
        format!("refresh = \"{}\"", if b.refresh_both { "both" } else { "outbound" }),
    ];
    keys.extend(b.block_size.map(|n| format!("block-size = {n}")));
    keys.extend(b.few_ports.then(|| "port-classes = [\"1-65535 -> 3000-3003\"]".into()));
    let limits =
        [("ports-per-host", b.ports_per_host), ("max-mappings", b.max_mappings), ("max-sessions", b.max_sessions)];
    keys.extend(limits.iter().filter_map(|(key, most)| most.map(|n| format!("{key} = {n}"))));
    let timers = format!(
        "{{ udp-timeout = {UDP}, icmp-timeout = {ICMP}, other-timeout = {OTHER}, tcp-trans-open-timeout = {OPEN}, \
         tcp-idle-timeout = {IDLE}, tcp-trans-close-timeout = {AFTER}, binding = {} }}",
        b.binding
    );
    (format!("{{ {} }}", keys.join(", ")), timers)
}

fn behaviours() -> impl Strategy<Value = Behaviour> {
    let dependence =
        || prop_oneof![2 => Just(Dependence::None), 1 => Just(Dependence::Address), 1 => Just(Dependence::Port)];
    let limit = |most: std::ops::Range<usize>| proptest::option::weighted(0.2, most);
    let flags = (
        prop::bool::weighted(0.7),
        any::<bool>(),
        prop::bool::weighted(0.3),
        prop::bool::weighted(0.2),
        any::<bool>(),
        any::<bool>(),
        prop::bool::weighted(0.2),
    );
    let picks = proptest::sample::select(vec![Pick::Lowest, Pick::Highest, Pick::InTurn, Pick::BySource]);
    let limits = (limit(1..5), limit(2..8), limit(3..12), proptest::option::weighted(0.25, Just(2u16)));
    (
        dependence(),
        dependence(),
        flags,
        limits,
        (prop_oneof![Just(0u64), Just(25)], picks, prop_oneof![3 => Just(0u64), 1 => Just(40)]),
    )
        .prop_map(
            |(
                mapping,
                filtering,
                (paired, sequential, few_ports, keep, refresh_both, fixed_first, parity),
                limits,
                (binding, pick, hold_down),
            )| {
                let (ports_per_host, max_mappings, max_sessions, block_size) = limits;
                // what no plan may say
                let unfit = ports_per_host == Some(1) || parity && !sequential;
                Behaviour {
                    block_size: block_size.filter(|_| !unfit),
                    mapping,
                    filtering,
                    paired,
                    sequential,
                    parity,
                    pick,
                    few_ports,
                    fixed_first,
                    keep,
                    refresh_both,
                    ports_per_host,
                    max_mappings,
                    max_sessions,
                    binding,
                    hold_down,
                }
            },
        )
}

fn plain(name: &'static str, kind: Kind) -> Rule {
    Rule {
        name,
        kind,
        source: None,
        destination: None,
        service: None,
        hairpin: false,
        limit: None,
        when_exhausted: Exhausted::Drop,
        enabled: true,
        retired: false,
    }
}

/// The same rule with a limit, or somewhere to go when its addresses are used up.
fn bounded(rule: Rule) -> impl Strategy<Value = Rule> {
    let has_elsewhere = match &rule.kind {
        Kind::Pool(_) => true,
        Kind::Overload(lines) => !lines.is_empty(),
        _ => false,
    };
    let elsewhere = match has_elsewhere {
        true => vec![Exhausted::Drop, Exhausted::Drop, Exhausted::Pass, Exhausted::Outside],
        false => vec![Exhausted::Drop],
    };
    let limited = !matches!(rule.kind, Kind::Exempt { .. });
    let served = limited && !matches!(rule.kind, Kind::Forward { .. });
    let dynamic = matches!(rule.kind, Kind::Pool(_) | Kind::Overload(_));
    let limit = proptest::option::weighted(0.15, 1usize..4).prop_map(move |n| n.filter(|_| limited));
    let services = vec![(Protocol::UDP, 80, 3001), (Protocol::TCP, 700, 5000)];
    let service = proptest::option::weighted(0.2, proptest::sample::select(services));
    let destination = proptest::option::weighted(0.15, Just(Ipv4Addr::new(203, 0, 113, 20)));
    (limit, proptest::sample::select(elsewhere), service, destination).prop_map(
        move |(limit, when_exhausted, service, destination)| Rule {
            limit,
            when_exhausted,
            service: service.filter(|_| served),
            destination: destination.filter(|_| dynamic),
            ..rule.clone()
        },
    )
}

/// Fixed rules, one or two dynamic ones, and perhaps an exemption, in any order.
fn rules() -> impl Strategy<Value = Vec<Rule>> {
    let peer = Ipv4Addr::new(198, 51, 100, 10);
    let peers = || proptest::sample::select(vec![None, None, Some(peer)]);
    let direction = proptest::sample::select(vec!["both", "both", "inbound", "outbound"]);
    let fixed = (direction, peers(), any::<bool>()).prop_map(|(direction, source, hairpin)| {
        let kind = Kind::Static { internal: SERVER, external: Ipv4Addr::new(192, 0, 2, 4), direction };
        Rule { source, hairpin, ..plain("camera", kind) }
    });
    let all_servers = vec![(inside(21), 80), (inside(7), 700), (inside(21), 5000)];
    let servers = proptest::sample::subsequence(all_servers, 1..=3);
    let protocol = prop_oneof![Just(Protocol::TCP), Just(Protocol::UDP)];
    let door = (peers(), any::<bool>(), protocol, servers, any::<bool>()).prop_map(
        |(source, hairpin, protocol, servers, in_turn)| {
            let kind = Kind::Forward { protocol, port: 3001, servers, in_turn };
            Rule { source, hairpin, ..plain("door", kind) }
        },
    );
    let exempt = Just(plain("past", Kind::Exempt { destination: Ipv4Addr::new(203, 0, 113, 20) }));
    let kind = prop_oneof![
        Just(Kind::Overload(Vec::new())),
        Just(Kind::Overload(LINES.to_vec())),
        Just(Kind::Pool(LINES.to_vec())),
    ];
    let all = (kind, any::<bool>()).prop_map(|(kind, hairpin)| Rule { hairpin, ..plain("all", kind) });
    let one = any::<bool>().prop_map(|hairpin| Rule {
        source: Some(inside(5)),
        hairpin,
        ..plain("one", Kind::Overload(Vec::new()))
    });
    let some = |s: BoxedStrategy<Rule>| proptest::option::of(s);
    let list = (some(exempt.boxed()), some(fixed.boxed()), some(door.boxed()), some(one.boxed()), all);
    list.prop_map(|(a, b, c, d, e)| [a, b, c, d, Some(e)].into_iter().flatten().collect::<Vec<_>>())
        .prop_shuffle()
        .prop_flat_map(|rules| rules.into_iter().map(bounded).collect::<Vec<_>>())
}

/// What is sent next.
#[derive(Debug, Clone)]
enum Move {
    Send {
        inside: bool,
        protocol: Protocol,
        signal: Signal,
        ends: Tuple,
    },
    /// The reverse of what left as the n-th last.
    Answer(usize, Signal),
    /// What came in as the n-th last.
    Again(usize, Signal),
    /// The n-th rule takes part from now on, or no longer.
    Enable(usize, bool),
    /// Everything dynamic ends; whether by a restart.
    Clear(bool),
    /// A plan with other rules takes over.
    Plan(Vec<Rule>),
    /// The outside interface gets another address.
    Lease(Ipv4Addr),
}

fn moves() -> impl Strategy<Value = Vec<(u64, Move)>> {
    let hosts = proptest::sample::select(vec![inside(5), inside(6), inside(7), SERVER, inside(21)]);
    let peers = || proptest::sample::select(vec![Ipv4Addr::new(198, 51, 100, 10), Ipv4Addr::new(203, 0, 113, 20)]);
    let ends = || {
        let all = ["192.0.2.1", "192.0.2.1", "192.0.2.2", "192.0.2.4", "192.0.2.8", "192.0.2.9"];
        proptest::sample::select(all.map(|a| a.parse::<Ipv4Addr>().unwrap()).to_vec())
    };
    let port = || proptest::sample::select(vec![80u16, 700, 3000, 3001, 3002, 5000]);
    let protocol = prop_oneof![
        4 => Just((Protocol::TCP, Signal::Syn)),
        1 => Just((Protocol::TCP, Signal::Plain)),
        4 => Just((Protocol::UDP, Signal::Plain)),
        2 => Just((Protocol::ICMP, Signal::Query)),
        1 => Just((Protocol(47), Signal::Plain)),
    ];
    let out = (hosts, prop_oneof![3 => peers(), 2 => ends()]).prop_map(|(a, b)| (true, a, b));
    let back = (peers(), ends()).prop_map(|(a, b)| (false, a, b));
    let send = (prop_oneof![3 => out, 2 => back], protocol, port(), port()).prop_map(
        |((inside, a, b), (protocol, signal), p, q)| {
            let source = Endpoint::new(a, if protocol.is_multiplexed() { p } else { 0 });
            let destination = Endpoint::new(b, if protocol.has_ports() { q } else { 0 });
            Move::Send { inside, protocol, signal, ends: Tuple { source, destination } }
        },
    );
    let signal = || {
        use Signal::{Fin, Plain, Rst, Syn, SynAck};
        proptest::sample::select(vec![Plain, Plain, Syn, SynAck, SynAck, Fin, Fin, Rst])
    };
    let next = prop_oneof![
        4 => send,
        4 => (0usize..6, signal()).prop_map(|(n, s)| Move::Answer(n, s)),
        2 => (0usize..6, signal()).prop_map(|(n, s)| Move::Again(n, s)),
        1 => prop_oneof![
            8 => (0usize..5, any::<bool>()).prop_map(|(n, on)| Move::Enable(n, on)),
            1 => any::<bool>().prop_map(Move::Clear),
            6 => rules().prop_map(Move::Plan),
            2 => proptest::sample::select(OUTSIDE.to_vec()).prop_map(Move::Lease),
        ],
    ];
    proptest::collection::vec((prop_oneof![4 => 0u64..8, 1 => 0u64..60], next), 1..60)
}

/// A packet with another signal, where its protocol has one.
fn signalled(mut packet: Packet, signal: Signal) -> Packet {
    if packet.protocol == Protocol::TCP {
        packet.signal = signal;
    }
    packet
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    #[test]
    fn the_engine_and_a_plain_reading_of_the_contract_agree(rules in rules(), b in behaviours(), moves in moves()) {
        let (behaviour, timers) = behaviour_toml(&b);
        let pick = b.pick;
        let plan = |rules: &[Rule]| {
            let text = common::plan_text(&behaviour, &timers, &toml(rules, pick));
            common::plan(&text.replace("realm = \"external\"", "realm = \"external\"\n  lease = true"))
        };
        let mut network = Network::new(plan(&rules), 7, None);
        let edge = DeviceId(0);
        let act = |network: &mut Network, now: u64, action: Action| {
            network.act(&Event { at: Instant(now), device: edge, action });
        };
        let mut count = rules.len();
        let mut model = Model::new(rules, b);
        let (mut now, mut came, mut left) = (0, Vec::new(), Vec::new());
        for (pause, next) in moves {
            now += pause * S;
            let (packet, from_inside) = match next {
                Move::Send { inside, protocol, signal, ends } => (Packet { protocol, signal, ends }, inside),
                Move::Answer(n, signal) => match left.iter().rev().nth(n) {
                    Some((packet, inside)) => (signalled(Packet::answer(*packet), signal), *inside),
                    None => continue,
                },
                Move::Enable(n, enabled) => {
                    let rule = RuleId((n % count) as u16);
                    model.enable(now, rule.index(), enabled);
                    act(&mut network, now, if enabled { Action::Enable(rule) } else { Action::Disable(rule) });
                    continue;
                }
                Move::Clear(restart) => {
                    model.clear(now, restart);
                    act(&mut network, now, if restart { Action::Restart } else { Action::Clear(Clearing::default()) });
                    continue;
                }
                Move::Lease(address) => {
                    let prefix = "192.0.2.0/28".parse().unwrap();
                    act(&mut network, now, Action::Lease(InterfaceId(1), address.into(), prefix));
                    model.lease(now, address);
                    continue;
                }
                Move::Plan(rules) => {
                    act(&mut network, now, Action::Plan(plan(&rules), edge));
                    count = rules.len();
                    model.take_over(now, rules);
                    continue;
                }
                Move::Again(n, signal) => match came.iter().rev().nth(n) {
                    Some((packet, inside)) => (signalled(*packet, signal), *inside),
                    None => continue,
                },
            };
            // an address that will be leased later is nobody's until then
            let to = packet.destination().address;
            if OUTSIDE.iter().any(|a| to == IpAddr::V4(*a)) && to != model.outside() {
                continue;
            }
            let wanted = model.receive(now, from_inside, packet);
            let outcome = network.device_mut(edge).receive(Instant(now), InterfaceId(if from_inside { 0 } else { 1 }), packet);
            came.push((packet, from_inside));
            let got = match outcome {
                Outcome::Forwarded(out) => {
                    left.push((out.packet, out.interface == InterfaceId(0)));
                    Ok(out.packet.ends)
                }
                Outcome::Answered(_) | Outcome::Consumed(..) => Err("itself"),
                Outcome::Dropped(refusal) => Err(refusal.reason.name()),
            };
            prop_assert_eq!(got, wanted, "{:?} from {} at {}", packet, if from_inside { "floor" } else { "uplink" }, Instant(now));
            let mut rows = model.rows(now);
            let mut table: Vec<_> = common::mappings_at(network.device_mut(edge), Instant(now)).into_iter().filter(|m| !m.fixed).map(|m| {
                let (created, expires) = (m.created.unwrap().0, m.expires.unwrap().0);
                (usize::from(m.rule.0), m.protocol, m.internal, m.external, m.peer, m.sessions as usize, created, expires)
            }).collect();
            let order = |r: &second::Row| (r.2.address, r.2.port, r.1.map(|p| p.0), r.4.map(|p| (p.address, p.port)), r.0);
            rows.sort_by_key(order);
            table.sort_by_key(order);
            prop_assert_eq!(table, rows, "after {:?} at {}", packet, Instant(now));
            prop_assert_eq!(network.device_mut(edge).session_count(), model.session_count());
        }
    }
}

/// The second model refuses by itself, without the engine beside it.
#[test]
fn the_second_model_refuses_what_it_should() {
    let rules = vec![plain("all", Kind::Pool(LINES.to_vec()))];
    let b = Behaviour {
        mapping: Dependence::None,
        filtering: Dependence::Address,
        paired: true,
        sequential: false,
        parity: false,
        pick: Pick::Lowest,
        few_ports: false,
        fixed_first: false,
        keep: false,
        refresh_both: false,
        ports_per_host: None,
        max_mappings: None,
        max_sessions: None,
        binding: 0,
        hold_down: 0,
        block_size: None,
    };
    let mut model = Model::new(rules, b);
    let peer = IpAddr::from([198, 51, 100, 10]);
    let mut send = |n: u8| {
        let first = Packet::first(Protocol::UDP, Endpoint::new(inside(n), 5000), Endpoint::new(peer, 53));
        model.receive(0, true, first).map(|ends| ends.source.address)
    };
    assert_eq!(send(5), Ok(LINES[0].into()));
    assert_eq!(send(6), Ok(LINES[1].into()));
    assert_eq!(send(7), Err("pool-exhausted"));
}
