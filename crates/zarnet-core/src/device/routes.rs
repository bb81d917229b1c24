//! Which way a packet leaves: longest prefix over connected and static routes.

use std::collections::HashSet;
use std::net::IpAddr;

use super::intervals::IntervalMap;
use super::table::bits;
use crate::net::Prefix;
use crate::plan::{self, InterfaceId, InterfaceSet};

/// A way out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Way {
    pub interface: InterfaceId,
    /// The next hop; the destination itself where it is on the link.
    pub via: Option<IpAddr>,
}

#[derive(Debug, Clone, Copy)]
struct Entry {
    to: Prefix,
    way: Way,
    /// Its position among the routes of the plan; none for a connected prefix.
    route: Option<usize>,
}

/// The routes of a device, best first.
#[derive(Debug, Clone)]
pub(super) struct Routes {
    /// Longest first, connected before static, then as listed.
    entries: Vec<Entry>,
    v4: IntervalMap<Option<u32>>,
    /// Whether two interfaces have one prefix, so that the way out depends on more than the destination.
    pub ambiguous: bool,
}

impl Routes {
    pub(super) fn new(device: &plan::Device) -> Self {
        let mut entries = Vec::new();
        for (i, interface) in device.interfaces.iter().enumerate() {
            let way = Way { interface: InterfaceId(i as u16), via: None };
            entries.extend(interface.addresses.iter().map(|a| Entry { to: a.1, way, route: None }));
        }
        let connected = entries.len();
        entries.extend(device.routes.iter().enumerate().map(|(i, r)| {
            let way = Way { interface: r.interface, via: Some(r.via) };
            Entry { to: r.to, way, route: Some(i) }
        }));
        let mut prefixes = HashSet::new();
        let ambiguous = !entries[..connected].iter().all(|e| prefixes.insert(e.to));
        entries.sort_by_key(|e| std::cmp::Reverse(e.to.length()));
        let v4: Vec<_> = entries.iter().enumerate().filter(|(_, e)| e.to.first().is_ipv4()).collect();
        let number = |a: IpAddr| bits(a).map_or(0, u64::from);
        let ranges: Vec<_> = v4.iter().map(|(_, e)| (number(e.to.first()), number(e.to.last()))).collect();
        let v4 = IntervalMap::new(&ranges, |active| active.first().map(|&r| v4[r].0 as u32));
        Self { entries, v4, ambiguous }
    }

    /// Where the way changes.
    pub(super) fn edges(&self) -> &[u64] {
        self.v4.edges()
    }

    #[inline]
    fn first(&self, destination: IpAddr) -> Option<usize> {
        match bits(destination) {
            Some(a) => self.v4.get(a.into()).map(|first| first as usize),
            None => self.entries.iter().position(|e| e.to.contains(destination)),
        }
    }

    /// The route of the plan that a destination goes by; none where it is connected.
    pub(super) fn route_to(&self, destination: IpAddr) -> Option<usize> {
        self.entries[self.first(destination)?].route
    }

    /// The way to a destination. Where several interfaces have its prefix, one that `preferred` holds is taken.
    #[inline]
    pub(super) fn find(&self, destination: IpAddr, preferred: Option<&InterfaceSet>) -> Option<Way> {
        let first = self.first(destination)?;
        let best = self.entries[first];
        if let (true, None, Some(set)) = (self.ambiguous, best.way.via, preferred) {
            let equals = self.entries[first..].iter().take_while(|e| e.to.length() == best.to.length());
            let mut equals = equals.filter(|e| e.to == best.to && e.way.via.is_none());
            return equals.find(|e| set.contains(e.way.interface)).map_or(Some(best.way), |e| Some(e.way));
        }
        Some(best.way)
    }

    /// The interface of the longest prefix that holds a destination, default routes aside.
    pub(super) fn find_narrow(&self, destination: IpAddr) -> Option<InterfaceId> {
        let entry = self.entries[self.first(destination)?];
        (entry.to.length() > 0).then_some(entry.way.interface)
    }
}
