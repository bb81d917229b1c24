//! The ports that rest after their mapping ended (RFC 6888 §3 REQ-8).
//!
//! Contract: §B7 of docs/semantics.md.

use std::collections::VecDeque;

use super::own_ports::{AllOwnPorts, OwnPorts, RestNumber};
use crate::device::key::Key;

/// The ports that rest after their mapping ended, the longest resting first. How many of them were
/// a host's is noted with the host, for it may have them again; which they are is found here.
#[derive(Debug, Clone, Default)]
pub(super) struct RestingPorts {
    queue: VecDeque<Rest>,
    /// How many rests are no longer in the queue: a rest is known by how many began before it.
    gone: RestNumber,
}

/// A rest of a port.
#[derive(Debug, Clone, Copy)]
struct Rest {
    until: u64,
    port_table: u32,
    host: Key,
    /// The rest of a port of that host on that port table that began last before this one, if any
    /// of them is under way.
    before: RestNumber,
    port: u16,
    /// Whether the port was handed out before its time.
    over: bool,
}

/// So far ahead it is read what the end of a rest changes.
const AHEAD: usize = 16;

impl RestingPorts {
    /// A port begins to rest.
    pub(super) fn put(
        &mut self,
        own: &mut AllOwnPorts,
        port_table: u32,
        port: u16,
        host: Key,
        until: u64,
    ) {
        let number = self.gone.wrapping_add(self.queue.len() as u32);
        let before = own.add_rest(port_table, host, number);
        self.queue.push_back(Rest { until, port_table, host, before, port, over: false });
    }

    /// The ports that rest and were a host's own, the one that began last first; and which rest it
    /// is.
    fn rests_of(&self, own: &OwnPorts) -> impl Iterator<Item = (RestNumber, u16)> + '_ {
        let (mut left, mut number) = (own.rests, own.last_rest);
        std::iter::from_fn(move || {
            while left > 0 {
                let rest = self.queue.get(number.wrapping_sub(self.gone) as usize)?;
                let this = std::mem::replace(&mut number, rest.before);
                if !rest.over {
                    left -= 1;
                    return Some((this, rest.port));
                }
            }
            None
        })
    }

    /// The ports that rest and were a host's own, in no order.
    pub(super) fn of(&self, own: &OwnPorts) -> impl Iterator<Item = u16> + '_ {
        self.rests_of(own).map(|rest| rest.1)
    }

    /// Ends the rest of a port before its time, if it rests: its host has it again.
    pub(super) fn end(&mut self, own: &mut AllOwnPorts, port_table: u32, port: u16, host: Key) {
        let mut rests = own.of(port_table, host).into_iter().flat_map(|own| self.rests_of(own));
        let Some((number, _)) = rests.find(|rest| rest.1 == port) else { return };
        drop(rests);
        if let Some(rest) = self.queue.get_mut(number.wrapping_sub(self.gone) as usize) {
            rest.over = true;
        }
        own.remove_rest(port_table, host);
    }

    /// The next port whose rest is over at `now`: the table that it is in, and the port.
    pub(super) fn next_over(&mut self, own: &mut AllOwnPorts, now: u64) -> Option<(u32, u16)> {
        loop {
            let rest = *self.queue.front().filter(|rest| rest.until <= now)?;
            self.queue.pop_front();
            self.gone = self.gone.wrapping_add(1);
            if !rest.over {
                own.remove_rest(rest.port_table, rest.host);
                return Some((rest.port_table, rest.port));
            }
        }
    }

    /// Reads what the end of a rest changes that is a few rests ahead: gives its port, and the
    /// table that it is in.
    pub(super) fn touch_ahead(&self, own: &AllOwnPorts) -> Option<(u32, u16)> {
        let rest = self.queue.get(AHEAD)?;
        std::hint::black_box(own.touch(rest.port_table, rest.host));
        Some((rest.port_table, rest.port))
    }

    /// When the next rest is over.
    pub(super) fn next_end(&self) -> u64 {
        self.queue.front().map_or(u64::MAX, |rest| rest.until)
    }

    /// Every port that rests, the longest resting first: the table that it is in, and the port.
    pub(super) fn all(&self) -> impl Iterator<Item = (u32, u16)> + '_ {
        self.queue.iter().filter(|rest| !rest.over).map(|rest| (rest.port_table, rest.port))
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
            let (mut resting, mut own) = (RestingPorts::default(), AllOwnPorts::default());
            let mut list: Vec<(u64, u32, u16, Key)> = Vec::new();
            let (mut now, mut port) = (0, 0u16);
            for (what, table, host, n) in steps {
                let host = Key::from_number(host.into());
                match what {
                    0 if !list.is_empty() => {
                        let at = n as usize % list.len();
                        let (_, table, port, host) = list.remove(at);
                        resting.end(&mut own, table, port, host);
                    }
                    1 => {
                        now += n;
                        while let Some((table, port)) = resting.next_over(&mut own, now) {
                            let (until, of, first, _) = list.remove(0);
                            prop_assert!(until <= now);
                            prop_assert_eq!((table, port), (of, first));
                        }
                        prop_assert!(list.first().is_none_or(|rest| rest.0 > now));
                    }
                    _ => {
                        port += 1;
                        list.push((now + 3, table, port, host));
                        resting.put(&mut own, table, port, host, now + 3);
                    }
                }
                let of = |rest: &&(u64, u32, u16, Key)| rest.1 == table && rest.3 == host;
                let wanted: Vec<u16> = list.iter().filter(of).map(|rest| rest.2).collect();
                let known = own.of(table, host);
                let mut rested: Vec<u16> =
                    known.into_iter().flat_map(|own| resting.of(own)).collect();
                rested.reverse();
                prop_assert_eq!(rested, wanted);
                let all: Vec<(u32, u16)> = list.iter().map(|rest| (rest.1, rest.2)).collect();
                prop_assert_eq!(resting.all().collect::<Vec<_>>(), all);
            }
        }
    }
}
