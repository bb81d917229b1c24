//! What hosts have on external addresses besides mappings: their blocks of ports (RFC 7422), and
//! the ports that rest and were their own (RFC 6888 §3 REQ-8). Both are found in one look-up: of
//! most new mappings both are asked.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use super::few_numbers::FewNumbers;
use crate::device::key::Key;

/// A rest of a port by how many began before it, in circles: never are so many under way.
pub(super) type RestNumber = u32;

/// What every host has, by port table and host.
#[derive(Debug, Clone, Default)]
pub(super) struct AllOwnPorts(HashMap<(u32, Key), OwnPorts, RandomState>);

/// What a host has on a port table.
#[derive(Debug, Clone, Default)]
pub(in crate::device) struct OwnPorts {
    /// By class, the numbers of its blocks.
    blocks: FewNumbers<(u8, u16)>,
    rested: FewNumbers<(u16, RestNumber)>,
}

impl OwnPorts {
    /// Its blocks of a class, in ascending order.
    pub(in crate::device) fn blocks(&self, class: usize) -> impl Iterator<Item = u16> + '_ {
        self.blocks.iter().filter(move |b| usize::from(b.0) == class).map(|b| b.1)
    }

    /// The ports that rest and were its own, in ascending order.
    pub(in crate::device) fn rested(&self) -> impl Iterator<Item = u16> + '_ {
        self.rested.iter().map(|rest| rest.0)
    }

    /// The rest of a port that was its own.
    pub(super) fn rest_of(&self, port: u16) -> Option<RestNumber> {
        self.rested.iter().find(|rest| rest.0 == port).map(|rest| rest.1)
    }
}

impl AllOwnPorts {
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// What a host has on a port table, if it has anything.
    #[inline(always)]
    pub(super) fn of(&self, port_table: u32, host: Key) -> Option<&OwnPorts> {
        if self.0.is_empty() { None } else { self.0.get(&(port_table, host)) }
    }

    pub(super) fn add_block(&mut self, port_table: u32, host: Key, class: usize, number: u16) {
        self.0.entry((port_table, host)).or_default().blocks.add((class as u8, number));
    }

    pub(super) fn remove_block(&mut self, port_table: u32, host: Key, class: usize, number: u16) {
        self.change(port_table, host, |own| own.blocks.remove((class as u8, number)));
    }

    pub(super) fn add_rest(&mut self, port_table: u32, host: Key, rest: (u16, RestNumber)) {
        self.0.entry((port_table, host)).or_default().rested.add(rest);
    }

    pub(super) fn remove_rest(&mut self, port_table: u32, host: Key, rest: (u16, RestNumber)) {
        self.change(port_table, host, |own| own.rested.remove(rest));
    }

    fn change(&mut self, port_table: u32, host: Key, change: impl FnOnce(&mut OwnPorts)) {
        let Some(own) = self.0.get_mut(&(port_table, host)) else { return };
        change(own);
        if own.blocks.is_empty() && own.rested.is_empty() {
            self.0.remove(&(port_table, host));
        }
    }

    /// Forgets whose the blocks are.
    pub(super) fn clear_blocks(&mut self) {
        self.0.retain(|_, own| {
            own.blocks = FewNumbers::default();
            !own.rested.is_empty()
        });
    }
}
