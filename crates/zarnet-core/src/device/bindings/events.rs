//! What the doors of the table report, and to whom.

use std::net::IpAddr;

use super::Bindings;
use crate::device::key::{EndKey, Key};
use crate::net::Protocol;
use crate::plan::RuleId;
use crate::reason::Reason;

/// Something that happened to the table of a device, or to what it hands out. Mappings, sessions,
/// addresses and port tables are named by their place, where a sink finds the rest of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::device) enum TableEvent {
    /// A dynamic mapping was opened: its place, its rule, its external address, how many are on
    /// that then, and the far end of its first packet.
    MappingOpened { mapping: u32, rule: u16, external: u32, on_address: u32, peer: EndKey },
    /// A dynamic mapping is about to be closed. `peer`: the one that it was made for where it
    /// depends on that, else the far end of its last session; none of a mapping that had none.
    MappingClosed { mapping: u32, rule: u16, cause: Cause, peer: EndKey },
    /// A dynamic mapping counts as another rule's from now on.
    MappingHandedOver { mapping: u32, from: u16, to: u16 },
    /// A session was opened: its place, and the rules that made it, each once.
    SessionOpened { session: u32, rules: [Option<RuleId>; 2] },
    /// A session is about to be closed.
    SessionClosed { session: u32, rules: [Option<RuleId>; 2], cause: Cause },
    /// A port is no longer free.
    PortTaken { port_table: u32, port: u16 },
    /// No mapping has a port any more.
    PortFreed { port_table: u32, port: u16 },
    /// A host got a block (RFC 7422) for mappings of a rule: the block of this port.
    BlockTaken { port_table: u32, port: u16, host: Key, rule: u16 },
    /// The block of this port has no owner any more.
    BlockFreed { port_table: u32, port: u16, host: Key, rule: u16, cause: Cause },
    /// An address of a target is in use that was not: how many are then.
    AddressTaken { target: u16, in_use: u32 },
    /// An address of a target is out of use.
    AddressFreed { target: u16, in_use: u32 },
    /// A packet was refused, by a rule if one is to blame, with nothing to be had from these
    /// targets.
    Refused {
        rule: Option<RuleId>,
        reason: Reason,
        targets: [Option<u16>; 2],
        protocol: Protocol,
        source: IpAddr,
    },
}

/// Does something for each of the rules that made a session. In place, where it is plain that there
/// is only one: a loop is not.
#[inline(always)]
pub(in crate::device) fn for_each(rules: [Option<RuleId>; 2], mut act: impl FnMut(RuleId)) {
    let [first, second] = rules;
    if let Some(rule) = first {
        act(rule);
    }
    if let Some(rule) = second {
        act(rule);
    }
}

/// Why a mapping or a session was closed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Cause {
    /// Its time was up.
    Expired,
    /// An event of the traffic cleared it.
    Cleared,
    /// The device restarted with an empty table.
    Restarted,
    /// The device lost the address that it was on.
    AddressLost,
    /// Its rule was disabled, and no session was left.
    RuleDisabled,
}

/// Somebody who is told of every event, with the table as it is then. `()` costs nothing.
pub(in crate::device) trait Sink {
    /// An event, at an instant in nanoseconds.
    fn note(&mut self, at: u64, event: TableEvent, bindings: &Bindings);

    /// Reads what is noted of a rule all the time, ahead of events that concern it.
    #[inline(always)]
    fn touch_rule(&self, _: u16) -> u32 {
        0
    }
}

impl Sink for () {
    #[inline(always)]
    fn note(&mut self, _: u64, _: TableEvent, _: &Bindings) {}
}

impl<S: Sink> Sink for Option<Box<S>> {
    #[inline(always)]
    fn note(&mut self, at: u64, event: TableEvent, bindings: &Bindings) {
        if let Some(sink) = self {
            sink.note(at, event, bindings);
        }
    }
}

#[cfg(test)]
impl Sink for Vec<(u64, TableEvent)> {
    fn note(&mut self, at: u64, event: TableEvent, _: &Bindings) {
        self.push((at, event));
    }
}
