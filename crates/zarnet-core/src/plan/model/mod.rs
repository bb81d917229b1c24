//! A plan in which everything is resolved. What cannot be right cannot be written down here.

mod device;
mod passage;
mod rule;

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

use super::{Expectation, Place};
use crate::ids::{DeviceId, HostId, SegmentId};
use crate::net::{AddressSet, Prefix, ServiceSet};

pub use device::{DevicePlan, Interface, Route, RouteCondition};
pub use passage::{Acl, AclEntry, InterfaceSet, Parties, Policy, RealmSet, Verdict};
pub use rule::{
    Direction, External, Fallback, Forward, Log, Pool, Rule, RuleKind, Server, Spread, Static,
    Target, Written,
};

/// A whole plan, in which no name dangles.
#[derive(Debug, Clone, Default)]
pub struct Plan {
    /// What it is called.
    pub title: String,
    /// Segments, the inferred ones last.
    pub segments: Vec<Segment>,
    /// Hosts in the order of the plan, then those that are inferred.
    pub hosts: Vec<Host>,
    /// Devices in the order of the plan; shared with whatever is made after them.
    pub devices: Vec<Arc<DevicePlan>>,
    /// The named sets of addresses.
    pub groups: BTreeMap<String, AddressSet>,
    /// What must hold, as `[[expect]]` says.
    pub expectations: Vec<Expectation>,
    /// Findings that are not to be told, by name.
    pub allow: Vec<String>,
    /// Findings that count as errors, by name.
    pub deny: Vec<String>,
}

impl Plan {
    /// The device of this name.
    pub fn device(&self, name: &str) -> Option<DeviceId> {
        self.devices.iter().position(|d| d.name == name).map(|i| DeviceId(i as u16))
    }

    /// The host of this name.
    pub fn host(&self, name: &str) -> Option<HostId> {
        self.hosts.iter().position(|h| h.name == name).map(|i| HostId(i as u32))
    }
}

/// One layer-2 network: a broadcast domain.
#[derive(Debug, Clone)]
pub struct Segment {
    /// Its name; the name of an interface on it where it was inferred.
    pub name: String,
    /// Whether nobody named it: then its prefix tells it from others, not its name.
    pub inferred: bool,
    /// Whether it stands for the public network.
    pub internet: bool,
    /// Whether it takes no packet from a source that is not of the line it comes in by (RFC 2827).
    pub checks_source: bool,
    /// What is routed to somebody on it.
    pub routed: Vec<Routed>,
    /// Where it stands; of an inferred one, what it was inferred from.
    pub place: Place,
}

/// A prefix and who on the segment gets its packets.
#[derive(Debug, Clone)]
pub struct Routed {
    /// The prefix that is routed there.
    pub to: Prefix,
    /// Address of the next hop.
    pub via: IpAddr,
    /// Where it stands in the plan's files.
    pub place: Place,
}

/// A machine that sends and answers.
#[derive(Debug, Clone)]
pub struct Host {
    /// Name of the host, unique among hosts and devices.
    pub name: String,
    /// The address of the host.
    pub address: IpAddr,
    /// What it takes to be on its link.
    pub prefix: Prefix,
    /// Address of its default gateway.
    pub gateway: Option<IpAddr>,
    /// What it answers; everything if `None`.
    pub listens: Option<ServiceSet>,
    /// The segment it is on.
    pub segment: SegmentId,
    /// Where it stands in the plan's files.
    pub place: Place,
}
