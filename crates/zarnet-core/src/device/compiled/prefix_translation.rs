//! IPv6 prefix translation: one prefix is put in place of another, and one word of the address is
//! adjusted so that no checksum changes. Read first: RFC 6296 §3.

use std::net::{IpAddr, Ipv6Addr};

use crate::net::AddressRange;

/// Two prefixes of one length.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PrefixPair {
    internal: u128,
    external: u128,
    length: u32,
    /// What is added to a word on the way out (§3.1), in one's complement.
    adjustment: u16,
}

/// Sum of the words of an address in one's complement.
fn sum(address: u128) -> u16 {
    (0..8).fold(0, |total, n| add((address >> (16 * n)) as u16, total))
}

/// Sum of two words in one's complement.
fn add(a: u16, b: u16) -> u16 {
    let (sum, carry) = a.overflowing_add(b);
    sum + u16::from(carry)
}

impl PrefixPair {
    /// The pair of two ranges, if these are IPv6 prefixes of one length, up to 64: longer ones
    /// leave no word to adjust.
    pub fn new(internal: AddressRange, external: AddressRange) -> Option<Self> {
        let (IpAddr::V6(a), IpAddr::V6(b)) = (internal.first(), external.first()) else {
            return None;
        };
        let (a, b, count) = (a.to_bits(), b.to_bits(), internal.count());
        let aligned = count.is_power_of_two() && a.is_multiple_of(count) && b.is_multiple_of(count);
        if !aligned || count != external.count() || count < 1 << 64 {
            return None;
        }
        let length = 128 - count.trailing_zeros();
        Some(Self { internal: a, external: b, length, adjustment: add(sum(a), !sum(b)) })
    }

    /// The number of bits that both prefixes have.
    pub fn length(&self) -> u32 {
        self.length
    }

    /// The external address of an internal one (§3.2); `None` for one that cannot be mapped.
    pub fn outward(&self, address: IpAddr) -> Option<IpAddr> {
        self.map(address, self.external, self.adjustment)
    }

    /// The internal address of an external one (§3.3); `None` for one that cannot be mapped.
    pub fn inward(&self, address: IpAddr) -> Option<IpAddr> {
        self.map(address, self.internal, !self.adjustment)
    }

    fn map(&self, address: IpAddr, prefix: u128, adjustment: u16) -> Option<IpAddr> {
        let IpAddr::V6(address) = address else { return None };
        let bits = address.to_bits();
        let word = |n: u32| (bits >> (112 - 16 * n)) as u16;
        let place = if self.length <= 48 {
            // §3.4: the subnet number, of which 0xFFFF has no mapping
            Some(3).filter(|n| word(*n) != 0xFFFF)
        } else if bits as u64 == 0 {
            None // §3.5: the address of the routers of a subnet
        } else {
            (4..8).find(|n| word(*n) != 0xFFFF)
        }?;
        let adjusted = match add(word(place), adjustment) {
            0xFFFF => 0,
            word => word,
        };
        let rest = bits & (u128::MAX >> self.length.min(127));
        let shift = 112 - 16 * place;
        let mapped = (prefix | rest) & !(0xFFFF << shift) | u128::from(adjusted) << shift;
        Some(IpAddr::V6(Ipv6Addr::from_bits(mapped)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn pair(internal: &str, external: &str) -> Option<PrefixPair> {
        let range = |t: &str| AddressRange::parse(t).map(|r| r.0).ok();
        PrefixPair::new(range(internal)?, range(external)?)
    }

    /// RFC 6296 §3.6: the worked example, there and back.
    #[test]
    fn rfc6296_s3_6_example() {
        let pair = pair("fd01:203:405::/48", "2001:db8:1::/48").unwrap();
        let (inside, outside) =
            ("fd01:203:405:1::1234".parse().unwrap(), "2001:db8:1:d550::1234".parse().unwrap());
        assert_eq!(pair.outward(inside), Some(outside));
        assert_eq!(pair.inward(outside), Some(inside));
    }

    /// RFC 6296 §3.2 and §3.5: what has no mapping.
    #[test]
    fn rfc6296_s3_2_s3_5_unmapped() {
        let short = pair("fd01:203:405::/48", "2001:db8:1::/48").unwrap();
        assert_eq!(short.outward("fd01:203:405:ffff::1".parse().unwrap()), None);
        let long = pair("fd01:203:405:7::/64", "2001:db8:1:9::/64").unwrap();
        assert_eq!(long.outward("fd01:203:405:7::".parse().unwrap()), None);
        assert_eq!(long.outward("fd01:203:405:7:ffff:ffff:ffff:ffff".parse().unwrap()), None);
    }

    /// Prefixes that leave no word to adjust, ranges that are no prefixes, sizes that differ.
    #[test]
    fn only_prefixes_make_a_pair() {
        for (a, b) in [
            ("fd01::1", "2001:db8::1"),
            ("fd01::/65", "2001:db8::/65"),
            ("fd01::-fd01::ffff", "2001:db8::-2001:db8::ffff"),
            ("fd01::/48", "2001:db8::/56"),
            ("10.0.0.0/8", "10.0.0.0/8"),
        ] {
            assert_eq!(pair(a, b), None, "{a} {b}");
        }
    }

    proptest! {
        /// RFC 6296 §2.6: no checksum changes, and what goes out comes back.
        #[test]
        fn rfc6296_neutral_and_reversible(
            internal: u128,
            external: u128,
            host: u128,
            length in prop_oneof![Just(32u32), Just(48), Just(56), Just(64)],
        ) {
            let mask = !(u128::MAX >> length);
            let range = |bits: u128| {
                let ends = [bits & mask, bits | !mask].map(|b| IpAddr::V6(Ipv6Addr::from_bits(b)));
                AddressRange::new(ends[0], ends[1]).unwrap()
            };
            let pair = PrefixPair::new(range(internal), range(external)).unwrap();
            let inside = IpAddr::V6(Ipv6Addr::from_bits(internal & mask | host & !mask));
            if let Some(outside @ IpAddr::V6(o)) = pair.outward(inside) {
                let IpAddr::V6(i) = inside else { unreachable!() };
                // 0 and 0xFFFF are the same number
                prop_assert_eq!(sum(i.to_bits()) % 0xFFFF, sum(o.to_bits()) % 0xFFFF);
                prop_assert!(range(external).contains(outside));
                prop_assert_eq!(pair.inward(outside), Some(inside));
            }
        }
    }
}
