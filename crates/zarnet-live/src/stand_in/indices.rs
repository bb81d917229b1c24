//! Numbers of dynamic rows: the same as long as a row lives.

use std::collections::{HashMap, HashSet};

use zarnet_core::device::MappingRow;
use zarnet_core::net::{Endpoint, Protocol};

/// What a dynamic row is known by.
type RowKey = (Option<Protocol>, Endpoint, Endpoint, Option<Endpoint>);

/// Numbers of dynamic rows: the same as long as a row lives.
#[derive(Debug, Default)]
pub(super) struct Indices {
    numbers: HashMap<RowKey, u32>,
    next: u32,
}

/// Dynamic rows are numbered from here: configured entries lie below.
const FIRST_DYNAMIC: u32 = 1 << 24;

impl Indices {
    pub(super) fn of(&mut self, row: &MappingRow) -> u32 {
        let next = &mut self.next;
        *self.numbers.entry(key(row)).or_insert_with(|| {
            *next += 1;
            FIRST_DYNAMIC + *next
        })
    }

    /// Forgets rows that are no more.
    pub(super) fn keep(&mut self, rows: &[MappingRow]) {
        if self.numbers.len() > 2 * rows.len() + 1024 {
            let alive: HashSet<RowKey> = rows.iter().map(key).collect();
            self.numbers.retain(|k, _| alive.contains(k));
        }
    }
}

fn key(row: &MappingRow) -> RowKey {
    (row.protocol, row.internal, row.external, row.peer)
}
