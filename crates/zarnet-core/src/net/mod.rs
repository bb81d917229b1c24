//! The vocabulary: addresses and sets of them, ports, protocols, services, packets, instants.
//!
//! Everything here parses from text and prints back to the same meaning, and knows nothing of plans
//! or devices.

mod address;
mod error;
mod flow;
mod interval_map;
mod octets;
mod packet;
mod prefix_map;
mod protocol;
mod service;
mod set;
mod text;
mod time;

pub use address::{AddressRange, Family, Prefix};
pub(crate) use address::{is_link_local, parse_address};
pub use error::NotationError;
pub use flow::{FlowNotation, PartyNotation};
pub(crate) use interval_map::IntervalMap;
pub use packet::{Endpoint, IcmpError, Packet, Signal, Tuple};
pub use prefix_map::PrefixMap;
pub use protocol::Protocol;
pub use service::{PortRange, Service, ServiceSet};
pub use set::AddressSet;
pub use text::is_hidden;
pub use time::{Instant, parse_span};

#[cfg(test)]
mod tests;
