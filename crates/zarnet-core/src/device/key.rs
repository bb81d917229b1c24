//! What the state of a device is keyed by, and every conversion from and to it. State is 32 bits
//! wide: dynamic mappings are for IPv4 only, and what is asked of an IPv6 address finds none.
//! To widen it, widen [`Key`] here.

use std::net::{IpAddr, Ipv4Addr};

use crate::net::{AddressRange, AddressSet, Endpoint, Packet, Protocol, Tuple};

/// An address as state is keyed by it; ordered as addresses are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub(crate) struct Key(u32);

/// An address and a port or query identifier; 0 where there is none.
pub(crate) type EndKey = (Key, u16);

impl Key {
    /// None at all: what is in its place where nothing is kept.
    pub(crate) const NONE: Self = Self(0);

    /// The key of an address; `None` for one that no state is kept of.
    #[inline(always)]
    pub(crate) fn of(address: IpAddr) -> Option<Self> {
        match address {
            IpAddr::V4(a) => Some(Self(a.to_bits())),
            IpAddr::V6(_) => None,
        }
    }

    /// The first and last key of a range of addresses.
    pub(crate) fn ends_of(range: AddressRange) -> Option<(Self, Self)> {
        Some((Self::of(range.first())?, Self::of(range.last())?))
    }

    /// The key whose number this is; the highest for a number beyond it.
    pub(crate) fn from_number(number: u64) -> Self {
        Self(u32::try_from(number).unwrap_or(u32::MAX))
    }

    /// The address that it stands for.
    #[inline(always)]
    pub(crate) fn address(self) -> IpAddr {
        IpAddr::V4(Ipv4Addr::from_bits(self.0))
    }

    /// The address with a port.
    #[inline(always)]
    pub(crate) fn with_port(self, port: u16) -> Endpoint {
        Endpoint { address: self.address(), port }
    }

    /// Its number, in the order of keys: what intervals of addresses are looked up by.
    #[inline(always)]
    pub(crate) fn number(self) -> u64 {
        self.0.into()
    }

    /// A number for it and a port, in the order of both.
    #[inline(always)]
    pub(crate) fn port_number(self, port: u16) -> u64 {
        u64::from(self.0) << 16 | u64::from(port)
    }

    /// Its upper half: which neighbourhood it lies in.
    #[inline(always)]
    pub(crate) fn neighbourhood(self) -> usize {
        (self.0 >> 16) as usize
    }

    /// The key that comes so many behind it.
    pub(crate) fn plus(self, steps: u32) -> Self {
        Self(self.0 + steps)
    }

    /// How many steps it comes behind a lower one.
    pub(crate) fn minus(self, lower: Self) -> u32 {
        self.0 - lower.0
    }
}

/// Two ends as a packet between them carries them.
#[inline]
pub(crate) fn tuple_of(source: EndKey, destination: EndKey) -> Tuple {
    let end = |end: EndKey| end.0.with_port(end.1);
    Tuple { source: end(source), destination: end(destination) }
}

/// The first packet of a flow between two ends.
pub(crate) fn first_packet(protocol: Protocol, source: EndKey, destination: EndKey) -> Packet {
    let ends = tuple_of(source, destination);
    Packet::first(protocol, ends.source, ends.destination)
}

/// How many neighbourhoods there are.
pub(crate) const NEIGHBOURHOODS: usize = 1 << 16;

/// The ranges of a set that state is kept of, as numbers.
pub(crate) fn numbered(set: &AddressSet) -> Vec<(u64, u64)> {
    set.ranges()
        .filter_map(Key::ends_of)
        .map(|(first, last)| (first.number(), last.number()))
        .collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// What goes in comes out, and the order is that of addresses.
        #[test]
        fn keys_stand_for_addresses(a: Ipv4Addr, b: Ipv4Addr, port: u16) {
            let (key, other) = (Key::of(a.into()).unwrap(), Key::of(b.into()).unwrap());
            prop_assert_eq!(key.address(), IpAddr::V4(a));
            prop_assert_eq!(Key::from_number(key.number()), key);
            prop_assert_eq!(key.with_port(port), Endpoint::new(IpAddr::V4(a), port));
            prop_assert_eq!(key.cmp(&other), a.cmp(&b));
            prop_assert_eq!(key.port_number(port).cmp(&other.port_number(port)), a.cmp(&b));
            let (low, high) = (key.min(other), key.max(other));
            prop_assert_eq!(low.plus(high.minus(low)), high);
        }
    }

    #[test]
    fn no_state_is_kept_of_ipv6() {
        assert_eq!(Key::of("2001:db8::1".parse().unwrap()), None);
    }
}
