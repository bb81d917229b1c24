//! Random rules, behaviours and routes, and the plan that says the same.

use std::net::Ipv4Addr;

use proptest::prelude::*;
use zarnet_core::net::Protocol;

use super::{
    AFTER, Behaviour, Dependence, Exhausted, FLOOR, ICMP, IDLE, Kind, LANE, OPEN, OTHER, Pick,
    Rule, To, UDP, UPLINK, Ways,
};

pub const SERVER: Ipv4Addr = Ipv4Addr::new(10, 0, 0, 20);
pub const PEERS: [Ipv4Addr; 2] = [Ipv4Addr::new(198, 51, 100, 10), Ipv4Addr::new(203, 0, 113, 20)];

/// A host on the floor.
pub fn host(n: u8) -> Ipv4Addr {
    Ipv4Addr::new(10, 0, 0, n)
}

/// What the pool can hand out.
pub fn lines(prefixed: bool) -> [Ipv4Addr; 2] {
    let first = if prefixed { 9 } else { 8 };
    [first, first + 1].map(|n| Ipv4Addr::new(192, 0, 2, n))
}

/// The plan of an estate.
pub fn plan_text(rules: &[Rule], b: &Behaviour) -> String {
    let (behaviour, timers) = behaviour_toml(b);
    let Ways { of_source, from, plain } = &b.ways;
    let lane = "  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"203.0.113.14\"\n";
    let mut routes = String::new();
    routes += &of_source.map_or(String::new(), |s| format!("{lane}  source = \"{s}\"\n"));
    routes += &from.map_or(String::new(), |i| {
        format!("{lane}  from = \"{}\"\n", ["floor", "uplink", "lane"][i])
    });
    routes += if *plain { lane } else { "" };
    format!(
        r#"
[[segment]]
name = "world"
internet = true
checks-source = {}

[[device]]
name = "edge"
behaviour = {behaviour}
timers = {timers}

  [[device.interface]]
  name = "floor"
  realm = "internal"
  address = "10.0.0.1/24"

  [[device.interface]]
  name = "uplink"
  realm = "external"
  segment = "world"
  address = "192.0.2.1/28"
  lease = true

  [[device.interface]]
  name = "lane"
  realm = "external"
  segment = "world"
  address = "203.0.113.1/28"

  [[device.route]]
  to = "0.0.0.0/0"
  via = "192.0.2.14"
{routes}{}"#,
        b.checks,
        rules_toml(rules, b)
    )
}

fn rules_toml(rules: &[Rule], b: &Behaviour) -> String {
    let pick = match b.pick {
        Pick::Lowest => "lowest",
        Pick::Highest => "highest",
        Pick::InTurn => "in-turn",
        Pick::BySource => "by-source",
    };
    let listed = if b.prefixed { "192.0.2.8-192.0.2.11/30" } else { "192.0.2.8-192.0.2.9" };
    let pool = format!("[[device.pool]]\n  name = \"lines\"\n  addresses = \"{listed}\"");
    let mut text = format!("\n  {pool}\n  pick = \"{pick}\"\n");
    for rule in rules {
        let kind = match &rule.kind {
            Kind::Static { internal, external, direction } => {
                format!(
                    "type = \"static\"\n  internal = \"{internal}\"\n  external = \
                     \"{external}\"\n  direction = \"{direction}\""
                )
            }
            Kind::Forward { on, protocol, port, servers, in_turn, both } => {
                let servers: Vec<String> =
                    servers.iter().map(|(a, p)| format!("\"{a}:{p}\"")).collect();
                let spread = if *in_turn { "in-turn" } else { "by-source" };
                let interface = ["floor", "uplink", "lane"][*on];
                let both = if *both { "\n  as = \"floor\"" } else { "" };
                format!(
                    "type = \"forward\"\n  external = \"{interface}:{port}/{protocol}\"\n  \
                     internal = [{}]\n  spread = \"{spread}\"{both}",
                    servers.join(", ")
                )
            }
            Kind::Exempt { destination } => {
                format!("type = \"exempt\"\n  destination = \"{destination}\"")
            }
            Kind::Pool => "type = \"pool\"\n  as = \"lines\"".into(),
            Kind::Overload(to) => {
                let to = match to {
                    To::Lines => "lines",
                    To::Interface(i) => ["floor", "uplink", "lane"][*i],
                };
                format!("type = \"overload\"\n  as = \"{to}\"")
            }
        };
        text += &format!("  [[device.rule]]\n  name = \"{}\"\n  {kind}\n", rule.name);
        text += &rule.source.map_or(String::new(), |s| format!("  source = \"{s}\"\n"));
        text += &rule.into.map_or(String::new(), |i| {
            format!("  into = \"{}\"\n", ["floor", "uplink", "lane"][i])
        });
        text += &rule.destination.map_or(String::new(), |d| format!("  destination = \"{d}\"\n"));
        text += &rule
            .service
            .map_or(String::new(), |(p, a, b)| format!("  service = [\"{a}-{b}/{p}\"]\n"));
        text += if rule.hairpin { "  hairpin = [\"internal\"]\n" } else { "" };
        text += &rule.limit.map_or(String::new(), |n| format!("  limit = {n}\n"));
        text += match rule.when_exhausted {
            Exhausted::Drop => "",
            Exhausted::Pass => "  when-exhausted = \"pass\"\n",
            Exhausted::Uplink => "  when-exhausted = \"uplink\"\n",
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
        format!("port-overloading = {}", b.overloading),
        format!("rule-order = \"{}\"", if b.fixed_first { "fixed-first" } else { "listed" }),
        format!("refresh = \"{}\"", if b.refresh_both { "both" } else { "outbound" }),
        format!("answers-leave = \"{}\"", if b.as_came { "as-came" } else { "by-route" }),
        format!("translates-own = {}", b.translates_own),
    ];
    keys.extend(b.lacks_icmp.then(|| "cannot = [\"icmp\"]".into()));
    keys.extend(b.block_size.map(|n| format!("block-size = {n}")));
    keys.extend(b.few_ports.then(|| "port-classes = [\"1-65535 -> 3000-3003\"]".into()));
    let limits = [
        ("ports-per-host", b.ports_per_host),
        ("max-mappings", b.max_mappings),
        ("max-sessions", b.max_sessions),
    ];
    keys.extend(limits.iter().filter_map(|(key, most)| most.map(|n| format!("{key} = {n}"))));
    let timers = format!(
        "{{ udp-timeout = {UDP}, icmp-timeout = {ICMP}, other-timeout = {OTHER}, \
         tcp-trans-open-timeout = {OPEN}, \
         tcp-idle-timeout = {IDLE}, tcp-trans-close-timeout = {AFTER}, binding = {} }}",
        b.binding
    );
    (format!("{{ {} }}", keys.join(", ")), timers)
}

pub fn behaviours() -> impl Strategy<Value = Behaviour> {
    let dependence = || {
        prop_oneof![
            2 => Just(Dependence::None),
            1 => Just(Dependence::Address),
            1 => Just(Dependence::Port),
        ]
    };
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
    let picks =
        proptest::sample::select(vec![Pick::Lowest, Pick::Highest, Pick::InTurn, Pick::BySource]);
    let limits =
        (limit(1..5), limit(2..8), limit(3..12), proptest::option::weighted(0.25, Just(2u16)));
    let ways = (
        proptest::option::weighted(
            0.3,
            proptest::sample::select(vec![host(5), SERVER, Ipv4Addr::new(192, 0, 2, 1)]),
        ),
        proptest::option::weighted(0.2, proptest::sample::select(vec![FLOOR, UPLINK, LANE])),
        any::<bool>(),
    );
    let ways = ways.prop_map(|(of_source, from, plain)| Ways { of_source, from, plain });
    let second = (
        any::<bool>(),
        prop::bool::weighted(0.3),
        prop::bool::weighted(0.15),
        prop::bool::weighted(0.4),
        any::<bool>(),
        ways,
        prop::bool::weighted(0.4),
    );
    let times =
        (prop_oneof![Just(0u64), Just(25)], picks, prop_oneof![3 => Just(0u64), 1 => Just(40)]);
    (dependence(), dependence(), flags, limits, times, second).prop_map(
        |(mapping, filtering, flags, limits, (binding, pick, hold_down), second)| {
            let (paired, sequential, few_ports, keep, refresh_both, fixed_first, parity) = flags;
            let (ports_per_host, max_mappings, max_sessions, block_size) = limits;
            let (overloading, prefixed, lacks_icmp, as_came, translates_own, ways, checks) = second;
            Behaviour {
                block_size,
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
                // what no plan may say otherwise
                overloading: overloading && mapping != Dependence::None,
                prefixed,
                lacks_icmp,
                as_came,
                translates_own,
                ways,
                checks,
            }
        },
    )
}

pub fn plain(name: &'static str, kind: Kind) -> Rule {
    Rule {
        name,
        kind,
        source: None,
        into: None,
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
    let elsewhere = match &rule.kind {
        Kind::Pool | Kind::Overload(To::Lines) => {
            vec![Exhausted::Drop, Exhausted::Drop, Exhausted::Pass, Exhausted::Uplink]
        }
        _ => vec![Exhausted::Drop],
    };
    let limited = !matches!(rule.kind, Kind::Exempt { .. });
    let served = limited && !matches!(rule.kind, Kind::Forward { .. });
    let dynamic = matches!(rule.kind, Kind::Pool | Kind::Overload(_));
    let limit =
        proptest::option::weighted(0.15, 1usize..4).prop_map(move |n| n.filter(|_| limited));
    let services = vec![(Protocol::UDP, 80, 3001), (Protocol::TCP, 700, 5000)];
    let service = proptest::option::weighted(0.2, proptest::sample::select(services));
    let destination = proptest::option::weighted(0.15, Just(PEERS[1]));
    let into = proptest::option::weighted(0.25, proptest::sample::select(vec![UPLINK, LANE]));
    (limit, proptest::sample::select(elsewhere), service, destination, into).prop_map(
        move |(limit, when_exhausted, service, destination, into)| Rule {
            limit,
            when_exhausted,
            into,
            service: service.filter(|_| served),
            destination: destination.filter(|_| dynamic),
            ..rule.clone()
        },
    )
}

/// Fixed rules, one or two dynamic ones, and perhaps an exemption, in any order.
pub fn rules() -> impl Strategy<Value = Vec<Rule>> {
    let peers = || proptest::sample::select(vec![None, None, Some(PEERS[0])]);
    let direction = proptest::sample::select(vec!["both", "both", "inbound", "outbound"]);
    let fixed = (direction, peers(), any::<bool>()).prop_map(|(direction, source, hairpin)| {
        let kind =
            Kind::Static { internal: SERVER, external: Ipv4Addr::new(192, 0, 2, 4), direction };
        Rule { source, hairpin, ..plain("camera", kind) }
    });
    let all_servers = vec![(host(21), 80), (host(7), 700), (host(21), 5000)];
    let servers = proptest::sample::subsequence(all_servers, 1..=3);
    let protocol = prop_oneof![Just(Protocol::TCP), Just(Protocol::UDP)];
    let on = prop_oneof![3 => Just(UPLINK), 1 => Just(LANE)];
    let door = (
        peers(),
        any::<bool>(),
        protocol,
        servers,
        any::<bool>(),
        (on, prop::bool::weighted(0.25)),
    )
        .prop_map(|(source, hairpin, protocol, servers, in_turn, (on, both))| {
            let kind = Kind::Forward { on, protocol, port: 3001, servers, in_turn, both };
            Rule { source, hairpin, ..plain("door", kind) }
        });
    let exempt = Just(plain("past", Kind::Exempt { destination: PEERS[1] }));
    let kind = prop_oneof![
        Just(Kind::Overload(To::Interface(UPLINK))),
        Just(Kind::Overload(To::Interface(LANE))),
        Just(Kind::Overload(To::Lines)),
        Just(Kind::Pool),
    ];
    let all =
        (kind, any::<bool>()).prop_map(|(kind, hairpin)| Rule { hairpin, ..plain("all", kind) });
    let one = any::<bool>().prop_map(|hairpin| Rule {
        source: Some(host(5)),
        hairpin,
        ..plain("one", Kind::Overload(To::Interface(UPLINK)))
    });
    let some = |s: BoxedStrategy<Rule>| proptest::option::of(s);
    let list =
        (some(exempt.boxed()), some(fixed.boxed()), some(door.boxed()), some(one.boxed()), all);
    list.prop_map(|(a, b, c, d, e)| [a, b, c, d, Some(e)].into_iter().flatten().collect::<Vec<_>>())
        .prop_shuffle()
        .prop_flat_map(|rules| rules.into_iter().map(bounded).collect::<Vec<_>>())
}
