//! The names and addresses of a plan that traffic may use.

use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use zarnet_core::plan::{DeviceId, HostId, InterfaceId, Plan, nearest};
use zarnet_core::traffic::Party;

use super::Fault;

/// Who is called what.
#[derive(Debug, Clone, Default)]
pub struct Names {
    parties: HashMap<String, Party>,
    /// Families of hosts, to tell mixed flows.
    addresses: HashMap<Party, IpAddr>,
    twice: HashSet<IpAddr>,
}

impl Names {
    /// The names of a plan.
    pub fn new(plan: &Plan) -> Self {
        let mut names = Self::default();
        let mut seen = HashSet::new();
        for (i, host) in plan.hosts.iter().enumerate() {
            let party = Party::Host(HostId(i as u32));
            names.parties.insert(host.name.clone(), party);
            names.addresses.insert(party, host.address);
            if !seen.insert(host.address) {
                names.twice.insert(host.address);
            }
        }
        for (i, device) in plan.devices.iter().enumerate() {
            let id = DeviceId(i as u16);
            names.parties.insert(device.name.clone(), Party::Device(id));
            for (j, interface) in device.interfaces.iter().enumerate() {
                let name = format!("{}/{}", device.name, interface.name);
                names.parties.insert(name, Party::Interface(id, InterfaceId(j as u16)));
            }
        }
        names
    }

    /// Who is meant by an address or a name.
    pub(super) fn party(&self, text: &str) -> Result<Party, Fault> {
        if let Some(address) = plain_v4(text.as_bytes()) {
            return self.checked(IpAddr::V4(address));
        }
        if let Some(address) = plain_v6(text.as_bytes()) {
            return self.checked(IpAddr::V6(address));
        }
        if let Some(party) = self.parties.get(text) {
            return Ok(*party);
        }
        if let Ok(address) = text.parse::<IpAddr>() {
            return self.checked(address);
        }
        if text.is_empty()
            || text.contains(':')
            || text.starts_with(|c: char| c.is_ascii_digit()) && text.contains('.')
        {
            let error = zarnet_core::net::NotationError::Address(text.into());
            return Err(Fault::Notation { column: "address", error });
        }
        // the nearest is looked for where the fault is shown: a list may have millions of them
        Err(Fault::UnknownName { name: text.into(), near: None })
    }

    /// A fault with the name that was meant, if it is about a name and one is near.
    pub(super) fn with_hint(&self, fault: Fault) -> Fault {
        match fault {
            Fault::UnknownName { name, near: None } => {
                let near = nearest(&name, self.parties.keys().map(String::as_str));
                Fault::UnknownName { name, near }
            }
            fault => fault,
        }
    }

    /// Whether every address stands for itself.
    pub(super) fn are_plain(&self) -> bool {
        self.twice.is_empty()
    }

    #[inline]
    fn checked(&self, address: IpAddr) -> Result<Party, Fault> {
        if !self.twice.is_empty() && self.twice.contains(&address) {
            return Err(Fault::AddressOfTwo(address));
        }
        Ok(Party::Address(address))
    }

    /// The address of a party, where it has one of its own.
    pub(super) fn address(&self, party: Party) -> Option<IpAddr> {
        match party {
            Party::Address(address) => Some(address),
            party @ Party::Host(_) | party @ Party::Device(_) | party @ Party::Interface(..) => {
                self.addresses.get(&party).copied()
            }
        }
    }
}

/// Groups of hexadecimal digits (RFC 4291 §2.2, forms 1 and 2); anything else is left to the slower
/// parser.
#[inline]
fn plain_v6(text: &[u8]) -> Option<Ipv6Addr> {
    let (mut groups, mut count, mut gap) = ([0u16; 8], 0, None);
    let mut rest = match text {
        [b':', b':', rest @ ..] => {
            gap = Some(0);
            rest
        }
        text => text,
    };
    while !rest.is_empty() {
        let (mut value, mut digits) = (0u16, 0);
        while let Some(digit) = rest.first().and_then(|c| char::from(*c).to_digit(16)) {
            value = value << 4 | digit as u16;
            digits += 1;
            rest = &rest[1..];
        }
        if !(1..=4).contains(&digits) || count == 8 {
            return None;
        }
        groups[count] = value;
        count += 1;
        rest = match rest {
            [] => rest,
            [b':', b':', behind @ ..] if gap.is_none() => {
                gap = Some(count);
                behind
            }
            [b':', behind @ ..] if !behind.is_empty() => behind,
            _ => return None,
        };
    }
    match gap {
        None => (count == 8).then(|| groups.into()),
        Some(at) if count < 8 => {
            groups[at..].rotate_right(8 - count);
            Some(groups.into())
        }
        Some(_) => None,
    }
}

/// Four decimal numbers with points, strictly; anything else is left to the slower parser.
#[inline]
fn plain_v4(text: &[u8]) -> Option<Ipv4Addr> {
    if text.len() < 7 || text.len() > 15 {
        return None;
    }
    let (mut value, mut octet, mut digits, mut points) = (0u32, 0u32, 0, 0);
    for &c in text {
        let d = u32::from(c.wrapping_sub(b'0'));
        if d < 10 {
            if digits > 0 && octet == 0 || digits == 3 {
                return None;
            }
            octet = octet * 10 + d;
            digits += 1;
        } else if c == b'.' && digits > 0 && octet < 256 {
            value = value << 8 | octet;
            (octet, digits, points) = (0, 0, points + 1);
        } else {
            return None;
        }
    }
    (points == 3 && digits > 0 && octet < 256).then(|| Ipv4Addr::from_bits(value << 8 | octet))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// The fast parser takes exactly what the library takes.
        #[test]
        fn plain_addresses_agree_with_the_library(
            text in "[0-9.]{5,16}|[0-9]{1,3}(\\.[0-9]{1,3}){3}",
        ) {
            prop_assert_eq!(plain_v4(text.as_bytes()), text.parse().ok());
        }

        /// Of IPv6 too, but for addresses with a part in points.
        #[test]
        fn plain_ipv6_addresses_agree_with_the_library(
            text in "[0-9a-fA-F:]{0,24}|([0-9a-f]{1,4}:){0,7}(:[0-9a-f]{1,4}){0,7}|\\PC{0,8}",
            address: Ipv6Addr,
        ) {
            for text in [text, address.to_string()].iter().filter(|t| !t.contains('.')) {
                prop_assert_eq!(plain_v6(text.as_bytes()), text.parse().ok());
            }
        }
    }
}
