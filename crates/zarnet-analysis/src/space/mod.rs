//! Sets of packets as a whole: exact, nothing sampled.
//!
//! A [`Diagram`] maps every first packet that comes in by an interface to a number, by a decision
//! over one [`Field`] after the other; equal parts of it are one part. A [`PacketSet`] is a diagram
//! of two numbers. [`decide`] makes the diagram of what a device does: it cuts the packets wherever
//! a condition of the plan changes ([`Conditions`]), and asks the device itself about one packet of
//! each piece, so that no rule's meaning is told twice.

mod boxes;
mod conditions;
mod cut;
mod decide;
mod diagram;
mod meaning;
mod regions;
mod steps;

pub use boxes::{Area, Intervals};
pub use conditions::{Conditions, Constraint};
pub use decide::decide;
pub use diagram::{Diagram, PacketSet};
pub use meaning::{DestinationMeaning, Meaning, SameMeaning, SourceMeaning, meaning};
pub use steps::Steps;

use std::net::IpAddr;

use zarnet_core::net::{Endpoint, Packet, Protocol};

/// What of a first packet matters, in the order in which it is decided on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Field {
    /// Address of the receiver.
    Destination,
    /// Number of the protocol above IP.
    Protocol,
    /// Port that it is sent to; 0 for protocols without.
    DestinationPort,
    /// Address of the sender.
    Source,
    /// Port, or query id, that it is sent from; 0 for protocols without.
    SourcePort,
}

impl Field {
    /// All of them, in order.
    pub const ALL: [Self; 5] =
        [Self::Destination, Self::Protocol, Self::DestinationPort, Self::Source, Self::SourcePort];

    /// The highest number of it; the lowest is 0.
    pub fn most(self) -> u128 {
        match self {
            Self::Destination | Self::Source => u128::MAX,
            Self::Protocol => 255,
            Self::DestinationPort | Self::SourcePort => 65_535,
        }
    }
}

/// A packet as five numbers, in the order of [`Field::ALL`].
pub type Point = [u128; 5];

/// IPv4 addresses stand where IPv6 has those that are mapped (RFC 4291 §2.5.5.2), which no packet
/// carries.
const MAPPED: u128 = 0xffff << 32;

/// An address as a number.
pub fn number(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(a) => MAPPED | u128::from(a.to_bits()),
        IpAddr::V6(a) => a.to_bits(),
    }
}

/// Whether the address of a number is one of IPv4.
fn is_ipv4(number: u128) -> bool {
    number & !0xffff_ffff == MAPPED
}

/// The address of a number.
pub fn address(number: u128) -> IpAddr {
    if is_ipv4(number) { IpAddr::V4((number as u32).into()) } else { IpAddr::V6(number.into()) }
}

/// A packet as a point.
pub fn point(packet: Packet) -> Point {
    let (from, to) = (packet.source(), packet.destination());
    [
        number(to.address),
        packet.protocol.0.into(),
        to.port.into(),
        number(from.address),
        from.port.into(),
    ]
}

/// The first packet at a point; `None` where its two ends are of two families.
pub fn packet([to, protocol, to_port, from, from_port]: Point) -> Option<Packet> {
    let (from, to, protocol) = (address(from), address(to), Protocol(protocol as u8));
    if from.is_ipv4() != to.is_ipv4() {
        return None;
    }
    let to_port = if protocol.has_ports() { to_port as u16 } else { 0 };
    let from_port = if protocol.is_multiplexed() { from_port as u16 } else { 0 };
    Some(Packet::first(protocol, Endpoint::new(from, from_port), Endpoint::new(to, to_port)))
}
