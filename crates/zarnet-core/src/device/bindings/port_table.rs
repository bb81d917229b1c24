//! The ports of one external address and protocol: which are taken, and whose blocks they lie in.

use super::blocks::Blocks;
use super::port_map::PortMap;
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
    /// Which hosts hold which blocks of the ports.
    pub blocks: Blocks,
    /// Ports in use that another plan has taken out meanwhile: nobody gets them afterwards.
    pub(super) withdrawn: Vec<u16>,
}

impl PortTable {
    /// Nothing taken but what `ports` has taken out.
    pub(super) fn new(ports: PortMap, classes: usize) -> Self {
        Self { ports, blocks: Blocks::new(classes), withdrawn: Vec::new() }
    }

    /// Reads where its parts are.
    #[inline(always)]
    pub(super) fn touch(&self) -> u32 {
        self.ports.touch() ^ self.blocks.touch_beginning()
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
}
