//! The ports that rest after their mapping ended (RFC 6888 §3 REQ-8).
//!
//! Contract: §B7 of docs/semantics.md.

use std::collections::{HashMap, VecDeque};

use foldhash::fast::RandomState;

use crate::device::key::Key;

/// The ports that rest after their mapping ended (RFC 6888 §3 REQ-8), the longest resting first,
/// and whose they were: that host may have them again.
#[derive(Debug, Clone, Default)]
pub(super) struct RestingPorts {
    queue: VecDeque<(u64, u32, u16)>,
    hosts: HashMap<(u32, u16), (u64, Key), RandomState>,
    by_host: HashMap<(u32, Key), Vec<u16>, RandomState>,
}

impl RestingPorts {
    pub(super) fn put(&mut self, port_table: u32, port: u16, host: Key, until: u64) {
        self.queue.push_back((until, port_table, port));
        self.hosts.insert((port_table, port), (until, host));
        self.by_host.entry((port_table, host)).or_default().push(port);
    }

    /// Ends the rest of a port; `until` is the one that was agreed, for a port may have begun
    /// another rest since.
    #[inline]
    pub(super) fn end(&mut self, port_table: u32, port: u16, until: Option<u64>) -> bool {
        !self.hosts.is_empty() && self.end_one(port_table, port, until)
    }

    fn end_one(&mut self, port_table: u32, port: u16, until: Option<u64>) -> bool {
        let Some(&(agreed, host)) = self.hosts.get(&(port_table, port)) else { return false };
        if until.is_some_and(|u| u != agreed) {
            return false;
        }
        self.hosts.remove(&(port_table, port));
        if let Some(ports) = self.by_host.get_mut(&(port_table, host)) {
            ports.retain(|p| *p != port);
            if ports.is_empty() {
                self.by_host.remove(&(port_table, host));
            }
        }
        true
    }

    /// The next port whose rest is over at `now`: the table that it is in, the port, and until when
    /// it was to rest.
    pub(super) fn next_over(&mut self, now: u64) -> Option<(u32, u16, u64)> {
        let (until, port_table, port) = *self.queue.front().filter(|r| r.0 <= now)?;
        self.queue.pop_front();
        Some((port_table, port, until))
    }

    /// When the next rest is over.
    pub(super) fn next_end(&self) -> u64 {
        self.queue.front().map_or(u64::MAX, |r| r.0)
    }

    /// Every port that rests, in no order: the table that it is in, and the port.
    pub(super) fn all(&self) -> impl Iterator<Item = (u32, u16)> + '_ {
        self.hosts.keys().copied()
    }

    /// Resting ports of a table that were a host's.
    pub(super) fn of(&self, port_table: u32, host: Key) -> impl Iterator<Item = u16> + '_ {
        self.by_host.get(&(port_table, host)).into_iter().flatten().copied()
    }
}
