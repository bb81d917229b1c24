//! Ports that rest after their use (RFC 6888 §3 REQ-8), for the count of what cannot be had.

use std::collections::{HashMap, VecDeque};

use foldhash::fast::RandomState;

/// The supplies that a port is of, by their position.
type Lines = [u32; 3];

/// Resting ports, in the order in which their rest ends.
#[derive(Debug, Clone, Default)]
pub(super) struct Rests {
    queue: VecDeque<(u64, (u32, u16), Lines)>,
    until: HashMap<(u32, u16), u64, RandomState>,
}

impl Rests {
    pub(super) fn is_empty(&self) -> bool {
        self.queue.is_empty()
    }

    /// A port begins to rest.
    pub(super) fn begin(&mut self, port_table: u32, port: u16, until: u64, lines: Lines) {
        self.queue.push_back((until, (port_table, port), lines));
        self.until.insert((port_table, port), until);
    }

    /// The host that had a port has it again before it has rested; `false`: it did not rest.
    pub(super) fn end(&mut self, port_table: u32, port: u16) -> bool {
        self.until.remove(&(port_table, port)).is_some()
    }

    /// The next rest that is over at an instant.
    pub(super) fn next_over(&mut self, now: u64) -> Option<(u64, Lines)> {
        while let Some((until, port, lines)) = self.queue.front().filter(|r| r.0 <= now).copied() {
            self.queue.pop_front();
            if self.until.get(&port) == Some(&until) {
                self.until.remove(&port);
                return Some((until, lines));
            }
        }
        None
    }

    /// Ports have other numbers now.
    pub(super) fn forget(&mut self) {
        *self = Self::default();
    }
}
