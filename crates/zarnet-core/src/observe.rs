//! What is told of a packet on its way, step by step, to whoever watches. Nobody, `()`, costs
//! nothing: what would be told is not even made.

use std::net::IpAddr;

use crate::net::{Endpoint, Packet};
use crate::plan::{AclId, DeviceId, HostId, InterfaceId, Place, RuleId};
use crate::reason::Reason;

/// Somebody who watches a packet.
pub trait Observer {
    /// A device did something with it.
    fn step(&mut self, step: impl FnOnce() -> Step);

    /// It comes in at a device, or begins there.
    fn enters(&mut self, device: DeviceId, ingress: Option<InterfaceId>, packet: Packet);

    /// It leaves the device.
    fn leaves(&mut self, exit: Exit);

    /// Its sender or the device that it left hands it to whoever answers for the next address, if
    /// anybody does.
    fn handed(&mut self, next: IpAddr, to: Option<NextHopOwner>);
}

/// How a packet leaves a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Exit {
    /// The packet as it leaves.
    pub packet: Packet,
    /// The interface that it leaves by.
    pub interface: InterfaceId,
    /// The address on that segment that it is handed to.
    pub next_hop: IpAddr,
}

impl Observer for () {
    #[inline(always)]
    fn step(&mut self, _: impl FnOnce() -> Step) {}
    #[inline(always)]
    fn enters(&mut self, _: DeviceId, _: Option<InterfaceId>, _: Packet) {}
    #[inline(always)]
    fn leaves(&mut self, _: Exit) {}
    #[inline(always)]
    fn handed(&mut self, _: IpAddr, _: Option<NextHopOwner>) {}
}

/// Who answers for an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NextHopOwner {
    /// A host of the plan.
    Host(HostId),
    /// A device, by one of its interfaces.
    Interface(DeviceId, InterfaceId),
    /// A host that the plan does not declare.
    Undeclared,
    /// The router of the provider, at the far side of an external segment.
    Provider,
    /// Somebody on the internet.
    Peer,
}

/// A part of a device's work on a packet, in the order of the pipeline.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stage {
    /// The filter on the interface that it comes in by.
    IngressAcl,
    /// Whether it belongs to a known session.
    Session,
    /// Destination translation (step 4).
    Destination,
    /// Whether it is for the device itself.
    Own,
    /// Choice of the route (step 6).
    Route,
    /// The policy between two realms.
    Policy,
    /// Source translation (step 8).
    Source,
    /// The filter on the interface that it leaves by.
    EgressAcl,
    /// What is kept of it.
    Commit,
}

impl Stage {
    /// The stable name, as JSON and CSV have it.
    pub fn name(self) -> &'static str {
        match self {
            Self::IngressAcl => "ingress-acl",
            Self::Session => "session",
            Self::Destination => "destination",
            Self::Own => "own-address",
            Self::Route => "route",
            Self::Policy => "policy",
            Self::Source => "source",
            Self::EgressAcl => "egress-acl",
            Self::Commit => "commit",
        }
    }
}

/// What a stage came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StageResult {
    /// There is no filter.
    NotAttached,
    /// A filter or the policy lets the packet pass.
    Accepted,
    /// Of a session: there is none yet.
    New,
    /// Of a session: known, and this is its initiator's packet or an answer.
    Known {
        /// Whether its initiator sent it.
        from_initiator: bool,
    },
    /// An end was changed.
    Translated {
        /// The endpoint before translation.
        from: Endpoint,
        /// As it is now.
        to: Endpoint,
    },
    /// An end stays as it is: why, if there is more to say than that nothing matches.
    Unchanged(Reason),
    /// Not the device's own address.
    NotOwn,
    /// The device itself answers.
    Answered,
    /// The device itself takes it.
    Taken,
    /// The route that the packet takes.
    Routed {
        /// The interface it will leave by.
        interface: InterfaceId,
        /// Address that the packet is handed to on the link.
        next_hop: IpAddr,
    },
    /// A session was made, with a mapping or under one that is there.
    Committed {
        /// Whether the mapping is new too.
        mapping: bool,
    },
    /// It goes no further.
    Dropped(Reason),
}

impl StageResult {
    /// The stable name, as JSON and CSV have it.
    pub fn name(self) -> &'static str {
        match self {
            Self::NotAttached => "not-attached",
            Self::Accepted => "accepted",
            Self::New => "new",
            Self::Known { from_initiator: true } => "known",
            Self::Known { from_initiator: false } => "answer",
            Self::Translated { .. } => "translated",
            Self::Unchanged(_) => "unchanged",
            Self::NotOwn => "not-own",
            Self::Answered => "answered",
            Self::Taken => "taken",
            Self::Routed { .. } => "routed",
            Self::Committed { mapping: true } => "new-mapping",
            Self::Committed { mapping: false } => "new-session",
            Self::Dropped(_) => "dropped",
        }
    }
}

/// What in the plan decided.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum By {
    /// Nothing that the plan names.
    Nothing,
    /// A filter, by one of its entries or by the drop at its end.
    Acl(AclId, Option<usize>),
    /// A policy entry, or the default.
    Policy(Option<usize>),
    /// A translation rule decided.
    Rule(RuleId),
    /// The rules of a session: of its destination, and of its source.
    Rules([Option<RuleId>; 2]),
    /// The prefix of an interface.
    Interface(InterfaceId),
    /// A static route, by its position.
    Route(usize),
}

/// What a device did with a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Step {
    /// In which part of its work.
    pub stage: Stage,
    /// What came of it.
    pub result: StageResult,
    /// The piece of the plan that decided.
    pub by: By,
    /// Where that piece stands in the plan's files.
    pub place: Option<Place>,
}
