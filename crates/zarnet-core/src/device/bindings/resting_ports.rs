//! The ports that rest after their mapping ended (RFC 6888 §3 REQ-8).
//!
//! Contract: §B7 of docs/semantics.md.

use std::collections::{HashMap, VecDeque};

use foldhash::fast::RandomState;

use super::few_numbers::FewNumbers;
use super::port_table::RestNumber;
use crate::device::key::Key;

/// The ports that rest after their mapping ended, the longest resting first, and whose they were:
/// that host may have them again.
#[derive(Debug, Clone, Default)]
pub(super) struct RestingPorts {
    queue: VecDeque<Rest>,
    /// How many rests are no longer in the queue: a rest is known by how many began before it.
    gone: RestNumber,
    by_host: HashMap<(u32, Key), FewNumbers, RandomState>,
}

/// A rest of a port.
#[derive(Debug, Clone, Copy)]
struct Rest {
    until: u64,
    port_table: u32,
    host: Key,
    port: u16,
    /// Whether the port was handed out before its time.
    over: bool,
}

impl RestingPorts {
    /// A port begins to rest; gives the number by which that is known.
    pub(super) fn put(&mut self, port_table: u32, port: u16, host: Key, until: u64) -> RestNumber {
        let number = self.gone.plus(self.queue.len() as u32);
        self.queue.push_back(Rest { until, port_table, host, port, over: false });
        let own = self.by_host.entry((port_table, host));
        own.and_modify(|own| own.add(port)).or_insert_with(|| FewNumbers::of(port));
        number
    }

    /// Ends a rest before its time.
    pub(super) fn end(&mut self, number: RestNumber) {
        if let Some(rest) = self.queue.get_mut(number.since(self.gone) as usize) {
            rest.over = true;
            let rest = *rest;
            self.forget_host(rest);
        }
    }

    fn forget_host(&mut self, rest: Rest) {
        let place = (rest.port_table, rest.host);
        if self.by_host.get_mut(&place).is_some_and(|own| own.remove(rest.port)) {
            self.by_host.remove(&place);
        }
    }

    /// The next port whose rest is over at `now`: the table that it is in, and the port.
    pub(super) fn next_over(&mut self, now: u64) -> Option<(u32, u16)> {
        loop {
            let rest = *self.queue.front().filter(|rest| rest.until <= now)?;
            self.queue.pop_front();
            self.gone = self.gone.plus(1);
            if !rest.over {
                self.forget_host(rest);
                return Some((rest.port_table, rest.port));
            }
        }
    }

    /// When the next rest is over.
    pub(super) fn next_end(&self) -> u64 {
        self.queue.front().map_or(u64::MAX, |rest| rest.until)
    }

    /// Every port that rests, the longest resting first: the table that it is in, and the port.
    pub(super) fn all(&self) -> impl Iterator<Item = (u32, u16)> + '_ {
        self.queue.iter().filter(|rest| !rest.over).map(|rest| (rest.port_table, rest.port))
    }

    /// Resting ports of a table that were a host's.
    pub(super) fn of(&self, port_table: u32, host: Key) -> impl Iterator<Item = u16> + '_ {
        self.by_host.get(&(port_table, host)).into_iter().flat_map(FewNumbers::iter)
    }
}
