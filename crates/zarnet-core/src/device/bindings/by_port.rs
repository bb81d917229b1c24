//! Which mapping is at which external port.
//!
//! It follows from the mappings, and who sends from inside never asks it. So mappings are gone
//! through for it while that happens now and then; from when it has cost more than they are worth,
//! it is kept.

use std::collections::HashMap;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

use foldhash::fast::RandomState;

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

    /// The first mapping at a port, and the others, if they are kept.
    #[inline]
    pub(super) fn at(&self, port_table: u32, port: u16) -> Option<(Option<u32>, &[u32])> {
        let places = self.kept.get()?;
        Some((places.first(port_table, port), places.others(port_table, port)))
    }

    /// The mapping at a port where they are not kept yet, and so no two share one.
    #[cold]
    pub(super) fn find(&self, table: &Table, port_table: u32, port: u16) -> Option<u32> {
        let places = u64::from(table.places());
        let walked = self.walked.fetch_add(places, Ordering::Relaxed) + places;
        if walked > PLACES.max(WALKS * places) {
            self.keep(table);
            return self.at(port_table, port)?.0;
        }
        table.all_mappings().find(|id| {
            let m = table.mapping(*id);
            m.kind() == Kind::Endpoint && (m.place(), m.external_port) == (port_table, port)
        })
    }

    /// Reads the place of a port, if it is kept.
    #[inline(always)]
    pub(super) fn touch(&self, port_table: u32, port: u16) -> u32 {
        self.kept.get().and_then(|places| places.first(port_table, port)).unwrap_or(0)
    }
}

#[cfg(test)]
mod tests;
