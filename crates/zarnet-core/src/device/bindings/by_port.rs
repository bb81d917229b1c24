//! Which mapping is at which external port.
//!
//! It follows from the mappings, and who sends from inside never asks it. So mappings are gone
//! through for it while that happens now and then; from when it has cost more than they are worth,
//! it is kept.

use std::collections::HashMap;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

use foldhash::fast::RandomState;

use super::Bindings;
use super::port_map::zeros;
use super::table::{Kind, Table};

/// The mappings at external ports, if they are kept.
#[derive(Debug, Default)]
pub(in crate::device) struct ByPort {
    kept: OnceLock<Places>,
    /// How many places of the table were gone through so far.
    walked: AtomicU64,
}

/// They are kept from when so many times the table was gone through, at least so many places.
const WALKS: u64 = 8;
const PLACES: u64 = 1 << 16;

impl Clone for ByPort {
    fn clone(&self) -> Self {
        let walked = AtomicU64::new(self.walked.load(Ordering::Relaxed));
        Self { kept: self.kept.clone(), walked }
    }
}

/// The mappings at the ports of every port table.
#[derive(Debug, Clone, Default)]
struct Places {
    tables: Vec<Ports>,
    /// Further mappings of a port, where ports are overloaded.
    shared: HashMap<(u32, u16), Vec<u32>, RandomState>,
}

/// Mapping + 1 by port; 0 for none. In stretches that are made when they are needed: few addresses
/// use all their ports.
#[derive(Debug, Clone)]
struct Ports([Option<Box<[u32; STRETCH]>>; (1 << 16) / STRETCH]);

/// So many ports in a row have their places together.
const STRETCH: usize = 1 << 10;

impl Places {
    fn of(table: &Table) -> Self {
        let mut places = Self::default();
        for id in table.all_mappings() {
            let m = table.mapping(id);
            if m.kind() == Kind::Endpoint {
                places.give(m.place(), m.external_port, id);
            }
        }
        places
    }

    /// The first mapping at a port.
    fn first(&self, port_table: u32, port: u16) -> Option<u32> {
        let Ports(stretches) = self.tables.get(port_table as usize)?;
        let stretch = stretches[usize::from(port) / STRETCH].as_ref()?;
        stretch[usize::from(port) % STRETCH].checked_sub(1)
    }

    /// The others.
    fn others(&self, port_table: u32, port: u16) -> &[u32] {
        if self.shared.is_empty() {
            return &[];
        }
        self.shared.get(&(port_table, port)).map_or(&[], Vec::as_slice)
    }

    fn put(&mut self, port_table: u32, port: u16, mapping: Option<u32>) {
        if self.tables.len() <= port_table as usize {
            let none = Ports([const { None }; (1 << 16) / STRETCH]);
            self.tables.resize(port_table as usize + 1, none);
        }
        let Ports(stretches) = &mut self.tables[port_table as usize];
        let stretch = stretches[usize::from(port) / STRETCH].get_or_insert_with(zeros);
        stretch[usize::from(port) % STRETCH] = mapping.map_or(0, |m| m + 1);
    }

    /// Gives a port to a mapping, and tells whether it was free.
    fn give(&mut self, port_table: u32, port: u16, mapping: u32) -> bool {
        if self.first(port_table, port).is_some() {
            self.shared.entry((port_table, port)).or_default().push(mapping);
            return false;
        }
        self.put(port_table, port, Some(mapping));
        true
    }

    /// Takes a port from a mapping, and tells whether no other has it.
    fn take_back(&mut self, port_table: u32, port: u16, mapping: u32) -> bool {
        let Some(others) = self.shared.get_mut(&(port_table, port)) else {
            self.put(port_table, port, None);
            return true;
        };
        let next = match others.iter().position(|other| *other == mapping) {
            Some(at) => {
                others.remove(at);
                None
            }
            None => Some(others.remove(0)),
        };
        if others.is_empty() {
            self.shared.remove(&(port_table, port));
        }
        if next.is_some() {
            self.put(port_table, port, next);
        }
        false
    }
}

impl ByPort {
    /// With nothing in the table; kept from the beginning where ports are overloaded: whether one
    /// is free depends on it.
    pub(super) fn new(overloading: bool) -> Self {
        let by_port = Self::default();
        if overloading {
            by_port.kept.get_or_init(Places::default);
        }
        by_port
    }

    /// Keeps it from now on.
    pub(super) fn keep(&self, table: &Table) {
        self.kept.get_or_init(|| Places::of(table));
    }

    /// Gives a port to a mapping, and tells whether it was free.
    #[inline(always)]
    pub(super) fn give(&mut self, port_table: u32, port: u16, mapping: u32) -> bool {
        match self.kept.get_mut() {
            None => true,
            Some(places) => places.give(port_table, port, mapping),
        }
    }

    /// Takes a port from a mapping, and tells whether no other has it.
    #[inline(always)]
    pub(super) fn take_back(&mut self, port_table: u32, port: u16, mapping: u32) -> bool {
        match self.kept.get_mut() {
            None => true,
            Some(places) => places.take_back(port_table, port, mapping),
        }
    }

    /// Whether several mappings have one port.
    pub(super) fn shares(&self) -> bool {
        self.kept.get().is_some_and(|places| !places.shared.is_empty())
    }

    /// Reads the place of a port, if it is kept.
    #[inline(always)]
    pub(super) fn touch(&self, port_table: u32, port: u16) -> u32 {
        self.kept.get().and_then(|places| places.first(port_table, port)).unwrap_or(0)
    }
}

impl Bindings {
    /// Every mapping at a port.
    pub(in crate::device) fn mappings_at(
        &self,
        port_table: u32,
        port: u16,
    ) -> impl Iterator<Item = u32> + '_ {
        let (first, others) = match self.by_port.kept.get() {
            Some(places) => (places.first(port_table, port), places.others(port_table, port)),
            None => (self.only_mapping_at(port_table, port), &[][..]),
        };
        first.into_iter().chain(others.iter().copied())
    }

    /// The mapping at a port where no two share one, and it is not kept.
    #[cold]
    fn only_mapping_at(&self, port_table: u32, port: u16) -> Option<u32> {
        if self.externals.port_table(port_table).ports.is_free(port) {
            return None;
        }
        let places = u64::from(self.table.places());
        let walked = self.by_port.walked.fetch_add(places, Ordering::Relaxed) + places;
        if walked > PLACES.max(WALKS * places) {
            self.by_port.keep(&self.table);
            return self.by_port.kept.get()?.first(port_table, port);
        }
        self.table.all_mappings().find(|id| {
            let m = self.table.mapping(*id);
            m.kind() == Kind::Endpoint && (m.place(), m.external_port) == (port_table, port)
        })
    }

    /// Reads the place of a port.
    #[inline(always)]
    pub(in crate::device) fn touch_port(&self, port_table: u32, port: u16) -> u32 {
        let ports = &self.externals.port_table(port_table).ports;
        self.by_port.touch(port_table, port) ^ u32::from(ports.is_free(port))
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;
    use crate::device::bindings::{Cause, ExternalEnd, NewMapping, Session};
    use crate::device::testing::{Bench, OVERLOAD, key, plan};
    use crate::net::Protocol;
    use crate::plan::RuleId;

    proptest! {
        /// Against lists, with ports that several mappings have.
        #[test]
        fn places_are_whose_lists_say(
            steps in proptest::collection::vec((any::<bool>(), 0u32..2, 0u16..3, 0usize..4), 0..120),
        ) {
            let mut places = Places::default();
            let mut model: BTreeMap<(u32, u16), Vec<u32>> = BTreeMap::new();
            for ((give, table, port, n), mapping) in steps.into_iter().zip(0..) {
                let list = model.entry((table, port)).or_default();
                if give {
                    prop_assert_eq!(places.give(table, port, mapping), list.is_empty());
                    list.push(mapping);
                } else if !list.is_empty() {
                    let gone = list.remove(n % list.len());
                    prop_assert_eq!(places.take_back(table, port, gone), list.is_empty());
                }
                for ((table, port), list) in &model {
                    let others = places.others(*table, *port).iter().copied();
                    let all: Vec<u32> =
                        places.first(*table, *port).into_iter().chain(others).collect();
                    prop_assert_eq!(&all, list);
                }
            }
        }
    }

    /// A mapping of a port of its own on the outer interface, with one session.
    fn open(bench: &mut Bench<()>, port: u16) -> (u32, u32) {
        let target = bench.compiled.targets.of(OVERLOAD).main.unwrap();
        let (freely, picked, class, block, random) = (false, true, 0, None, None);
        let (kind, address) = (Kind::Endpoint, key("203.0.113.1"));
        let external =
            ExternalEnd { kind, target, address, port, freely, picked, class, block, random };
        let (rule, protocol, peer) = (OVERLOAD, Protocol::UDP, (key("198.51.100.1"), 53));
        let internal = (key("10.0.0.5"), port);
        let new = NewMapping { rule, protocol, internal, peer, external };
        let mapping = bench.engine().open_mapping(0, &new);
        let mut session = Session::new(0, bench.compiled.timing(protocol, 53), mapping, 0);
        (session.remote, session.remote_port) = peer;
        (mapping, bench.engine().open_session(session, None, [Some(RuleId(rule)), None]))
    }

    /// Asked now and then the table is gone through, asked often it is kept: the answer is the
    /// same, whatever opens and closes meanwhile.
    #[test]
    fn what_is_kept_is_what_would_be_found() {
        let mut bench = Bench::new(plan(), ());
        let mut living: BTreeMap<u16, (u32, u32)> = BTreeMap::new();
        let mut was_kept = [0; 2];
        for round in 0..60u16 {
            for port in (0..400).map(|n| 2000 + (n * 7 + round * 13) % 900) {
                match living.remove(&port) {
                    None => drop(living.insert(port, open(&mut bench, port))),
                    Some((_, session)) => {
                        bench.engine().close_session(session, 1, Cause::Expired);
                    }
                }
            }
            let table = living.values().next().map(|l| bench.bindings.table.mapping(l.0).place());
            for port in (2000..2900).step_by(37) {
                let found: Vec<u32> = bench.bindings.mappings_at(table.unwrap(), port).collect();
                let wanted: Vec<u32> = living.get(&port).map(|l| l.0).into_iter().collect();
                assert_eq!(found, wanted, "port {port} in round {round}");
            }
            was_kept[usize::from(bench.bindings.by_port.kept.get().is_some())] += 1;
        }
        assert!(was_kept.iter().all(|rounds| *rounds > 3), "{was_kept:?}");
    }
}
