//! The ports that rest after their mapping ended (RFC 6888 §3 REQ-8).
//!
//! Contract: §B7 of docs/semantics.md.

use std::collections::{HashMap, VecDeque};

use foldhash::fast::RandomState;

use super::few_numbers::FewNumbers;
use crate::device::key::Key;

/// The ports that rest after their mapping ended, the longest resting first, and whose they were:
/// that host may have them again.
#[derive(Debug, Clone, Default)]
pub(super) struct RestingPorts {
    queue: VecDeque<Rest>,
    /// How many rests are no longer in the queue: a rest is known by how many began before it.
    gone: RestNumber,
    /// The ports of a table that were a host's, and their rests.
    by_host: HashMap<(u32, Key), FewNumbers<(u16, RestNumber)>, RandomState>,
}

/// How many rests began before one, in circles: never are so many under way.
type RestNumber = u32;

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
    /// A port begins to rest.
    pub(super) fn put(&mut self, port_table: u32, port: u16, host: Key, until: u64) {
        let number = self.gone.wrapping_add(self.queue.len() as u32);
        self.queue.push_back(Rest { until, port_table, host, port, over: false });
        let own = self.by_host.entry((port_table, host));
        own.and_modify(|own| own.add((port, number)))
            .or_insert_with(|| FewNumbers::of((port, number)));
    }

    /// Ends the rest of a port before its time, if it rests: its host has it again.
    pub(super) fn end(&mut self, port_table: u32, port: u16, host: Key) {
        let own = self.by_host.get(&(port_table, host));
        let Some((_, number)) = own.and_then(|own| own.iter().find(|rest| rest.0 == port)) else {
            return;
        };
        if let Some(rest) = self.queue.get_mut(number.wrapping_sub(self.gone) as usize) {
            rest.over = true;
            let rest = *rest;
            self.forget_host(rest, number);
        }
    }

    fn forget_host(&mut self, rest: Rest, number: RestNumber) {
        let place = (rest.port_table, rest.host);
        if self.by_host.get_mut(&place).is_some_and(|own| own.remove((rest.port, number))) {
            self.by_host.remove(&place);
        }
    }

    /// The next port whose rest is over at `now`: the table that it is in, and the port.
    pub(super) fn next_over(&mut self, now: u64) -> Option<(u32, u16)> {
        loop {
            let rest = *self.queue.front().filter(|rest| rest.until <= now)?;
            self.queue.pop_front();
            let number = self.gone;
            self.gone = number.wrapping_add(1);
            if !rest.over {
                self.forget_host(rest, number);
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
        let own = self.by_host.get(&(port_table, host));
        own.into_iter().flat_map(FewNumbers::iter).map(|(port, _)| port)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Against a plain list of rests, some of which end before their time.
        #[test]
        fn ports_rest_as_a_list_says(
            steps in proptest::collection::vec((0u8..3, 0u32..3, 0u32..3, 1u64..6), 0..200),
        ) {
            let mut resting = RestingPorts::default();
            let mut list: Vec<(u64, u32, u16, Key)> = Vec::new();
            let (mut now, mut port) = (0, 0u16);
            for (what, table, host, n) in steps {
                let host = Key::from_number(host.into());
                match what {
                    0 if !list.is_empty() => {
                        let at = n as usize % list.len();
                        let (_, table, port, host) = list.remove(at);
                        resting.end(table, port, host);
                    }
                    1 => {
                        now += n;
                        while let Some((table, port)) = resting.next_over(now) {
                            let (until, of, first, _) = list.remove(0);
                            prop_assert!(until <= now);
                            prop_assert_eq!((table, port), (of, first));
                        }
                        prop_assert!(list.first().is_none_or(|rest| rest.0 > now));
                    }
                    _ => {
                        port += 1;
                        list.push((now + 3, table, port, host));
                        resting.put(table, port, host, now + 3);
                    }
                }
                let of = |rest: &&(u64, u32, u16, Key)| rest.1 == table && rest.3 == host;
                let own: Vec<u16> = list.iter().filter(of).map(|rest| rest.2).collect();
                prop_assert_eq!(resting.of(table, host).collect::<Vec<_>>(), own);
                let all: Vec<(u32, u16)> = list.iter().map(|rest| (rest.1, rest.2)).collect();
                prop_assert_eq!(resting.all().collect::<Vec<_>>(), all);
            }
        }
    }
}
