//! The hashes under which mappings and sessions are found.

use std::net::IpAddr;

use super::index::mix;
use crate::device::key::{EndKey, Key};
use crate::net::{Endpoint, Protocol, Tuple};
use crate::plan::Dependence;

/// Of an endpoint mapping, by as much of the peer as mappings depend on (RFC 4787 §4.1).
#[inline(always)]
pub(super) fn endpoint_hash(
    dependence: Dependence,
    protocol: Protocol,
    end: EndKey,
    peer: EndKey,
) -> u32 {
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

/// Of a session between two ends that have numbers.
fn pair_hash(protocol: Protocol, source: u64, destination: u64) -> u32 {
    mix(source ^ u64::from(protocol.0) << 56, destination)
}

/// The same by their keys.
#[inline(always)]
pub(super) fn ends_hash(protocol: Protocol, source: EndKey, destination: EndKey) -> u32 {
    let number = |end: EndKey| end.0.port_number(end.1);
    pair_hash(protocol, number(source), number(destination))
}

/// Of a session with tuples of its own, by either of them.
pub(super) fn tuple_hash(protocol: Protocol, tuple: Tuple) -> u32 {
    let end = |e: Endpoint| match (Key::of(e.address), e.address) {
        (Some(key), _) => key.port_number(e.port),
        (None, IpAddr::V6(a)) => {
            let bits = a.to_bits();
            u64::from(mix(bits as u64, (bits >> 64) as u64)) << 16 | u64::from(e.port)
        }
        (None, IpAddr::V4(_)) => 0,
    };
    pair_hash(protocol, end(tuple.source), end(tuple.destination))
}
