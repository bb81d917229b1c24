//! What a captured frame holds, read octet by octet within what there is: a frame may be cut short
//! anywhere, and may say anything of its own length.

use std::net::IpAddr;

use zarnet_core::net::{Endpoint, IcmpError, Packet, Protocol, Signal, Tuple};

/// What a frame held.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Decoded {
    Packet(Packet),
    Error(IcmpError),
}

/// What the fragments of a datagram have in common (RFC 791 §3.2, RFC 8200 §4.5).
pub(super) type Datagram = (IpAddr, IpAddr, u8, u32);

/// Why a frame says nothing.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Why {
    /// A link type that is not read.
    Link,
    NotIp,
    /// A fragment behind the first of its datagram.
    Fragment(Datagram),
    IcmpOther,
}

/// Types of what follows a link header (RFC 9542 §3.1 and the registry it names).
mod ether_type {
    pub const IPV4: u16 = 0x0800;
    pub const IPV6: u16 = 0x86dd;
    pub const TAGS: [u16; 3] = [0x8100, 0x88a8, 0x9100];
    pub const PPPOE_SESSION: u16 = 0x8864;
}

/// A frame has no more tags than this.
const MOST_TAGS: usize = 4;

/// What a frame holds; and of the first fragment of a datagram, which datagram that is.
pub(super) fn decode(link: i32, data: &[u8]) -> Result<(Decoded, Option<Datagram>), Why> {
    if !is_link_read(link) {
        return Err(Why::Link);
    }
    let ip = network_layer(link, data).and_then(internet_header).ok_or(Why::NotIp)?;
    let Ip { source, destination, protocol, part, payload } = ip;
    let datagram = part.map(|part| (part.later, (source, destination, protocol.0, part.id)));
    if let Some((true, datagram)) = datagram {
        return Err(Why::Fragment(datagram));
    }
    if let Some(error) = icmp_error(protocol, source, destination, payload) {
        return Ok((Decoded::Error(error), None));
    }
    let (signal, from, to) = transport(protocol, payload)?;
    let ends =
        Tuple { source: Endpoint::new(source, from), destination: Endpoint::new(destination, to) };
    Ok((Decoded::Packet(Packet { protocol, signal, ends }), datagram.map(|d| d.1)))
}

/// Whether frames of a link type are read: Ethernet, raw IP, loopback and cooked captures.
pub(super) fn is_link_read(link: i32) -> bool {
    matches!(link, 0 | 1 | 12 | 14 | 101 | 108 | 113 | 228 | 229 | 276)
}

/// The octets from the IP header on, by the type of the link.
fn network_layer(link: i32, data: &[u8]) -> Option<&[u8]> {
    match link {
        1 => by_ether_type(word_at(data, 12)?, data.get(14..)?),
        12 | 14 | 101 | 228 | 229 => Some(data),
        0 | 108 => data.get(4..),
        113 => by_ether_type(word_at(data, 14)?, data.get(16..)?),
        276 => by_ether_type(word_at(data, 0)?, data.get(20..)?),
        _ => None,
    }
}

/// What follows a type and the tags behind it, if it is IP.
fn by_ether_type(mut kind: u16, mut rest: &[u8]) -> Option<&[u8]> {
    for _ in 0..MOST_TAGS {
        if !ether_type::TAGS.contains(&kind) {
            break;
        }
        (kind, rest) = (word_at(rest, 2)?, rest.get(4..)?);
    }
    match kind {
        ether_type::IPV4 | ether_type::IPV6 => Some(rest),
        // RFC 2516 §4: version 1, type 1, session data; the protocol of PPP says which IP
        ether_type::PPPOE_SESSION if rest.first()? == &0x11 => {
            matches!(word_at(rest, 6)?, 0x0021 | 0x0057).then(|| rest.get(8..))?
        }
        _ => None,
    }
}

/// What an IP header says, and the octets behind it and its extensions.
struct Ip<'a> {
    source: IpAddr,
    destination: IpAddr,
    protocol: Protocol,
    part: Option<Part>,
    payload: &'a [u8],
}

/// What a fragment is of its datagram.
struct Part {
    /// Whether it is another fragment than the first.
    later: bool,
    id: u32,
}

fn internet_header(data: &[u8]) -> Option<Ip<'_>> {
    match data.first()? >> 4 {
        4 => ipv4(data),
        6 => ipv6(data),
        _ => None,
    }
}

/// RFC 791 §3.1.
fn ipv4(data: &[u8]) -> Option<Ip<'_>> {
    let header = usize::from(data.first()? & 15) * 4;
    if header < 20 {
        return None;
    }
    let address =
        |at: usize| Some(IpAddr::V4(<[u8; 4]>::try_from(data.get(at..at + 4)?).ok()?.into()));
    let (total, fragment) = (usize::from(word_at(data, 2)?), word_at(data, 6)?);
    // a capture made before a large segment was cut has a length of 0: then all that there is
    // counts
    let end = if total >= header { total.min(data.len()) } else { data.len() };
    let mut payload = data.get(header..end)?;
    let mut protocol = *data.get(9)?;
    let (more, offset) = (fragment & 0x2000 != 0, fragment & 0x1fff);
    let part =
        (more || offset > 0).then_some(Part { later: offset > 0, id: word_at(data, 4)?.into() });
    if protocol == AUTHENTICATION && offset == 0 {
        (protocol, payload) = (*payload.first()?, payload.get(authentication_length(payload)?..)?);
    }
    Some(Ip {
        source: address(12)?,
        destination: address(16)?,
        protocol: Protocol(protocol),
        part,
        payload,
    })
}

/// The number of an authentication header.
const AUTHENTICATION: u8 = 51;

/// RFC 4302 §2.2: words of four octets, less two.
fn authentication_length(header: &[u8]) -> Option<usize> {
    Some((usize::from(*header.get(1)?) + 2) * 4)
}

/// RFC 8200 §3 and §4: each extension header tells what follows it. Every step takes eight octets
/// at least, so that the walk ends with the frame.
fn ipv6(data: &[u8]) -> Option<Ip<'_>> {
    let address =
        |at: usize| Some(IpAddr::V6(<[u8; 16]>::try_from(data.get(at..at + 16)?).ok()?.into()));
    let (source, destination) = (address(8)?, address(24)?);
    let length = usize::from(word_at(data, 4)?);
    let rest = data.get(40..)?;
    // a jumbogram has a length of 0 (RFC 2675 §3)
    let mut payload = if length == 0 { rest } else { &rest[..length.min(rest.len())] };
    let mut next = *data.get(6)?;
    let mut part = None;
    loop {
        let length = match next {
            // hop-by-hop options, routing, destination options, mobility, host identity, shim6
            0 | 43 | 60 | 135 | 139 | 140 => (usize::from(*payload.get(1)?) + 1) * 8,
            44 => {
                let offset = word_at(payload, 2)?;
                let id = payload.get(4..8)?.try_into().map(u32::from_be_bytes).ok()?;
                let later = offset >> 3 > 0;
                // a datagram in one fragment is none (RFC 6946)
                part = (later || offset & 1 == 1).then_some(Part { later, id });
                8
            }
            AUTHENTICATION => authentication_length(payload)?,
            _ => break,
        };
        (next, payload) = (*payload.first()?, payload.get(length..)?);
        if part.as_ref().is_some_and(|p| p.later) {
            break;
        }
    }
    Some(Ip { source, destination, protocol: Protocol(next), part, payload })
}

/// Signal and ports of a transport header; query ids for ICMP, nothing for protocols that have
/// neither.
fn transport(protocol: Protocol, payload: &[u8]) -> Result<(Signal, u16, u16), Why> {
    let word = |at: usize| word_at(payload, at);
    if protocol.has_query_id() {
        let signal =
            payload.first().and_then(|kind| query_signal(protocol, *kind)).ok_or(Why::IcmpOther)?;
        let id = word(4).ok_or(Why::NotIp)?;
        return Ok(if signal == Signal::Query { (signal, id, 0) } else { (signal, 0, id) });
    }
    if protocol.has_ports() {
        let (from, to) = word(0).zip(word(2)).ok_or(Why::NotIp)?;
        // of a TCP header that was cut, the flags are at octet 13
        let signal = match (protocol, payload.get(13)) {
            (Protocol::TCP, Some(f)) => tcp_signal(f & 4 != 0, f & 2 != 0, f & 16 != 0, f & 1 != 0),
            (Protocol::TCP, None) => return Err(Why::NotIp),
            _ => Signal::Plain,
        };
        return Ok((signal, from, to));
    }
    Ok((Signal::Plain, 0, 0))
}

/// An ICMP error about an IPv4 packet: destination unreachable, time exceeded, parameter problem
/// (RFC 792). The embedded header tells by its own length where its ports are (RFC 5508 §4.1
/// REQ-3b); checksums are not looked at, for captures are made before and after they are filled in.
fn icmp_error(protocol: Protocol, from: IpAddr, to: IpAddr, payload: &[u8]) -> Option<IcmpError> {
    if protocol != Protocol::ICMP || !matches!(payload.first()?, 3 | 11 | 12) {
        return None;
    }
    let embedded = payload.get(8..)?;
    let header = usize::from(*embedded.first()? & 15) * 4;
    if embedded.first()? >> 4 != 4 || header < 20 {
        return None;
    }
    let protocol = Protocol(*embedded.get(9)?);
    let address =
        |at: usize| Some(IpAddr::V4(<[u8; 4]>::try_from(embedded.get(at..at + 4)?).ok()?.into()));
    let (source, destination) = (address(12)?, address(16)?);
    let inner = embedded.get(header..).unwrap_or(&[]);
    let word = |at: usize| word_at(inner, at);
    let ends = |from, to| Tuple {
        source: Endpoint::new(source, from),
        destination: Endpoint::new(destination, to),
    };
    let (signal, ends) = match protocol {
        // the first octets of a datagram that was no first fragment would be anything
        p if p.has_ports() => (Signal::Plain, ends(word(0)?, word(2)?)),
        Protocol::ICMP => match query_signal(protocol, *inner.first()?)? {
            Signal::Query => (Signal::Query, ends(word(4)?, 0)),
            reply @ Signal::Plain
            | reply @ Signal::Syn
            | reply @ Signal::SynAck
            | reply @ Signal::Fin
            | reply @ Signal::Rst
            | reply @ Signal::Reply => (reply, ends(0, word(4)?)),
        },
        _ => (Signal::Plain, ends(0, 0)),
    };
    Some(IcmpError { from, to, about: Packet { protocol, signal, ends } })
}

pub(super) const fn tcp_signal(rst: bool, syn: bool, ack: bool, fin: bool) -> Signal {
    match (rst, syn, ack, fin) {
        (true, ..) => Signal::Rst,
        (_, true, false, _) => Signal::Syn,
        (_, true, true, _) => Signal::SynAck,
        (.., true) => Signal::Fin,
        _ => Signal::Plain,
    }
}

/// Two octets as a number.
fn word_at(octets: &[u8], at: usize) -> Option<u16> {
    octets.get(at..at + 2).map(|b| u16::from_be_bytes([b[0], b[1]]))
}

/// What the type of an ICMP message says, if it is a query or its reply: echo, timestamp, address
/// mask; and echo of IPv6 (RFC 792, 950, 4443).
fn query_signal(protocol: Protocol, kind: u8) -> Option<Signal> {
    match (protocol, kind) {
        (Protocol::ICMP, 8 | 13 | 17) | (Protocol::ICMPV6, 128) => Some(Signal::Query),
        (Protocol::ICMP, 0 | 14 | 18) | (Protocol::ICMPV6, 129) => Some(Signal::Reply),
        _ => None,
    }
}

#[cfg(test)]
mod tests;
