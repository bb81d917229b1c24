//! Where packets come from, what they pass, and what becomes of them.

use crate::device::{Forwarded, OwnSource, SessionRef};
use crate::net::Packet;
use crate::plan::{DeviceId, HostId, InterfaceId, Place, RuleId, SegmentId};
use crate::reason::Reason;

/// Where a packet comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Origin {
    /// A host of the plan.
    Host(HostId),
    /// A device of the plan, and how the source of its packet was found.
    Device(DeviceId, OwnSource),
    /// Somebody on the internet.
    Peer,
    /// A host that the plan does not declare, on the one segment where it can be.
    Undeclared(SegmentId),
}

/// Who got a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Receiver {
    /// A host of the plan.
    Host(HostId),
    /// A host that the plan does not declare.
    Undeclared(SegmentId),
    /// Somebody on the internet.
    Peer,
    /// A device, which took it as an answer to a packet of its own.
    Device(DeviceId),
    /// A device, which answers it.
    Answering(DeviceId, Forwarded),
}

/// What became of a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    /// It arrived, as it then was.
    Arrived(Receiver, Packet),
    /// The packet was lost on its way.
    Lost(Loss),
}

/// Why a packet did not arrive, and who is to blame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Loss {
    /// The reason for the loss.
    pub reason: Reason,
    /// The device that dropped it, or sent it to where it was lost.
    pub device: Option<DeviceId>,
    /// The rule, for reasons that a rule causes.
    pub rule: Option<RuleId>,
    /// What in the plan caused it.
    pub place: Option<Place>,
}

/// A device that a packet passed.
#[derive(Debug, Clone, Copy)]
pub struct Passage {
    /// The device that lost it.
    pub device: DeviceId,
    /// Where the packet came in; `None` for the device's own.
    pub ingress: Option<InterfaceId>,
    /// Where it went out.
    pub egress: InterfaceId,
    /// The session on that device, if it has one.
    pub session: Option<SessionRef>,
    /// Whether it keeps that session alive for longer.
    pub refreshes: bool,
    /// Whether an older session has the answers to it, as long as that lives.
    pub contested: bool,
    /// Whether the device changed an address or port.
    pub changed: bool,
    /// Why not, if it did not.
    pub unchanged: Option<(Reason, Option<RuleId>)>,
}
