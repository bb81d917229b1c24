//! What hosts have on external addresses besides mappings: their blocks of ports (RFC 7422), and
//! the ports that rest and were their own (RFC 6888 §3 REQ-8). Both are found in one look-up: of
//! most new mappings both are asked.

use super::few_numbers::FewNumbers;
use super::host_map::{HostMap, Kept};
use crate::device::key::Key;

/// A rest of a port by how many began before it, in circles: never are so many under way.
pub(super) type RestNumber = u32;

/// What every host has, by host and port table.
#[derive(Debug, Clone, Default)]
pub(super) struct AllOwnPorts(HostMap<OwnPorts>);

/// What a host has on a port table.
#[derive(Debug, Clone, Default)]
pub(in crate::device) struct OwnPorts {
    /// By class, the numbers of its blocks.
    blocks: FewNumbers<(u8, u16)>,
    /// How many ports rest that were its own.
    pub(super) rests: u32,
    /// The rest that began last; of no account if there is none.
    pub(super) last_rest: RestNumber,
}

impl Kept for OwnPorts {
    fn is_nothing(&self) -> bool {
        self.rests == 0 && self.blocks.is_empty()
    }
}

impl OwnPorts {
    /// Its blocks of a class, in ascending order.
    pub(in crate::device) fn blocks(&self, class: usize) -> impl Iterator<Item = u16> + '_ {
        self.blocks.iter().filter(move |b| usize::from(b.0) == class).map(|b| b.1)
    }

    /// The first of its blocks: its class and number.
    pub(in crate::device) fn first_block(&self) -> Option<(usize, u16)> {
        self.blocks.iter().next().map(|block| (block.0.into(), block.1))
    }
}

impl AllOwnPorts {
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// What a host has on a port table, if it has anything.
    #[inline(always)]
    pub(super) fn of(&self, port_table: u32, host: Key) -> Option<&OwnPorts> {
        self.0.find(host, port_table).map(|found| found.0)
    }

    /// Reads where that is looked for.
    #[inline(always)]
    pub(super) fn touch(&self, port_table: u32, host: Key) -> u64 {
        self.0.touch(host, port_table)
    }

    pub(super) fn add_block(&mut self, port_table: u32, host: Key, class: usize, number: u16) {
        self.0.change(host, port_table, |own| own.blocks.add((class as u8, number)));
    }

    pub(super) fn remove_block(&mut self, port_table: u32, host: Key, class: usize, number: u16) {
        self.0.change(host, port_table, |own| own.blocks.remove((class as u8, number)));
    }

    /// One more port of a host rests. Gives the rest that began last before it.
    pub(super) fn add_rest(&mut self, port_table: u32, host: Key, rest: RestNumber) -> RestNumber {
        self.0.change(host, port_table, |own| {
            own.rests += 1;
            std::mem::replace(&mut own.last_rest, rest)
        })
    }

    /// One port less of a host rests.
    pub(super) fn remove_rest(&mut self, port_table: u32, host: Key) {
        self.0.change(host, port_table, |own| own.rests = own.rests.saturating_sub(1));
    }

    /// Forgets whose the blocks are.
    pub(super) fn clear_blocks(&mut self) {
        self.0.change_all(|own| own.blocks = FewNumbers::default());
    }
}
