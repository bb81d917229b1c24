//! Several lines to the internet: the addresses of each.

use super::{Interface, Plan};
use crate::net::AddressSet;

impl Plan {
    /// The addresses that the internet has behind an interface: its prefixes, and the blocks that
    /// are routed to it.
    pub fn line_of(&self, interface: &Interface) -> AddressSet {
        let routed = self.segments.iter().filter(|s| s.internet).flat_map(|s| &s.routed);
        let blocks = routed.filter(|r| interface.owns(r.via)).map(|r| r.to.range());
        interface.addresses.iter().map(|a| a.1.range()).chain(blocks).collect()
    }
}
