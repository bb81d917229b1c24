//! The hashes under which mappings are found from inside.

use super::index::mix;
use crate::device::key::{EndKey, Key};
use crate::net::Protocol;
use crate::plan::Dependence;

/// Of an endpoint mapping, by as much of the peer as mappings depend on (RFC 4787 §4.1).
#[inline(always)]
pub(super) fn endpoint_hash(dependence: Dependence, protocol: Protocol, end: EndKey, peer: EndKey) -> u32 {
    let peer = match dependence {
        Dependence::EndpointIndependent => 0,
        Dependence::AddressDependent => peer.0.port_number(0),
        Dependence::AddressAndPortDependent => peer.0.port_number(peer.1),
    };
    mix(u64::from(protocol.0) << 48 | end.0.port_number(end.1), peer)
}

/// Of an address mapping.
pub(super) fn address_hash(host: Key, target: u16) -> u32 {
    mix(1 << 56 | host.number(), u64::from(target))
}

/// Of a portless mapping.
pub(super) fn portless_hash(protocol: Protocol, host: Key, peer: Key) -> u32 {
    mix(2 << 56 | u64::from(protocol.0) << 48 | host.number(), peer.number())
}
