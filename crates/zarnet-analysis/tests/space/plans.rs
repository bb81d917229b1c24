//! Small plans that use everything that decides about a first packet, and packets at their edges.

use proptest::prelude::*;
use zarnet_core::net::{Endpoint, Packet, Protocol};

/// Small plans that use everything that decides about a first packet.
pub(crate) fn plans() -> impl Strategy<Value = String> {
    plans_by(
        prop_oneof![
            4 => Just(""),
            1 => Just("\n into = \"yard\""),
            1 => Just("\n into = [\"external\", \"yard\"]"),
            1 => Just("\n into = [\"external\", \"internal\"]"),
        ]
        .boxed(),
    )
}

/// The same, but that all rules lead into one realm.
pub(crate) fn plans_of_one_outside() -> impl Strategy<Value = String> {
    plans_by(Just("").boxed())
}

/// `into`: the key of that name in rules that hand out addresses.
fn plans_by(into: BoxedStrategy<&'static str>) -> impl Strategy<Value = String> {
    let source = || {
        prop_oneof![
            3 => Just("10.0.0.0/24"),
            2 => Just("10.0.0.5-10.0.0.9"),
            1 => Just("10.9.0.0/24"),
            1 => Just("10.0.0.7"),
            1 => Just("0.0.0.0/0"),
        ]
    };
    let far = || {
        prop_oneof![
            3 => Just("any"),
            1 => Just("0.0.0.0/0"),
            1 => Just("198.51.100.0/24"),
            1 => Just("198.51.100.16-198.51.100.20"),
            1 => Just("10.9.0.4"),
        ]
    };
    let service = || {
        prop_oneof![
            4 => Just("\"any\""), 1 => Just("\"80/tcp\""), 1 => Just("[\"53/udp\", \
                \"443-445/tcp\"]"), 1 => Just("\"icmp\""),
            1 => Just("\"8000-8003/tcp\""), 1 => Just("[\"443/tcp\", \"80/tcp\"]"),
        ]
    };
    let realm_set = || prop_oneof![3 => Just("internal"), 1 => Just("yard"), 1 => Just("external")];
    let enabled = || prop_oneof![6 => Just(true), 1 => Just(false)];
    let into = || into.clone();
    let rule = prop_oneof![
        (source(), far(), service(), into(), prop_oneof![Just("uplink"), Just("192.0.2.7")])
            .prop_map(|(s, d, p, z, a)| {
                format!(
                    "type = \"overload\"\n source = \"{s}\"\n destination = \"{d}\"\n service = \
                     {p}{z}\n as = \"{a}\""
                )
            }),
        (source(), far(), service(), into()).prop_map(|(s, d, p, z)| {
            format!(
                "type = \"pool\"\n source = \"{s}\"\n destination = \"{d}\"\n service = \
                     {p}{z}\n as = \"lines\""
            )
        }),
        (source(), far(), service(), into()).prop_map(|(s, d, p, z)| {
            format!(
                "type = \"exempt\"\n source = \"{s}\"\n destination = \"{d}\"\n service = {p}{z}"
            )
        }),
        (
            prop_oneof![Just("10.0.0.20"), Just("10.9.0.4")],
            service(),
            prop_oneof![Just("both"), Just("inbound"), Just("outbound")],
            far()
        )
            .prop_map(|(i, p, d, who)| {
                format!(
                    "type = \"static\"\n internal = \"{i}\"\n external = \"192.0.2.4\"\n \
                         service = {p}\n direction = \"{d}\"\n from = [\"internal\", \"yard\"]\n \
                         source = \"{who}\""
                )
            }),
        (
            // the second holds an address of the device itself
            prop_oneof![
                Just("10.0.0.4-10.0.0.7"),
                Just("10.9.0.0-10.9.0.3"),
                Just("10.9.0.4-10.9.0.7")
            ],
            any::<bool>()
        )
            .prop_map(|(i, hairpin)| {
                let hairpin = if hairpin { "hairpin = [\"internal\"]" } else { "" };
                format!(
                    "type = \"static\"\n internal = \"{i}\"\n external = \
                     \"198.18.0.4-198.18.0.7\"\n from = [\"internal\", \"yard\"]\n {hairpin}"
                )
            }),
        (
            prop_oneof![
                Just("uplink:8000/tcp"),
                Just("192.0.2.5:8000-8003/tcp"),
                Just("192.0.2.5:53/udp")
            ],
            prop_oneof![
                Just("\"10.9.0.4:8001\""),
                Just(
                    "[\"10.9.0.4:80\", \
                                             \"10.9.0.5:80\"]"
                )
            ],
            far(),
            any::<bool>()
        )
            .prop_map(|(e, i, who, hairpin)| {
                let hairpin = if hairpin { "hairpin = [\"internal\"]" } else { "" };
                format!(
                    "type = \"forward\"\n external = \"{e}\"\n internal = {i}\n source = \
                         \"{who}\"\n from = \"yard\"\n {hairpin}"
                )
            }),
    ];
    let rules = proptest::collection::vec((rule, enabled()), 0..5);
    let verdict = || prop_oneof![2 => Just("accept"), 1 => Just("drop")];
    let policies = proptest::collection::vec(
        (realm_set(), realm_set(), verdict(), service(), source(), far()),
        0..4,
    );
    let acl = proptest::option::of(proptest::collection::vec(
        (verdict(), service(), source(), far()),
        1..4,
    ));
    let behaviour = prop_oneof![
        3 => Just("{}"), 1 => Just("{ policy-sees = \"original\" \
                                    }"), 1 => Just("{ rule-order = \"fixed-first\" }"),
        1 => Just("{ hairpin-source = \"keep\", port-classes = [\"1-4000 -> 1-4000\", \
                   \"4001-65535 -> 5000-6000\"] }"),
        1 => Just("{ cannot = [\"icmp\"] }"), 1 => Just("{ answers-leave = \"as-came\" }"),
    ];
    let route = prop_oneof![
        2 => Just(""),
        1 => Just("  [[device.route]]\n  to = \"198.51.100.16/28\"\n  via = \"10.9.0.9\"\n"),
        1 => Just("  [[device.route]]\n  to = \"198.51.100.16/28\"\n  via = \"10.9.0.9\"\n  \
                   source = [\"10.0.0.6\", \"192.0.2.1\"]\n"),
        1 => Just("  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"10.9.0.9\"\n  source = \
                   \"10.0.0.4-10.0.0.9\"\n  from = \"floor\"\n"),
        1 => Just("  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"10.9.0.9\"\n  from = \
                   [\"external\", \"yard\"]\n"),
    ];
    // addresses and ports as they are after translation, and as they are without
    let seen_source = prop_oneof![
        2 => Just("0.0.0.0/0"),
        2 => Just("192.0.2.1"),
        1 => Just("192.0.2.8-192.0.2.9"),
        1 => Just("192.0.2.4-192.0.2.5"),
        1 => Just("198.18.0.5"),
        1 => Just("10.0.0.0/24"),
    ];
    let seen_ports = prop_oneof![
        4 => Just("any"), 1 => Just("8000-8001/tcp"), 1 => Just("50000-65535/udp")
    ];
    let seen_destination = prop_oneof![3 => far(), 1 => Just("10.9.0.4-10.9.0.5")];
    let entry = (verdict(), service(), seen_source, seen_ports, seen_destination);
    let egress = proptest::option::of((proptest::collection::vec(entry, 1..3), any::<bool>()));
    (rules, policies, acl, behaviour, route, any::<bool>(), egress).prop_map(text_of)
}

type Parts = (
    Vec<(String, bool)>,
    Vec<(&'static str, &'static str, &'static str, &'static str, &'static str, &'static str)>,
    Option<Vec<(&'static str, &'static str, &'static str, &'static str)>>,
    &'static str,
    &'static str,
    bool,
    Option<(Vec<EgressEntry>, bool)>,
);

/// Verdict, service, sender, the sender's ports, receiver.
type EgressEntry = (&'static str, &'static str, &'static str, &'static str, &'static str);

fn text_of((rules, policies, acl, behaviour, route, open, egress): Parts) -> String {
    let mut text = format!(
        "[[segment]]\nname = \"world\"\ninternet = true\n[[device]]\nname = \"edge\"\nbehaviour = \
         {behaviour}\ndefault-policy = \"{}\"\n",
        if open { "accept" } else { "drop" }
    );
    let filter = if acl.is_some() { "ingress-acl = \"in\"" } else { "" };
    let out = if egress.is_some() { "egress-acl = \"out\"" } else { "" };
    let inner = if egress.as_ref().is_some_and(|e| e.1) { out } else { "" };
    text += &format!(
        "  [[device.interface]]\n  name = \"floor\"\n  realm = \"internal\"\n  address = \
         \"10.0.0.1/24\"\n  {filter}\n"
    );
    text += &format!(
        "  [[device.interface]]\n  name = \"yard\"\n  realm = \"yard\"\n  address = \
         \"10.9.0.1/24\"\n  services = [\"22/tcp\"]\n  {inner}\n"
    );
    text += &format!(
        "  [[device.interface]]\n  name = \"uplink\"\n  realm = \"external\"\n  segment = \
         \"world\"\n  address = \"192.0.2.1/28\"\n  {out}\n"
    );
    text += "  [[device.route]]\n  to = \"0.0.0.0/0\"\n  via = \"192.0.2.14\"\n";
    text += route;
    text += "  [[device.pool]]\n  name = \"lines\"\n  addresses = \"192.0.2.8-192.0.2.10\"\n";
    if let Some(entries) = acl {
        let entries: Vec<String> = entries
            .iter()
            .map(|(v, p, s, d)| {
                let p = if p.starts_with('[') { "\"443-445/tcp\"" } else { p };
                format!("{{ {v} = {p}, source = \"{s}\", destination = \"{d}\" }}")
            })
            .collect();
        text += &format!(
            "  [[device.acl]]\n  name = \"in\"\n  entries = [{}, {{ accept = \"any\", destination \
             = \"198.51.100.0/24\" }}]\n",
            entries.join(", ")
        );
    }
    if let Some((entries, _)) = egress {
        let entries: Vec<String> = entries.into_iter().map(egress_entry).collect();
        text += &format!(
            "  [[device.acl]]\n  name = \"out\"\n  entries = [{}, {{ accept = \"any\" }}]\n",
            entries.join(", ")
        );
    }
    for (from, into, v, p, s, d) in policies {
        text += &format!(
            "  [[device.policy]]\n  from = \"{from}\"\n  into = \"{into}\"\n  {v} = {p}\n  source \
             = \"{s}\"\n  destination = \"{d}\"\n"
        );
    }
    for (i, (rule, enabled)) in rules.iter().enumerate() {
        text += &format!("  [[device.rule]]\n  name = \"r{i}\"\n  enabled = {enabled}\n  {rule}\n");
    }
    text
}

fn egress_entry((verdict, service, source, ports, destination): EgressEntry) -> String {
    // only what has ports can be told by the sender's
    let service = match (ports, ports.rsplit_once('/')) {
        (_, Some((_, protocol))) => format!("\"53-8001/{protocol}\""),
        _ if service.starts_with('[') => "\"53/udp\"".to_owned(),
        _ => service.to_owned(),
    };
    let ports = match ports {
        "any" => String::new(),
        ports => format!(", source-service = \"{ports}\""),
    };
    format!(
        "{{ {verdict} = {service}, source = \"{source}\"{ports}, destination = \
         \"{destination}\" }}"
    )
}

/// Packets that lie at the edges of such plans, where faults would be.
pub(crate) fn packets() -> impl Strategy<Value = Packet> {
    let edge = |a: [u8; 4]| {
        (0u32..3).prop_map(move |n| {
            std::net::Ipv4Addr::from_bits(u32::from_be_bytes(a).wrapping_add(n).wrapping_sub(1))
        })
    };
    let address = || {
        prop_oneof![
            edge([10, 0, 0, 1]),
            edge([10, 0, 0, 5]),
            edge([10, 0, 0, 8]),
            edge([10, 0, 0, 20]),
            edge([10, 0, 1, 0]),
            edge([10, 9, 0, 4]),
            edge([10, 9, 0, 7]),
            edge([10, 9, 0, 9]),
            edge([192, 0, 2, 1]),
            edge([192, 0, 2, 4]),
            edge([192, 0, 2, 7]),
            edge([192, 0, 2, 10]),
            edge([192, 0, 2, 15]),
            edge([198, 51, 100, 0]),
            edge([198, 51, 100, 16]),
            edge([198, 51, 100, 20]),
            edge([198, 51, 100, 31]),
            edge([198, 18, 0, 4]),
            edge([198, 18, 0, 7]),
            edge([203, 0, 113, 9]),
        ]
    };
    let port = || {
        prop_oneof![
            79u16..82,
            52u16..55,
            442u16..447,
            7999u16..8005,
            8001u16..8005,
            3999u16..4003,
            21u16..24,
            0u16..
        ]
    };
    let protocol = prop_oneof![
        8 => Just(6u8),
        6 => Just(17),
        2 => prop_oneof![Just(1), Just(58)],
        3 => prop_oneof![Just(33), Just(47), Just(132)],
    ];
    (protocol, address(), port(), address(), port()).prop_map(|(p, from, a, to, b)| {
        let p = Protocol(p);
        let (a, b) = (if p.is_multiplexed() { a } else { 0 }, if p.has_ports() { b } else { 0 });
        Packet::first(p, Endpoint::new(from, a), Endpoint::new(to, b))
    })
}
