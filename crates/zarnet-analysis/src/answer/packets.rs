//! Packets and sets of them, and what becomes of them, in words.

use crate::space::{Area, DestinationMeaning, Field, Intervals, Meaning, SourceMeaning, address};
use zarnet_core::net::{Packet, PortRange, Protocol, Service};

/// A packet as a flow is written.
pub fn flow(packet: Packet) -> String {
    format!("{} -> {}/{}", packet.source(), packet.destination(), packet.protocol)
}

/// A set of addresses: ranges and prefixes, or `any`, or all but a few.
pub fn addresses(set: &Intervals) -> String {
    let (v4, all) = (Intervals::ipv4(), Intervals::all(Field::Source));
    if *set == all || *set == v4 {
        return "any".to_owned();
    }
    let within = set.intersection(&v4);
    // what IPv6 has besides says nothing where all of IPv4 is told
    let (list, family, any) = match within.is_empty() {
        true => (set.clone(), all.difference(&v4), "any IPv6"),
        false => (within, v4, "any"),
    };
    let inverse = family.difference(&list);
    if inverse.is_empty() {
        return any.to_owned();
    }
    let (text, other) = (ranges(&list), ranges(&inverse));
    // all but a few is told so; half of all is told as it is
    let few = inverse.count() < list.count() && inverse.list().len() <= list.list().len();
    if few && other.len() < text.len() {
        return format!("{any} but {other}");
    }
    text
}

fn ranges(set: &Intervals) -> String {
    let one = |(a, b): &(u128, u128)| match (a == b, prefix_of((*a, *b))) {
        (true, _) => address(*a).to_string(),
        (_, Some(prefix)) => prefix,
        (false, None) => format!("{}-{}", address(*a), address(*b)),
    };
    set.list().iter().map(one).collect::<Vec<_>>().join(", ")
}

/// A range as a prefix, if it is one.
fn prefix_of((first, last): (u128, u128)) -> Option<String> {
    let count = (last - first).checked_add(1)?;
    let is_prefix = count.is_power_of_two() && first.is_multiple_of(count);
    let bits = if address(first).is_ipv4() { 32 } else { 128 };
    is_prefix.then(|| format!("{}/{}", address(first), bits - count.trailing_zeros()))
}

/// Ports in words; `None` for all.
pub fn ports(set: &Intervals) -> Option<String> {
    let full = set.list() == [(0, 65_535)] || set.list() == [(1, 65_535)];
    // nobody sends to port 0
    let range = |(a, b): &(u128, u128)| {
        PortRange { first: (*a as u16).max(u16::from(*b > 0)), last: *b as u16 }.to_string()
    };
    (!full).then(|| set.list().iter().map(range).collect::<Vec<_>>().join(","))
}

/// The services of an area: protocol and port of the destination, and of the source where that
/// matters.
pub fn service(area: &Area) -> String {
    let protocols = area.of(Field::Protocol);
    let to = ports(area.of(Field::DestinationPort));
    let from =
        ports(area.of(Field::SourcePort)).filter(|_| area.of(Field::SourcePort).count() < 65_000);
    let named: Vec<String> = if *protocols == Intervals::all(Field::Protocol) {
        vec!["any".to_owned()]
    } else if protocols.count() > 8 {
        let known = [Protocol::TCP, Protocol::UDP, Protocol::ICMP, Protocol::SCTP, Protocol::DCCP];
        let missing: Vec<String> = known
            .iter()
            .filter(|p| !protocols.contains(p.0.into()))
            .map(ToString::to_string)
            .collect();
        vec![if missing.is_empty() {
            "any".to_owned()
        } else {
            format!("any but {}", missing.join(", "))
        }]
    } else {
        let each = protocols.list().iter().flat_map(|(a, b)| *a..=*b);
        each.map(|p| {
            Service { protocol: Some(Protocol(p as u8)), ports: PortRange::ALL }.to_string()
        })
        .collect()
    };
    let base = match to {
        Some(to) => named.iter().map(|p| format!("{to}/{p}")).collect::<Vec<_>>().join(", "),
        None => named.join(", "),
    };
    from.map_or(base.clone(), |from| format!("{base} from port {from}"))
}

/// What becomes of the packets of an area, in a few words; `witness` is one of them.
pub fn outcome(meaning: &Meaning, area: &Area, witness: Packet) -> String {
    let Meaning::Leaves { destination, source, .. } = meaning else {
        return match meaning {
            Meaning::Dropped(reason) => format!("dropped: {reason}"),
            Meaning::ToDevice | Meaning::Leaves { .. } => "for the device itself".to_owned(),
        };
    };
    let moved = |by: &(u128, u16), of: Field, port: u16| {
        let end = addresses(&area.of(of).moved(by.0));
        match by.1 {
            0 => end,
            by => format!("{end}:{}", port.wrapping_add(by)),
        }
    };
    let mut parts = Vec::new();
    match destination {
        DestinationMeaning::Same => {}
        DestinationMeaning::Moved(by, port) => {
            let to = moved(&(*by, *port), Field::Destination, witness.destination().port);
            parts.push(format!("to {to}"));
        }
        DestinationMeaning::Servers(servers, by_source) => {
            let list: Vec<String> = servers.iter().map(|s| s.0.to_string()).collect();
            parts.push(format!(
                "to one of {}{}",
                list.join(", "),
                if *by_source { " by source" } else { "" }
            ));
        }
        DestinationMeaning::Prefix(_, inside, _) => {
            parts.push(format!("to the prefix of {inside}"))
        }
    }
    match source {
        SourceMeaning::Same => {}
        SourceMeaning::Moved(by, port) => {
            let from = moved(&(*by, *port), Field::Source, witness.source().port);
            parts.push(format!("as {from}"));
        }
        SourceMeaning::Prefix(_, outside, _) => parts.push(format!("as the prefix of {outside}")),
        SourceMeaning::Chosen { from, whole, pick } => {
            let range = |(a, b): &(std::net::IpAddr, std::net::IpAddr)| {
                if a == b { a.to_string() } else { format!("{a}-{b}") }
            };
            let list: Vec<String> = from.iter().map(range).collect();
            let kind = if *whole { "a whole address of " } else { "" };
            let pick = pick.map(|p| format!(", {p}")).unwrap_or_default();
            let by = if *whole { "" } else { " by port" };
            parts.push(format!("as {kind}{}{by}{pick}", list.join(", ")));
        }
    }
    if parts.is_empty() { "passes as it is".to_owned() } else { parts.join(", ") }
}
