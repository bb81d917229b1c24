//! Which way a packet leaves: routes that are for some packets only before those for all, each by
//! the longest prefix.

use std::collections::HashSet;
use std::net::IpAddr;

use crate::device::key::Key;
use crate::net::{IntervalMap, Prefix, PrefixMap};
use crate::plan::{self, InterfaceId, InterfaceSet, RouteCondition};

/// A way out of the device: interface and next hop.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::device) struct Way {
    pub interface: InterfaceId,
    /// The next hop; the destination itself where it is on the link.
    pub via: Option<IpAddr>,
    /// The route by its position in the plan; none for a connected prefix.
    pub route: Option<usize>,
}

/// What a way is looked for by.
#[derive(Debug, Clone, Copy)]
pub(in crate::device) struct Query<'a> {
    pub destination: IpAddr,
    /// The source, as it is before its translation; `None`: routes that are for some packets only
    /// do not count.
    pub source: Option<IpAddr>,
    /// Where the packet came in; `None` for the device's own.
    pub ingress: Option<InterfaceId>,
    /// Where several interfaces have the prefix of the destination, one of these is taken.
    pub preferred: Option<&'a InterfaceSet>,
    /// The only interface that the packet may leave by, if it is told.
    pub over: Option<InterfaceId>,
}

impl Query<'_> {
    /// By the destination alone.
    pub(in crate::device) fn to(destination: IpAddr) -> Self {
        Self { destination, source: None, ingress: None, preferred: None, over: None }
    }
}

#[derive(Debug, Clone, Copy)]
struct Entry {
    to: Prefix,
    way: Way,
}

/// Routes that are looked up by their prefix alone.
#[derive(Debug, Clone)]
struct PrefixTable {
    /// Longest first, connected before static, then as listed.
    entries: Vec<Entry>,
    /// Positions of the entries.
    by_prefix: PrefixMap<usize>,
    /// What that says of each IPv4 address, found sooner.
    v4: IntervalMap<Option<u32>>,
}

impl PrefixTable {
    /// `entries`: connected before static, then as listed.
    fn new(mut entries: Vec<Entry>) -> Self {
        entries.sort_by_key(|e| std::cmp::Reverse(e.to.length()));
        let mut by_prefix = PrefixMap::default();
        by_prefix.extend(entries.iter().enumerate().map(|(i, e)| (e.to, i)));
        let v4 = entries.iter().filter_map(|e| Key::ends_of(e.to.range()));
        let edges = v4.flat_map(|(first, last)| [first.number(), last.number() + 1]);
        let first = |n: u64| by_prefix.longest(Key::from_number(n).address()).map(|i| *i as u32);
        let v4 = IntervalMap::from_edges(edges.collect(), first);
        Self { entries, by_prefix, v4 }
    }

    #[inline]
    fn first(&self, destination: IpAddr) -> Option<usize> {
        match Key::of(destination) {
            Some(a) => self.v4.get(a.number()).map(|first| first as usize),
            None => self.by_prefix.longest(destination).copied(),
        }
    }

    fn longest(&self, destination: IpAddr) -> Option<Entry> {
        self.first(destination).map(|i| self.entries[i])
    }
}

/// The routes of a device.
#[derive(Debug, Clone)]
pub(in crate::device) struct Routes {
    /// Those that are for all packets.
    all: PrefixTable,
    /// The others, longest first, then as listed.
    conditional: Vec<(Entry, RouteCondition)>,
    /// By interface, those that are for all packets and lead over it; empty where nobody asks for
    /// them.
    over: Vec<PrefixTable>,
    /// Whether two interfaces have one prefix, so that the way out depends on more than the
    /// destination.
    pub ambiguous: bool,
    /// Whether two interfaces lead to one prefix: who is there may come in by either.
    several: bool,
}

impl Routes {
    pub(in crate::device) fn new(device: &plan::DevicePlan) -> Self {
        let mut entries = Vec::new();
        for (i, interface) in device.interfaces.iter().enumerate() {
            let way = Way { interface: InterfaceId(i as u16), via: None, route: None };
            entries.extend(interface.addresses.iter().map(|a| Entry { to: a.1, way }));
        }
        let mut prefixes = HashSet::new();
        let ambiguous = !entries.iter().all(|e| prefixes.insert(e.to));
        let mut conditional = Vec::new();
        for (i, r) in device.routes.iter().enumerate() {
            let entry = Entry {
                to: r.to,
                way: Way { interface: r.interface, via: Some(r.via), route: Some(i) },
            };
            match &r.condition {
                None => entries.push(entry),
                Some(condition) => conditional.push((entry, condition.clone())),
            }
        }
        conditional.sort_by_key(|(e, _)| std::cmp::Reverse(e.to.length()));
        let mut leading = std::collections::HashMap::new();
        let mut everywhere = entries.iter().chain(conditional.iter().map(|c| &c.0));
        let several =
            everywhere.any(|e| *leading.entry(e.to).or_insert(e.way.interface) != e.way.interface);
        let count =
            if device.behaviour.answers_leave_as_came { device.interfaces.len() } else { 0 };
        let over =
            |i: usize| entries.iter().filter(|e| e.way.interface.index() == i).copied().collect();
        let over = (0..count).map(|i| PrefixTable::new(over(i))).collect();
        Self { all: PrefixTable::new(entries), conditional, over, ambiguous, several }
    }

    /// Whether the way depends on nothing but the destination.
    pub(in crate::device) fn are_plain(&self) -> bool {
        !self.ambiguous && self.conditional.is_empty()
    }

    /// Where the way of packets that no condition concerns changes.
    pub(in crate::device) fn edges(&self) -> &[u64] {
        self.all.v4.edges()
    }

    /// The way of a packet.
    #[inline]
    pub(in crate::device) fn find(&self, query: Query<'_>) -> Option<Way> {
        if query.over.is_some() || !self.conditional.is_empty() {
            return self.find_conditional(query);
        }
        self.find_for_all(query)
    }

    /// Among the routes that are for all packets.
    #[inline]
    fn find_for_all(&self, query: Query<'_>) -> Option<Way> {
        let first = self.all.first(query.destination)?;
        let best = self.all.entries[first];
        if let (true, None, Some(set)) = (self.ambiguous, best.way.via, query.preferred) {
            let equals =
                self.all.entries[first..].iter().take_while(|e| e.to.length() == best.to.length());
            let mut equals = equals.filter(|e| e.to == best.to && e.way.via.is_none());
            return equals
                .find(|e| set.contains(e.way.interface))
                .map_or(Some(best.way), |e| Some(e.way));
        }
        Some(best.way)
    }

    fn find_conditional(&self, query: Query<'_>) -> Option<Way> {
        let holds = |condition: &RouteCondition| {
            query.source.is_some_and(|s| condition.holds(s, query.ingress))
        };
        let leads = |e: &Entry| e.to.contains(query.destination);
        let holding = self.conditional.iter().filter(|(e, c)| leads(e) && holds(c)).map(|c| c.0);
        if let Some(interface) = query.over {
            // the longest of both kinds, a connected one before others, then as listed
            let for_all =
                self.over.get(interface.index()).and_then(|t| t.longest(query.destination));
            let both = for_all.into_iter().chain(holding.filter(|e| e.way.interface == interface));
            return both
                .min_by_key(|e| (std::cmp::Reverse(e.to.length()), e.way.route))
                .map(|e| e.way);
        }
        let for_all = self.find_for_all(query);
        // who is on the link is reached there
        let is_connected = for_all.is_some_and(|w| w.via.is_none());
        let first = holding.filter(|_| !is_connected).map(|e| e.way).next();
        first.or(for_all)
    }

    /// Whether packets to a destination may leave by one of some interfaces, whoever sends them.
    pub(in crate::device) fn may_lead_over(&self, set: &InterfaceSet, destination: IpAddr) -> bool {
        let leads = |way: Way| set.contains(way.interface);
        let holding = self.conditional.iter().filter(|(e, _)| e.to.contains(destination));
        self.find_for_all(Query::to(destination)).is_some_and(leads)
            || holding.into_iter().any(|(e, _)| leads(e.way))
    }

    /// The interface of the longest prefix that holds a destination, default routes aside.
    pub(in crate::device) fn find_narrow(&self, destination: IpAddr) -> Option<InterfaceId> {
        let entry = self.all.longest(destination)?;
        (entry.to.length() > 0).then_some(entry.way.interface)
    }

    /// Whether somebody with an address may be behind an interface: no other leads to a longer
    /// prefix that holds it.
    #[inline]
    pub(in crate::device) fn lead_over(&self, interface: InterfaceId, address: IpAddr) -> bool {
        let longest = self.all.longest(address);
        longest.is_some_and(|e| e.way.interface == interface)
            || self.several && {
                let length = longest.map_or(0, |e| e.to.length());
                let all = self.all.entries.iter().chain(self.conditional.iter().map(|c| &c.0));
                let mut ways =
                    all.filter(|e| e.way.interface == interface && e.to.length() >= length);
                ways.any(|e| e.to.contains(address))
            }
    }
}
