//! The ports of one external address and protocol: which are taken, by which mapping, and whose
//! blocks they lie in.

use super::blocks::Blocks;
use super::port_map::{PortMap, zeros};
use crate::net::Protocol;

/// The protocols that are translated by port or query id; each has a port table of an address.
pub(super) const TABLED: [Protocol; 5] =
    [Protocol::TCP, Protocol::UDP, Protocol::ICMP, Protocol::SCTP, Protocol::DCCP];

/// Which port table of an address is a protocol's: looked up, for protocols come in no order.
pub(super) fn table_slot(protocol: Protocol) -> Option<usize> {
    const SLOTS: [u8; 256] = {
        let (mut slots, mut i) = ([u8::MAX; 256], 0);
        while i < TABLED.len() {
            slots[TABLED[i].0 as usize] = i as u8;
            i += 1;
        }
        slots
    };
    let slot = usize::from(SLOTS[usize::from(protocol.0)]);
    (slot < TABLED.len()).then_some(slot)
}

/// The ports of one external address and protocol.
#[derive(Debug, Clone)]
pub(in crate::device) struct PortTable {
    pub ports: PortMap,
    /// Mapping + 1 by external port, or [`RESTS`] and the number of its rest; 0 for neither. In
    /// stretches that are made when they are needed: few addresses use all their ports.
    by_port: [Option<Box<[u32; STRETCH]>>; (1 << 16) / STRETCH],
    /// Which hosts hold which blocks of the ports.
    pub blocks: Blocks,
    /// Ports in use that another plan has taken out meanwhile: nobody gets them afterwards.
    pub(super) withdrawn: Vec<u16>,
}

/// A port that nobody has rests.
const RESTS: u32 = 1 << 31;

/// How many rests began before one; counted in circles.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct RestNumber(u32);

impl RestNumber {
    pub(super) fn plus(self, more: u32) -> Self {
        Self(self.0.wrapping_add(more) & !RESTS)
    }

    /// How many began after another one and before this.
    pub(super) fn since(self, earlier: Self) -> u32 {
        self.0.wrapping_sub(earlier.0) & !RESTS
    }
}

/// So many ports in a row have their places together.
const STRETCH: usize = 1 << 10;

impl PortTable {
    /// Nothing taken but what `ports` has taken out.
    pub(super) fn new(ports: PortMap) -> Self {
        let by_port = [const { None }; (1 << 16) / STRETCH];
        Self { ports, by_port, blocks: Blocks::default(), withdrawn: Vec::new() }
    }

    #[inline(always)]
    fn place(&self, port: u16) -> u32 {
        let port = usize::from(port);
        self.by_port[port / STRETCH].as_ref().map_or(0, |stretch| stretch[port % STRETCH])
    }

    /// The place of a port, made if need be.
    #[inline(always)]
    fn place_mut(&mut self, port: u16) -> &mut u32 {
        let port = usize::from(port);
        &mut self.by_port[port / STRETCH].get_or_insert_with(zeros)[port % STRETCH]
    }

    /// The mapping at a port + 1; 0 for none.
    #[inline(always)]
    pub(super) fn held_by(&self, port: u16) -> u32 {
        let place = self.place(port);
        if place & RESTS == 0 { place } else { 0 }
    }

    /// Gives a port to a mapping; the rest that ends by it, if it rested.
    #[inline(always)]
    pub(super) fn give(&mut self, port: u16, mapping: u32) -> Option<RestNumber> {
        let before = std::mem::replace(self.place_mut(port), mapping + 1);
        (before & RESTS != 0).then_some(RestNumber(before & !RESTS))
    }

    /// Nobody has a port any more, which may rest.
    #[inline(always)]
    pub(super) fn vacate(&mut self, port: u16, rest: Option<RestNumber>) {
        *self.place_mut(port) = rest.map_or(0, |number| RESTS | number.0);
    }

    /// A port stays with whom it is, taken out or not.
    pub(super) fn keep(&mut self, port: u16) {
        if !self.ports.is_free(port) {
            self.withdrawn.push(port);
        }
        self.ports.take(port);
    }

    /// A port is nobody's any more.
    pub(super) fn release(&mut self, port: u16) {
        if !self.is_withdrawn(port) {
            self.ports.release(port);
        }
    }

    /// Whether a plan has taken a port out while it was in use.
    pub(in crate::device) fn is_withdrawn(&self, port: u16) -> bool {
        !self.withdrawn.is_empty() && self.withdrawn.contains(&port)
    }

    /// The mapping at a port, the first of several where ports are overloaded.
    pub(in crate::device) fn mapping(&self, port: u16) -> Option<u32> {
        self.held_by(port).checked_sub(1)
    }
}
