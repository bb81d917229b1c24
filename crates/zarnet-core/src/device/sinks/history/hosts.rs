//! What each internal host used of a device.

use std::collections::HashMap;
use std::net::IpAddr;

use foldhash::fast::RandomState;

use crate::device::bindings::NONE;
use crate::device::key::Key;

/// What a host has and had, in one place: it is looked for at every mapping that begins or ends.
#[derive(Debug, Clone, Copy, Default)]
struct Host {
    /// Ports and query ids.
    now: u32,
    /// The most of them at a time.
    most: u32,
    /// Lines that it drew on, with how many uses it began of each: the first ones, for few hosts
    /// draw on more.
    begun: [(u32, u32); 3],
}

impl Host {
    /// One use more of a supply; `false`: there is no place for it.
    #[inline(always)]
    fn begin(&mut self, line: u32) -> bool {
        for begun in &mut self.begun {
            if begun.1 == 0 || begun.0 == line {
                *begun = (line, begun.1 + 1);
                return true;
            }
        }
        false
    }
}

/// A host has a mapping more or less.
#[derive(Debug, Clone, Copy)]
struct Change {
    host: Key,
    /// What one more draws on.
    line: u32,
    /// Whether it holds a port.
    is_port: bool,
    is_more: bool,
}

/// So many changes are noted before they are counted: what is counted in one go is found in the
/// processor's caches.
const AT_ONCE: usize = 1 << 12;
/// What so many of them are about is read first, all at once: one look-up then need not wait for
/// another.
const TOGETHER: usize = 64;

/// All hosts that had a dynamic mapping.
#[derive(Debug, Clone, Default)]
pub(super) struct Hosts {
    noted: Vec<Change>,
    known: HashMap<Key, Host, RandomState>,
    /// Uses of lines that found no place with their host.
    others: HashMap<(Key, u32), u32, RandomState>,
}

impl Hosts {
    /// A host has a mapping more, of a line; `is_port`: whether it holds a port.
    #[inline]
    pub(super) fn open(&mut self, host: Key, line: u32, is_port: bool) {
        self.note(Change { host, line, is_port, is_more: true });
    }

    /// A mapping of a host that held a port is over.
    #[inline]
    pub(super) fn close(&mut self, host: Key) {
        self.note(Change { host, line: NONE, is_port: true, is_more: false });
    }

    #[inline]
    fn note(&mut self, change: Change) {
        self.noted.push(change);
        if self.noted.len() == AT_ONCE {
            self.count();
        }
    }

    /// Counts what was noted. What is asked of the hosts is right after that only.
    #[inline(never)]
    pub(super) fn count(&mut self) {
        let noted = std::mem::take(&mut self.noted);
        for some in noted.chunks(TOGETHER) {
            let touch = |change: &Change| self.known.get(&change.host).map_or(0, |host| host.now);
            std::hint::black_box(some.iter().fold(0, |sum, change| sum ^ touch(change)));
            for Change { host: key, line, is_port, is_more } in some.iter().copied() {
                let host = self.known.entry(key).or_default();
                match (is_port, is_more) {
                    (true, true) => {
                        host.now += 1;
                        host.most = host.most.max(host.now);
                    }
                    (true, false) => host.now = host.now.saturating_sub(1),
                    (false, _) => {}
                }
                if line != NONE && !host.begin(line) {
                    *self.others.entry((key, line)).or_default() += 1;
                }
            }
        }
        self.noted = noted;
        self.noted.clear();
    }

    /// How many ports and query ids each had at most at a time, in no order.
    pub(super) fn most_ports(&self) -> impl Iterator<Item = u32> + '_ {
        self.known.values().map(|host| host.most)
    }

    /// By line, the hosts that began uses of it or of one that it is wider than, in order.
    pub(super) fn by_line(&self, wider: &[[u32; 5]]) -> Vec<Vec<(IpAddr, u32)>> {
        let mut lines: Vec<Vec<(Key, u32)>> = vec![Vec::new(); wider.len()];
        let own = self.known.iter().flat_map(|(key, host)| {
            host.begun.into_iter().filter(|b| b.1 > 0).map(|(line, begun)| (*key, line, begun))
        });
        let others = self.others.iter().map(|((key, line), begun)| (*key, *line, *begun));
        for (key, line, begun) in own.chain(others) {
            let all = [line].into_iter().chain(wider[line as usize]);
            for line in all.filter(|l| *l != NONE) {
                lines[line as usize].push((key, begun));
            }
        }
        for list in &mut lines {
            list.sort_unstable_by_key(|(key, begun)| key.number() << 32 | u64::from(*begun));
            // a host may use several lines that a wider one spans
            list.dedup_by(|next, kept| {
                let is_same = next.0 == kept.0;
                kept.1 += if is_same { next.1 } else { 0 };
                is_same
            });
        }
        let told =
            |list: Vec<(Key, u32)>| list.into_iter().map(|(k, n)| (k.address(), n)).collect();
        lines.into_iter().map(told).collect()
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Against counting each change at once: hosts that draw on more lines than have a place
        /// with them, lines that are part of wider ones, and changes enough for several goes.
        #[test]
        fn hosts_are_counted_as_one_by_one(
            changes in proptest::collection::vec(
                (0u32..20, 0u32..6, any::<bool>(), 0u8..3),
                0..300,
            ),
            times in prop_oneof![Just(1usize), Just(40)],
        ) {
            let of_line = |line: u32| if line < 6 { 6 + line % 2 } else { NONE };
            let wider: Vec<[u32; 5]> =
                (0..8).map(|line| [of_line(line), NONE, NONE, NONE, NONE]).collect();
            let mut hosts = Hosts::default();
            let mut now: BTreeMap<u32, (u32, u32)> = BTreeMap::new();
            let mut begun: Vec<BTreeMap<u32, u32>> = vec![BTreeMap::new(); 8];
            for &(host, line, is_port, kind) in changes.iter().cycle().take(changes.len() * times) {
                let key = Key::from_number(host.into());
                let ports = now.entry(host).or_default();
                if kind == 0 {
                    hosts.close(key);
                    ports.0 = ports.0.saturating_sub(1);
                    continue;
                }
                hosts.open(key, line, is_port);
                ports.0 += u32::from(is_port);
                ports.1 = ports.1.max(ports.0);
                for line in [line, of_line(line)] {
                    *begun[line as usize].entry(host).or_default() += 1;
                }
            }
            hosts.count();
            let mut most: Vec<u32> = hosts.most_ports().collect();
            most.sort_unstable();
            let mut wanted: Vec<u32> = now.values().map(|ports| ports.1).collect();
            wanted.sort_unstable();
            prop_assert_eq!(most, wanted);
            let told = |(host, count): (&u32, &u32)| {
                (Key::from_number((*host).into()).address(), *count)
            };
            let wanted: Vec<Vec<_>> =
                begun.iter().map(|of| of.iter().map(told).collect()).collect();
            prop_assert_eq!(hosts.by_line(&wider), wanted);
        }
    }
}
