//! Names of groups that say something else than their values: a leftover of copy and paste misleads
//! whoever reads them.

use std::net::Ipv4Addr;

use zarnet_core::net::AddressSet;

/// The address that a name spells out, whole or its first octets: `net-10-70-1` is 10.70.1.0/24.
pub(super) fn spelled(name: &str) -> Option<(Ipv4Addr, u8)> {
    let parts: Vec<&str> = name.split(|c: char| !c.is_ascii_digit()).collect();
    // a run of three or four small numbers, one directly after the other
    let numbers = parts.windows(3).position(|w| w.iter().all(|p| p.parse::<u8>().is_ok()))?;
    let run: Vec<u8> = parts[numbers..].iter().map_while(|p| p.parse().ok()).take(4).collect();
    let octet = |i: usize| run.get(i).copied().unwrap_or(0);
    Some((Ipv4Addr::new(octet(0), octet(1), octet(2), octet(3)), run.len() as u8 * 8))
}

/// Whether a group's name spells out addresses that it does not hold.
pub(super) fn contradicts(name: &str, value: &AddressSet) -> Option<(Ipv4Addr, u8)> {
    spelled(name).filter(|(address, _)| !value.contains((*address).into()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_spell_out_addresses() {
        let spelled = |name| spelled(name).map(|(a, l)| format!("{a}/{l}"));
        assert_eq!(spelled("net-10-70-1").as_deref(), Some("10.70.1.0/24"));
        assert_eq!(spelled("host-10.70.1.20").as_deref(), Some("10.70.1.20/32"));
        assert_eq!(spelled("kiosks"), None);
        assert_eq!(spelled("web-80-443"), None);
        assert_eq!(spelled("row-1-2-999"), None);
    }
}
