//! What stands in the table: mappings, and sessions with tuples of their own.

use crate::device::bindings::arena::NONE;
use crate::device::key::Key;
use crate::net::{Protocol, Tuple};

/// What a mapping maps.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::device) enum Kind {
    /// Address and port, or query id.
    Endpoint,
    /// A whole external address belongs to an internal one.
    Address,
    /// An address, for one peer and a protocol without ports.
    Portless,
}

/// A dynamic mapping as the table keeps it.
#[derive(Debug, Clone, Copy)]
pub(in crate::device) struct Mapping {
    pub internal: Key,
    /// Kind in the two highest bits, free choice in the third, whether it still waits for its first
    /// session in the fourth; the port table, or for a whole or portless mapping the external
    /// address.
    pub(super) place: u32,
    /// First of its sessions, unless they are many.
    pub(super) head: u32,
    /// Of a portless mapping the protocol.
    pub internal_port: u16,
    pub external_port: u16,
    pub rule: u16,
    /// What the external address was taken from.
    pub target: u16,
}

/// The kind of a place in the arena that holds no mapping.
const VACANT: u32 = 3 << 30;
const FREELY: u32 = 1 << 29;
pub(super) const EXPECTANT: u32 = 1 << 28;
const PLACE: u32 = EXPECTANT - 1;

impl Mapping {
    pub(super) const NONE: Self = Self {
        internal: Key::NONE,
        place: VACANT,
        head: NONE,
        internal_port: 0,
        external_port: 0,
        rule: 0,
        target: 0,
    };

    pub(in crate::device) fn new(kind: Kind, place: u32, freely: bool) -> Self {
        // what few sessions an address mapping lists are not beside it: there it counts the others
        let expectant = if kind == Kind::Address { 0 } else { EXPECTANT };
        let place = place | (kind as u32) << 30 | expectant | if freely { FREELY } else { 0 };
        Self { place, ..Self::NONE }
    }

    pub(super) fn is_vacant(&self) -> bool {
        self.place >= VACANT
    }

    pub(in crate::device) fn kind(&self) -> Kind {
        match self.place >> 30 {
            0 => Kind::Endpoint,
            1 => Kind::Address,
            _ => Kind::Portless,
        }
    }

    /// Whether the device chose the external end freely.
    pub(in crate::device) fn freely(&self) -> bool {
        self.place & FREELY != 0
    }

    /// PortTable of an endpoint mapping, external address of the others.
    pub(in crate::device) fn place(&self) -> u32 {
        self.place & PLACE
    }
}

/// A session with tuples of its own.
#[derive(Debug, Clone, Copy)]
pub(in crate::device) struct ExplicitTuple {
    pub protocol: Protocol,
    /// The initiator's packet as sent.
    pub original: Tuple,
    /// The same as forwarded.
    pub translated: Tuple,
    /// Rule that translated the destination.
    pub inbound_rule: Option<u16>,
    /// Rule that translated the source.
    pub outbound_rule: Option<u16>,
    /// Dynamic mapping of the source.
    pub source_mapping: u32,
    /// Dynamic mapping that the packet came in through.
    pub entered: u32,
    /// Interfaces that its first packet came in and went out by.
    pub interfaces: (u16, u16),
    /// How many such sessions were made before: of two that a packet fits, the one made first
    /// counts.
    pub serial: u64,
    /// Whether a session under an endpoint mapping, made at the same instant and with the same
    /// answers, was there before it.
    pub comes_second: bool,
}

impl ExplicitTuple {
    /// The mapping among whose sessions it is listed.
    pub(super) fn listed_under(&self) -> u32 {
        if self.source_mapping != NONE { self.source_mapping } else { self.entered }
    }

    /// Whether it came in through another dynamic mapping than its source's: a host may talk to
    /// itself.
    pub(super) fn has_two_mappings(&self) -> bool {
        self.entered != NONE && self.source_mapping != NONE && self.entered != self.source_mapping
    }
}
