//! What a translation log is made of.

use std::net::IpAddr;

use crate::device::bindings::Cause;
use crate::net::{Endpoint, Instant, Protocol};
use crate::plan::{PoolId, RuleId};
use crate::reason::Reason;

/// An event of a device's translation log.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LogEntry {
    /// When it happened.
    pub at: Instant,
    /// The rule that translated, or had nothing left.
    pub rule: Option<RuleId>,
    /// What happened.
    pub event: LogEvent,
}

/// What happened to what a device hands out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum LogEvent {
    /// A session was made, or ended for a cause (RFC 8158 §4.6.1).
    Session(Translated, Option<Cause>),
    /// A mapping was made, or ended for a cause (RFC 8158 §4.6.3): of an endpoint.
    Mapping(Translated, Option<Cause>),
    /// The same of a whole address (RFC 8158 §4.6.9).
    Address(Translated, Option<Cause>),
    /// A host was given a block of ports, or it was taken back for a cause (RFC 8158 §4.6.10).
    Block(HostBlock, Option<Cause>),
    /// Nothing is left of a pool (RFC 8158 §4.6.5).
    AddressesExhausted(PoolId),
    /// No port of an address is left (RFC 8158 §4.6.6).
    PortsExhausted(IpAddr, Protocol),
    /// A limit is reached (RFC 8158 §4.6.7).
    QuotaExceeded(Quota),
}

/// The ends of a translation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Translated {
    /// Its protocol; `None` is any.
    pub protocol: Option<Protocol>,
    /// Internal end; port 0 for none.
    pub internal: Endpoint,
    /// External end; port 0 for none.
    pub external: Endpoint,
    /// The far end: of a session always, of a mapping where it is for that one only. Port 0 for
    /// any.
    pub peer: Option<Endpoint>,
}

/// A block of ports and the host that has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct HostBlock {
    /// The protocol whose ports they are.
    pub protocol: Protocol,
    /// The internal host.
    pub host: IpAddr,
    /// The external address.
    pub external: IpAddr,
    /// First and last port.
    pub ports: (u16, u16),
}

/// A limit that was reached, and how much it allows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Quota {
    /// Sessions of the device or of a fixed rule.
    Sessions(u32),
    /// Mappings of the device or of a rule.
    Mappings(u32),
    /// Mappings of one host.
    OfHost(u32, IpAddr),
}

/// A packet that was refused.
pub(super) struct RefusedPacket {
    pub rule: Option<RuleId>,
    pub reason: Reason,
    pub targets: [Option<u16>; 2],
    pub protocol: Protocol,
    pub source: IpAddr,
}
