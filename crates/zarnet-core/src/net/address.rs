//! Addresses of both families, prefixes and ranges, and the ways people write them.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::str::FromStr;

use super::NotationError;

/// The family of an IP address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Family {
    /// Addresses of 32 bits (RFC 791).
    V4,
    /// Addresses of 128 bits (RFC 4291).
    V6,
}

impl Family {
    /// The family of an address.
    pub fn of(address: IpAddr) -> Self {
        if address.is_ipv4() { Self::V4 } else { Self::V6 }
    }

    /// Bits in an address of this family.
    pub fn bits(self) -> u8 {
        match self {
            Self::V4 => 32,
            Self::V6 => 128,
        }
    }

    /// The name for messages: `IPv4` or `IPv6`.
    pub fn name(self) -> &'static str {
        match self {
            Self::V4 => "IPv4",
            Self::V6 => "IPv6",
        }
    }

    /// The address of this family with the number `bits` (the low 32 of them for IPv4).
    pub(crate) fn address(self, bits: u128) -> IpAddr {
        match self {
            Self::V4 => IpAddr::V4(Ipv4Addr::from_bits(bits as u32)),
            Self::V6 => IpAddr::V6(Ipv6Addr::from_bits(bits)),
        }
    }
}

/// An address as a number: 32 bits for IPv4, 128 for IPv6.
pub(crate) fn number(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(a) => u128::from(a.to_bits()),
        IpAddr::V6(a) => a.to_bits(),
    }
}

/// Parses one address; leading zeros in an octet are refused, as they mean octal to some programs.
pub(crate) fn parse_address(text: &str) -> Result<IpAddr, NotationError> {
    text.parse().map_err(|_| NotationError::Address(text.into()))
}

/// A network: an address whose bits behind `length` are zero.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Prefix {
    network: IpAddr,
    length: u8,
}

impl Prefix {
    /// The prefix of `length` bits that holds `address`; `None` if the family has no such length.
    pub fn holding(address: IpAddr, length: u8) -> Option<Self> {
        let family = Family::of(address);
        if length > family.bits() {
            return None;
        }
        let host = host_bits(family, length);
        Some(Self { network: family.address(number(address) & !host), length })
    }

    /// The first address: the network's own.
    pub fn first(self) -> IpAddr {
        self.network
    }

    /// The last address: broadcast, in IPv4.
    pub fn last(self) -> IpAddr {
        let family = Family::of(self.network);
        family.address(number(self.network) | host_bits(family, self.length))
    }

    /// The address that stands for all hosts on the link; prefixes longer than 30 bits and IPv6
    /// have none (RFC 919, 3021).
    pub fn broadcast(self) -> Option<IpAddr> {
        (self.network.is_ipv4() && self.length <= 30).then(|| self.last())
    }

    /// The two addresses that no host on the link can have: the network's own and broadcast; none
    /// without broadcast.
    pub fn reserved(self) -> impl Iterator<Item = IpAddr> {
        self.broadcast().into_iter().flat_map(move |last| [self.first(), last])
    }

    /// Number of leading bits that are fixed.
    pub fn length(self) -> u8 {
        self.length
    }

    /// Whether `address` lies in this prefix.
    pub fn contains(self, address: IpAddr) -> bool {
        self.range().contains(address)
    }

    /// The same addresses as a range.
    pub fn range(self) -> AddressRange {
        AddressRange { first: self.first(), last: self.last() }
    }

    /// Parses `ADDRESS/LENGTH`, keeping the address as written: what stands on an interface or a
    /// host.
    pub fn parse_with_address(text: &str) -> Result<(IpAddr, Self), NotationError> {
        let Some((address, length)) = text.split_once('/') else {
            parse_address(text.trim())?;
            return Err(NotationError::LengthMissing(text.into()));
        };
        let address = parse_address(address.trim())?;
        let length = parse_length(length.trim(), Family::of(address))?;
        let prefix =
            Self::holding(address, length).ok_or_else(|| NotationError::Address(text.into()))?;
        Ok((address, prefix))
    }
}

/// Whether an address is for use on one link alone (RFC 3927, RFC 4291 section 2.5.6).
pub(crate) fn is_link_local(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(a) => a.is_link_local(),
        IpAddr::V6(a) => a.is_unicast_link_local(),
    }
}

fn host_bits(family: Family, length: u8) -> u128 {
    let all = if family == Family::V4 { u128::from(u32::MAX) } else { u128::MAX };
    let shift = u32::from(family.bits() - length);
    if shift >= 128 { all } else { all & ((1 << shift) - 1) }
}

/// A prefix length, a dotted mask or an inverted mask. The two masks are told apart by their shape,
/// which fails only for all zeros and all ones: these are refused.
fn parse_length(text: &str, family: Family) -> Result<u8, NotationError> {
    if family == Family::V4 && text.contains('.') {
        let mask: Ipv4Addr = text.parse().map_err(|_| NotationError::Address(text.into()))?;
        let bits = mask.to_bits();
        return match (
            bits.leading_ones() + bits.trailing_zeros(),
            bits.leading_zeros() + bits.trailing_ones(),
        ) {
            _ if bits == 0 => {
                Err(NotationError::MaskAmbiguous { mask: text.into(), as_mask: 0, as_inverted: 32 })
            }
            _ if bits == u32::MAX => {
                Err(NotationError::MaskAmbiguous { mask: text.into(), as_mask: 32, as_inverted: 0 })
            }
            (32, _) => Ok(bits.leading_ones() as u8),
            (_, 32) => Ok(bits.leading_zeros() as u8),
            _ => Err(NotationError::MaskShape(text.into())),
        };
    }
    let wrong = || NotationError::PrefixLength(text.into(), family.name(), family.bits());
    if text.is_empty() || !text.bytes().all(|c| c.is_ascii_digit()) {
        return Err(wrong());
    }
    text.parse().ok().filter(|&l| l <= family.bits()).ok_or_else(wrong)
}

impl FromStr for Prefix {
    type Err = NotationError;

    fn from_str(text: &str) -> Result<Self, NotationError> {
        Self::parse_with_address(text).map(|(_, prefix)| prefix)
    }
}

impl fmt::Display for Prefix {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.network, self.length)
    }
}

/// Addresses of one family from `first` to `last`, both included.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct AddressRange {
    first: IpAddr,
    last: IpAddr,
}

impl AddressRange {
    /// The addresses from `first` to `last`; an error if they are reversed or of two families.
    pub fn new(first: IpAddr, last: IpAddr) -> Result<Self, NotationError> {
        if Family::of(first) != Family::of(last) {
            return Err(NotationError::MixedFamilies(format!("{first}-{last}")));
        }
        if first > last {
            return Err(NotationError::Reversed(format!("{first}-{last}")));
        }
        Ok(Self { first, last })
    }

    /// The range of one address.
    pub fn one(address: IpAddr) -> Self {
        Self { first: address, last: address }
    }

    /// The lowest address of the range.
    pub fn first(self) -> IpAddr {
        self.first
    }

    /// The highest address of the range.
    pub fn last(self) -> IpAddr {
        self.last
    }

    /// The family of both ends.
    pub fn family(self) -> Family {
        Family::of(self.first)
    }

    /// Whether `address` lies in the range.
    #[inline]
    pub fn contains(self, address: IpAddr) -> bool {
        self.position(address).is_some()
    }

    /// Number of addresses, saturating at `u128::MAX` for all of IPv6.
    pub fn count(self) -> u128 {
        (number(self.last) - number(self.first)).saturating_add(1)
    }

    /// The `n`-th address, from 0.
    pub fn nth(self, n: u128) -> Option<IpAddr> {
        (n < self.count()).then(|| self.family().address(number(self.first) + n))
    }

    /// How far `address` is from the first one; `None` outside of the range.
    #[inline]
    pub fn position(self, address: IpAddr) -> Option<u128> {
        // as numbers: addresses are compared octet by octet
        match (self.first, self.last, address) {
            (IpAddr::V4(first), IpAddr::V4(last), IpAddr::V4(address)) => {
                let (first, address) = (first.to_bits(), address.to_bits());
                let inside = first <= address && address <= last.to_bits();
                inside.then(|| u128::from(address - first))
            }
            (IpAddr::V6(first), IpAddr::V6(last), IpAddr::V6(address)) => {
                let (first, address) = (first.to_bits(), address.to_bits());
                (first <= address && address <= last.to_bits()).then(|| address - first)
            }
            _ => None,
        }
    }

    /// The fewest prefixes that it comes to, in numeric order.
    pub fn prefixes(self) -> Vec<Prefix> {
        let bits = u32::from(self.family().bits());
        let (mut first, last) = (number(self.first), number(self.last));
        let mut list = Vec::new();
        loop {
            // as large as its first address allows, and no larger than what is left
            let mut free = if first == 0 { bits } else { first.trailing_zeros().min(bits) };
            let size = |free: u32| if free >= 128 { u128::MAX } else { (1 << free) - 1 };
            while size(free) > last - first {
                free -= 1;
            }
            list.extend(Prefix::holding(self.family().address(first), (bits - free) as u8));
            if last - first <= size(free) {
                return list;
            }
            first += size(free) + 1;
        }
    }

    /// Parses an address, a prefix (by length, mask or inverted mask), or a range, which may name
    /// the prefix that it lies in: `203.0.113.4-203.0.113.7/29`. The prefix is returned too,
    /// because a pool loses the network and broadcast address of a prefix.
    pub fn parse(text: &str) -> Result<(Self, Option<Prefix>), NotationError> {
        let text = text.trim();
        if text.is_empty() {
            return Err(NotationError::Empty);
        }
        if let (Some((first, last)), true) = (text.split_once('-'), text.contains('/')) {
            let (last, prefix) = Prefix::parse_with_address(last.trim())?;
            let range = Self::new(parse_address(first.trim())?, last)?;
            if !prefix.contains(range.first) {
                return Err(NotationError::RangeLeavesPrefix {
                    range: range.to_string(),
                    prefix: prefix.to_string(),
                });
            }
            return Ok((range, Some(prefix)));
        }
        if text.contains('/') {
            let prefix: Prefix = text.parse()?;
            return Ok((prefix.range(), Some(prefix)));
        }
        if let Some((first, last)) = text.split_once('-') {
            return Ok((
                Self::new(parse_address(first.trim())?, parse_address(last.trim())?)?,
                None,
            ));
        }
        parse_address(text).map(|a| (Self::one(a), None))
    }
}

impl FromStr for AddressRange {
    type Err = NotationError;

    fn from_str(text: &str) -> Result<Self, NotationError> {
        Self::parse(text).map(|(range, _)| range)
    }
}

impl fmt::Display for AddressRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.first == self.last {
            write!(f, "{}", self.first)
        } else {
            write!(f, "{}-{}", self.first, self.last)
        }
    }
}
