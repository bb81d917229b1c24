//! Which fields an event has: events of one shape share a template (RFC 7011 §3.4.1).

use std::net::IpAddr;

use super::elements::{self, Element};
use crate::nat_log::TranslationEvent;

/// What of an event a template has, one bit each: events of one shape share a template.
mod part {
    pub const PROTOCOL: u16 = 1;
    pub const INTERNAL: u16 = 1 << 1;
    pub const INTERNAL_V6: u16 = 1 << 2;
    pub const INTERNAL_PORT: u16 = 1 << 3;
    pub const EXTERNAL: u16 = 1 << 4;
    pub const EXTERNAL_V6: u16 = 1 << 5;
    pub const EXTERNAL_PORT: u16 = 1 << 6;
    pub const BLOCK: u16 = 1 << 7;
    pub const PEER: u16 = 1 << 8;
    pub const PEER_V6: u16 = 1 << 9;
    pub const PEER_PORT: u16 = 1 << 10;
    pub const RULE: u16 = 1 << 11;
    pub const CAUSE: u16 = 1 << 12;
    pub const POOL: u16 = 1 << 13;
    /// A quota takes two bits: 1 of sessions, 2 of mappings, 3 of a host.
    pub const QUOTA: u32 = 14;
}

/// Whether an address is there and whether it is IPv6, as two bits from a position.
fn address_bits(address: Option<IpAddr>, there: u16, v6: u16) -> u16 {
    match address {
        None => 0,
        Some(IpAddr::V4(_)) => there,
        Some(IpAddr::V6(_)) => there | v6,
    }
}

/// The parts that an event has.
pub(super) fn shape(event: &TranslationEvent) -> u16 {
    use part::*;
    let bit = |is_there: bool, bit: u16| if is_there { bit } else { 0 };
    let quota = event.kind.quota().filter(|_| event.limit.is_some()).unwrap_or(0) as u16;
    bit(event.protocol.is_some(), PROTOCOL)
        | address_bits(event.internal, INTERNAL, INTERNAL_V6)
        | bit(event.internal_port.is_some(), INTERNAL_PORT)
        | address_bits(event.external, EXTERNAL, EXTERNAL_V6)
        | bit(event.external_port.is_some() && event.last_port.is_none(), EXTERNAL_PORT)
        | bit(event.external_port.is_some() && event.last_port.is_some(), BLOCK)
        | address_bits(event.peer, PEER, PEER_V6)
        | bit(event.peer_port.is_some(), PEER_PORT)
        | bit(event.rule.is_some(), RULE)
        | bit(event.cause.is_some(), CAUSE)
        | bit(event.pool.is_some(), POOL)
        | quota << QUOTA
}

/// The length of a field of variable length in a template (RFC 7011 §7).
pub(super) const VARIABLE: u16 = u16::MAX;

/// The fields of a shape, in the order in which the writer puts them.
pub(super) fn fields(shape: u16) -> Vec<(Element, u16)> {
    use elements::*;
    use part as p;
    let (mut list, has) = (vec![(TIME, 8), (NAT_EVENT, 1)], |bit: u16| shape & bit != 0);
    let address = |there: u16, v6: u16, four: Element, six: Element| match (has(there), has(v6)) {
        (false, _) => None,
        (true, false) => Some((four, 4)),
        (true, true) => Some((six, 16)),
    };
    list.extend(address(p::INTERNAL, p::INTERNAL_V6, SOURCE_V4, SOURCE_V6));
    list.extend(address(p::EXTERNAL, p::EXTERNAL_V6, TRANSLATED_V4, TRANSLATED_V6));
    list.extend(has(p::PROTOCOL).then_some((PROTOCOL, 1)));
    list.extend(has(p::INTERNAL_PORT).then_some((SOURCE_PORT, 2)));
    list.extend(has(p::EXTERNAL_PORT).then_some((TRANSLATED_PORT, 2)));
    if has(p::BLOCK) {
        list.extend([(PORT_FIRST, 2), (PORT_LAST, 2)]);
    }
    list.extend(address(p::PEER, p::PEER_V6, DESTINATION_V4, DESTINATION_V6));
    list.extend(has(p::PEER_PORT).then_some((DESTINATION_PORT, 2)));
    list.extend(has(p::CAUSE).then_some((ENDED_BY, 1)));
    list.extend(has(p::POOL).then_some((POOL_ID, 4)));
    match shape >> p::QUOTA {
        1 => list.extend([(QUOTA_EVENT, 4), (MOST_SESSIONS, 4)]),
        2 => list.extend([(QUOTA_EVENT, 4), (MOST_MAPPINGS, 4)]),
        3 => list.extend([(QUOTA_EVENT, 4), (MOST_OF_HOST, 4)]),
        _ => {}
    }
    list.extend(has(p::RULE).then_some((RULE, VARIABLE)));
    list
}
