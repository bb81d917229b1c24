//! Sessions that fixed rules made before another plan took over. Their external ends are theirs as long as they live, although
//! the plan may say nothing of them any more.

use std::collections::HashMap;
use std::net::IpAddr;

use foldhash::fast::RandomState;

use super::Device;
use super::table::bits;
use crate::net::Protocol;

/// An external address, the protocol, and the port; 0 where there is none.
pub(super) type End = (u32, Protocol, u16);

/// What such sessions hold.
#[derive(Debug, Clone, Default)]
pub(super) struct Leftovers {
    by_session: HashMap<u32, Vec<End>, RandomState>,
    /// How many sessions hold an end, and whether nobody else had it.
    ends: HashMap<End, (u32, bool), RandomState>,
    /// How many ends are held by address.
    by_address: HashMap<u32, u32, RandomState>,
}

impl Leftovers {
    pub(super) fn is_empty(&self) -> bool {
        self.by_session.is_empty()
    }

    /// Whether an end on an address is held.
    pub(super) fn are_on(&self, address: u32) -> bool {
        !self.is_empty() && self.by_address.contains_key(&address)
    }

    /// Whether a protocol without ports is held on an address.
    pub(super) fn hold(&self, address: u32, protocol: Protocol) -> bool {
        !self.is_empty() && self.ends.contains_key(&(address, protocol, 0))
    }
}

impl Device {
    /// What sessions of fixed rules hold, in the order of the table.
    pub(super) fn find_leftovers(&self) -> Vec<(u32, End)> {
        let mut found = Vec::new();
        for id in self.table.all_sessions() {
            let protocol = || self.protocol_of(self.table.session(id));
            for (_, internal, external) in self.fixed_ends(id).into_iter().flatten() {
                if let Some(address) = bits(external.address).filter(|_| internal != external) {
                    found.push((id, (address, protocol(), external.port)));
                }
            }
        }
        found
    }

    /// Nobody gets what they hold.
    pub(super) fn hold_leftovers(&mut self, found: &[(u32, End)]) {
        let (config, classes) = (&self.config, self.config.plan.behaviour.port_classes.len());
        self.leftovers = Leftovers::default();
        let Leftovers { by_session, ends, by_address } = &mut self.leftovers;
        for &(session, end) in found {
            let (address, protocol, port) = end;
            by_session.entry(session).or_default().push(end);
            let held = ends.entry(end).or_insert_with(|| {
                *by_address.entry(address).or_default() += 1;
                let reserve = |ports: &mut _| config.reserve(IpAddr::V4(address.into()), protocol, ports);
                let free = protocol.is_multiplexed() && {
                    let page = self.externals.obtain_page(address, protocol, classes, reserve);
                    let ports = &mut self.externals.page_mut(page).ports;
                    let free = ports.is_free(port);
                    ports.take(port);
                    free
                };
                (0, free)
            });
            held.0 += 1;
        }
        found.iter().for_each(|f| self.offer(f.1.0));
    }

    /// A session has ended: what it held is to be had again, if no other holds it.
    pub(super) fn let_go(&mut self, session: u32) {
        for end in self.leftovers.by_session.remove(&session).into_iter().flatten() {
            let (address, protocol, port) = end;
            let Some((holders, free)) = self.leftovers.ends.get_mut(&end) else { continue };
            *holders -= 1;
            if *holders > 0 {
                continue;
            }
            let free = std::mem::take(free);
            self.leftovers.ends.remove(&end);
            if let Some(page) = self.externals.find_page(address, protocol).filter(|_| free) {
                self.externals.page_mut(page).ports.release(port);
            }
            if let Some(held) = self.leftovers.by_address.get_mut(&address) {
                *held -= 1;
                if *held == 0 {
                    self.leftovers.by_address.remove(&address);
                    self.offer(address);
                }
            }
        }
    }

    /// Pools that hand out whole addresses have one if nobody else has it.
    fn offer(&mut self, address: u32) {
        let free = !self.is_living_end(IpAddr::V4(address.into()));
        for target in self.config.targets_of(address) {
            let position = self.config.targets[usize::from(*target)].space.position(address);
            if let (Some(all), Some(position)) = (&mut self.targets[usize::from(*target)].free, position) {
                if free { all.insert(position) } else { all.remove(position) }
            }
        }
    }
}
