//! What each internal host used of a device.

use std::collections::HashMap;
use std::net::IpAddr;

use foldhash::fast::RandomState;

use crate::device::bindings::NONE;
use crate::device::key::Key;

/// How many ports and query ids a host has, and had at most at a time. Kept apart from the rest,
/// for it is what every mapping that ends needs too.
#[derive(Debug, Clone, Copy, Default)]
struct Ports {
    now: u32,
    most: u32,
}

/// Lines that a host drew on, with how many uses it began of each.
#[derive(Debug, Clone, Default)]
struct Begun {
    /// The first ones: few hosts draw on more, and what lies here is found with the rest.
    first: [(u32, u32); 3],
    others: Vec<(u32, u32)>,
}

impl Begun {
    /// One use more of a supply.
    #[inline]
    fn add(&mut self, line: u32) {
        for own in &mut self.first {
            if own.1 == 0 || own.0 == line {
                *own = (line, own.1 + 1);
                return;
            }
        }
        match self.others.iter_mut().find(|b| b.0 == line) {
            Some(begun) => begun.1 += 1,
            None => self.others.push((line, 1)),
        }
    }

    fn all(&self) -> impl Iterator<Item = (u32, u32)> + '_ {
        self.first.iter().chain(&self.others).copied().filter(|b| b.1 > 0)
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
/// processor's caches, and one look-up need not wait for another.
const AT_ONCE: usize = 1 << 12;

/// All hosts that had a dynamic mapping.
#[derive(Debug, Clone, Default)]
pub(super) struct Hosts {
    noted: Vec<Change>,
    known: HashMap<Key, u32, RandomState>,
    // these by position
    keys: Vec<Key>,
    ports: Vec<Ports>,
    begun: Vec<Begun>,
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
        for Change { host, line, is_port, is_more } in self.noted.drain(..) {
            let position = *self.known.entry(host).or_insert_with(|| {
                self.keys.push(host);
                self.ports.push(Ports::default());
                self.begun.push(Begun::default());
                self.keys.len() as u32 - 1
            }) as usize;
            let ports = &mut self.ports[position];
            match (is_port, is_more) {
                (true, true) => {
                    ports.now += 1;
                    ports.most = ports.most.max(ports.now);
                }
                (true, false) => ports.now = ports.now.saturating_sub(1),
                (false, _) => {}
            }
            if line != NONE {
                self.begun[position].add(line);
            }
        }
    }

    /// How many ports and query ids each had at most at a time.
    pub(super) fn most_ports(&self) -> impl Iterator<Item = u32> + '_ {
        self.ports.iter().map(|p| p.most)
    }

    /// By line, the hosts that began uses of it or of one that it is wider than, in order.
    pub(super) fn by_line(&self, wider: &[[u32; 5]]) -> Vec<Vec<(IpAddr, u32)>> {
        let mut lines: Vec<Vec<(IpAddr, u32)>> = vec![Vec::new(); wider.len()];
        for (key, own) in self.keys.iter().zip(&self.begun) {
            let host = key.address();
            for (line, begun) in own.all() {
                let all = [line].into_iter().chain(wider[line as usize]);
                for line in all.filter(|l| *l != NONE) {
                    // a host may use several lines that a wider one spans
                    match lines[line as usize].last_mut() {
                        Some(last) if last.0 == host => last.1 += begun,
                        _ => lines[line as usize].push((host, begun)),
                    }
                }
            }
        }
        lines.iter_mut().for_each(|list| list.sort_unstable());
        lines
    }
}
