//! What must hold of a flow.

use super::{DeviceId, HostId, InterfaceId, Place};
use crate::net::{AddressSet, Endpoint, PortRange};
use crate::reason::Reason;
use crate::traffic::Flow;

/// What must hold of a flow on the network at rest. Where nothing is said of `refused`,
/// `unreachable` or `reason`, the flow must be delivered and answered.
#[derive(Debug, Clone)]
pub struct Expectation {
    /// The flow that is tried.
    pub flow: Flow,
    /// What its source must have become when it arrives.
    pub becomes: Option<EndSet>,
    /// What its destination must have become when it arrives.
    pub reaches: Option<EndSet>,
    /// Whether somebody must have decided against it.
    pub refused: Option<bool>,
    /// Whether it must come to no answer, for whatever reason.
    pub unreachable: Option<bool>,
    /// Why it must not be delivered or not be translated.
    pub reason: Option<Reason>,
    /// What must be seen of its first packet at places on the way.
    pub seen_by: Vec<SeenBy>,
    /// What it is for.
    pub note: Option<String>,
    /// Where the expectation stands in the plan's files.
    pub place: Place,
}

impl Expectation {
    /// Whether it speaks of a flow: of the same ends, whenever the flow starts and however it goes.
    pub fn is_of(&self, flow: &Flow) -> bool {
        let ends =
            |f: &Flow| (f.source, f.source_port, f.destination, f.destination_port, f.protocol);
        ends(&self.flow) == ends(flow)
    }
}

/// What must be seen at a place.
#[derive(Debug, Clone)]
pub struct SeenBy {
    /// Device and interface where the packet is seen.
    pub at: Viewpoint,
    /// The same as written.
    pub name: String,
    /// The source that the packet must have there.
    pub source: Option<EndSet>,
    /// The destination that the packet must have there.
    pub destination: Option<EndSet>,
    /// Where this part stands in the plan's files.
    pub place: Place,
}

/// A place from which packets can be seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Viewpoint {
    /// A host of the plan.
    Host(HostId),
    /// An interface of a device.
    Interface(DeviceId, InterfaceId),
    /// Whoever has this address: a peer, or a host that the plan does not declare.
    Address(std::net::IpAddr),
}

/// Endpoints that will do.
#[derive(Debug, Clone)]
pub struct EndSet {
    /// The addresses that are accepted.
    pub addresses: AddressSet,
    /// Their ports; any if `None`.
    pub ports: Option<PortRange>,
    /// The same as written.
    pub text: String,
}

impl EndSet {
    /// Whether an endpoint will do.
    pub fn holds(&self, end: Endpoint) -> bool {
        self.addresses.contains(end.address) && self.ports.is_none_or(|p| p.contains(end.port))
    }
}
