//! The fields of a record as they were received.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use super::template::Slot;

/// An unsigned number of at most eight octets (RFC 7011 §6.2 lets it be shorter than its type).
#[inline]
fn number(octets: &[u8]) -> u64 {
    octets.iter().take(8).fold(0, |sum, octet| sum << 8 | u64::from(*octet))
}

fn address(octets: &[u8]) -> Option<IpAddr> {
    match octets.len() {
        4 => Some(Ipv4Addr::from(<[u8; 4]>::try_from(octets).ok()?).into()),
        16 => Some(Ipv6Addr::from(<[u8; 16]>::try_from(octets).ok()?).into()),
        _ => None,
    }
}

/// The fields of a record that are of any account.
#[derive(Debug, Default)]
pub(super) struct Record<'a> {
    pub at: Option<i64>,
    pub event: Option<u64>,
    pub internal: Option<IpAddr>,
    pub internal_port: Option<u16>,
    pub external: Option<IpAddr>,
    pub external_port: Option<u16>,
    pub protocol: Option<u64>,
    pub peer: Option<IpAddr>,
    pub peer_port: Option<u16>,
    pub translated_peer: Option<IpAddr>,
    pub translated_peer_port: Option<u16>,
    pub port_first: Option<u16>,
    pub port_last: Option<u16>,
    pub quota: Option<u64>,
    pub limit: Option<u64>,
    pub pool: Option<u64>,
    pub pool_name: Option<&'a [u8]>,
    pub domain: Option<u64>,
    pub domain_name: Option<&'a [u8]>,
    pub rule: Option<&'a [u8]>,
    pub cause: Option<u64>,
}

/// A name, if it is one: not empty, and UTF-8.
pub(super) fn text(octets: &[u8]) -> Option<&str> {
    std::str::from_utf8(octets).ok().filter(|text| !text.is_empty())
}

impl<'a> Record<'a> {
    /// Takes the value of a field.
    #[inline(always)]
    pub(super) fn take(&mut self, slot: Slot, value: &'a [u8]) {
        let port = || Some(number(value) as u16);
        match slot {
            Slot::Milliseconds => self.at = i64::try_from(number(value)).ok(),
            Slot::Seconds => {
                self.at = i64::try_from(number(value)).ok().map(|s| s.saturating_mul(1000))
            }
            Slot::SecondsAndFraction => self.at = since_1900(value),
            Slot::Event => self.event = Some(number(value)),
            Slot::Internal => self.internal = address(value).or(self.internal),
            Slot::InternalPort => self.internal_port = port(),
            Slot::External => self.external = address(value).or(self.external),
            Slot::ExternalPort => self.external_port = port(),
            Slot::Protocol => self.protocol = Some(number(value)),
            Slot::Peer => self.peer = address(value),
            Slot::PeerPort => self.peer_port = port(),
            Slot::TranslatedPeer => self.translated_peer = address(value),
            Slot::TranslatedPeerPort => self.translated_peer_port = port(),
            Slot::PortFirst => self.port_first = port(),
            Slot::PortLast => self.port_last = port(),
            Slot::Quota => self.quota = Some(number(value)),
            Slot::Limit => self.limit = Some(number(value)),
            Slot::Pool => self.pool = Some(number(value)),
            Slot::PoolName => self.pool_name = Some(value),
            Slot::Domain => self.domain = Some(number(value)),
            Slot::DomainName => self.domain_name = Some(value),
            Slot::Rule => self.rule = Some(value),
            Slot::Cause => self.cause = Some(number(value)),
            Slot::Passed | Slot::Unknown(_) => {}
        }
    }
}

/// Seconds and a binary fraction since 1900, as milliseconds since 1970.
fn since_1900(value: &[u8]) -> Option<i64> {
    const BETWEEN: i64 = 2_208_988_800;
    let (seconds, fraction) = value.split_at_checked(4)?;
    let (seconds, fraction) = (number(seconds) as i64, number(fraction) & 0xffff_ffff);
    Some((seconds - BETWEEN) * 1000 + ((fraction as i64 * 1000) >> 32))
}
