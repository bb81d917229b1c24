//! Which fields an event has, and what is in them: events of one shape share a template (RFC 7011
//! §3.4.1).

use std::net::IpAddr;

use super::elements::{self, Element};
use crate::nat_log::{TranslationEvent, cause_number};

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
    pub const QUOTA: u16 = 14;
}

/// Room for the fields of a record, without the name of its rule: no event has as many octets.
pub(super) const MOST: usize = 112;

/// The fields of an event as they are written, and which ones they are. It is used again and again.
#[derive(Debug)]
pub(super) struct Record {
    /// The parts that it has.
    pub shape: u16,
    octets: [u8; MOST + 16],
    length: usize,
}

impl Record {
    /// One without fields.
    pub(super) fn new() -> Self {
        Self { shape: 0, octets: [0; MOST + 16], length: 0 }
    }

    /// Takes the fields of an event, in the order of [`fields`], but for the name of its rule.
    /// `pool`: the number of its pool.
    #[inline]
    pub(super) fn fill(&mut self, event: &TranslationEvent, pool: Option<u32>) {
        use part::*;
        (self.shape, self.length) = (0, 0);
        let from_v6 = matches!(event.internal, Some(IpAddr::V6(_)));
        self.put(0, event.at.to_be_bytes());
        self.put(0, [event.kind.number(from_v6)]);
        self.put_address((INTERNAL, INTERNAL_V6), event.internal);
        self.put_address((EXTERNAL, EXTERNAL_V6), event.external);
        if let Some(protocol) = event.protocol {
            self.put(PROTOCOL, [protocol.0]);
        }
        self.put_port(INTERNAL_PORT, event.internal_port);
        if let Some(port) = event.external_port {
            match event.last_port {
                None => self.put(EXTERNAL_PORT, port.to_be_bytes()),
                Some(last) => {
                    self.put(BLOCK, port.to_be_bytes());
                    self.put(BLOCK, last.to_be_bytes());
                }
            }
        }
        self.put_address((PEER, PEER_V6), event.peer);
        self.put_port(PEER_PORT, event.peer_port);
        if let Some(cause) = event.cause {
            self.put(CAUSE, [cause_number(cause)]);
        }
        if let Some(pool) = pool {
            self.put(POOL, pool.to_be_bytes());
        }
        if let (Some(quota), Some(limit)) = (event.kind.quota(), event.limit) {
            self.put((quota as u16) << QUOTA, quota.to_be_bytes());
            self.put(0, limit.to_be_bytes());
        }
        if event.rule.is_some() {
            self.shape |= RULE;
        }
    }

    /// What it is as octets.
    pub(super) fn octets(&self) -> &[u8] {
        &self.octets[..self.length.min(MOST)]
    }

    #[inline(always)]
    fn put<const N: usize>(&mut self, part: u16, octets: [u8; N]) {
        self.shape |= part;
        // there is always room
        if let Some(place) = self.octets[self.length.min(MOST)..].first_chunk_mut() {
            *place = octets;
        }
        self.length += N;
    }

    #[inline(always)]
    fn put_address(&mut self, (there, v6): (u16, u16), address: Option<IpAddr>) {
        match address {
            None => {}
            Some(IpAddr::V4(a)) => self.put(there, a.octets()),
            Some(IpAddr::V6(a)) => self.put(there | v6, a.octets()),
        }
    }

    #[inline(always)]
    fn put_port(&mut self, part: u16, port: Option<u16>) {
        if let Some(port) = port {
            self.put(part, port.to_be_bytes());
        }
    }
}

/// The length of a field of variable length in a template (RFC 7011 §7).
pub(super) const VARIABLE: u16 = u16::MAX;

/// The fields of a shape, in the order of [`Record::fill`].
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
