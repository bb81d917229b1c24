//! What becomes of a packet at a device.

use std::net::IpAddr;

use crate::net::{Instant, Packet};
use crate::observe::Exit;
use crate::plan::{InterfaceId, Place, RuleId};
use crate::reason::Reason;
use crate::traffic::Ending;

/// What a device did with a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// It leaves by an interface.
    Forwarded(Forwarded),
    /// The device itself answers; the answer leaves by an interface.
    Answered(Forwarded),
    /// It was for the device itself, which wanted it.
    Consumed(Taken),
    /// It goes no further.
    Dropped(Refusal),
}

/// A packet that a device took for itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Taken {
    /// The packet as it then was.
    pub packet: Packet,
    /// The session that it belongs to, if any.
    pub session: Option<SessionRef>,
    /// Whether it keeps that session alive for longer.
    pub refreshes: bool,
}

/// A packet on its way out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Forwarded {
    /// The packet as it leaves.
    pub packet: Packet,
    /// The interface it leaves by.
    pub interface: InterfaceId,
    /// Who on that segment is to get it.
    pub next_hop: IpAddr,
    /// The session that it belongs to, if any.
    pub session: Option<SessionRef>,
    /// Whether it keeps that session alive for longer.
    pub refreshes: bool,
    /// Whether an older session has the answers to it, as long as that lives.
    pub contested: bool,
    /// Why its ends were not changed; `None` if one was.
    pub unchanged: Option<(Reason, Option<RuleId>)>,
}

impl Forwarded {
    /// What an observer is told of it.
    pub(crate) fn exit(&self) -> Exit {
        Exit { packet: self.packet, interface: self.interface, next_hop: self.next_hop }
    }

    /// A packet that belongs to no session yet, on its way out by an interface to a next hop.
    pub(super) fn first(
        packet: Packet,
        (interface, next_hop): (InterfaceId, IpAddr),
        unchanged: Option<(Reason, Option<RuleId>)>,
    ) -> Self {
        Self {
            packet,
            interface,
            next_hop,
            session: None,
            refreshes: true,
            contested: false,
            unchanged,
        }
    }
}

/// A session, told apart from a later one that took its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SessionRef {
    pub(super) id: u32,
    pub(super) created: u64,
}

/// Why a packet goes no further, and what in the plan decided that.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Refusal {
    /// The reason of the refusal.
    pub reason: Reason,
    /// The rule, for reasons that a rule causes.
    pub rule: Option<RuleId>,
    /// What in the plan caused it.
    pub place: Option<Place>,
}

impl Refusal {
    pub(super) fn new(reason: Reason, place: Place) -> Self {
        Self { reason, rule: None, place: Some(place) }
    }
}

impl SessionRef {
    /// Whether the session was made at `now`.
    pub fn is_new(&self, now: Instant) -> bool {
        self.created == now.0
    }
}

/// When a flow is answered, and when and how it ends.
#[derive(Debug, Clone, Copy)]
pub(crate) struct FlowSchedule {
    /// When the answer passes.
    pub answer: Instant,
    /// When the last packet of the flow passes.
    pub end: Instant,
    pub ending: Ending,
}
