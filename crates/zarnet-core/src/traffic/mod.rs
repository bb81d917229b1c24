//! What is sent: flows and packets of a capture.

mod load;
mod repeat;

use std::net::IpAddr;

use crate::ids::{DeviceId, HostId, InterfaceId};
use crate::net::{FlowNotation, IcmpError, Instant, Packet, Protocol};

pub use load::{Crowd, Length, Load, LoadFlows};
pub use repeat::{Repeated, RepeatedFlows};

/// One end of a flow.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Party {
    /// An address, wherever it is.
    Address(IpAddr),
    /// A host of the plan.
    Host(HostId),
    /// A device of the plan, as a source: its own traffic, from the interface that it leaves by.
    Device(DeviceId),
    /// A device of the plan, as a source: its own traffic, from the address of this interface.
    Interface(DeviceId, InterfaceId),
}

/// How a flow ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Ending {
    /// TCP: FIN both ways with the last packet.
    Close,
    /// TCP: RST with the last packet.
    Reset,
    /// The flow stops without a closing packet.
    Silent,
}

/// One round trip in nanoseconds, where the flow gives none.
const ROUND_TRIP: u64 = 1_000_000;

/// One conversation from its first packet to its last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Flow {
    /// When its first packet is sent.
    pub start: Instant,
    /// Number of the protocol above IP.
    pub protocol: Protocol,
    /// The host or device that starts the flow.
    pub source: Party,
    /// Source port or query id; the sender's next ephemeral one if left out.
    pub source_port: Option<u16>,
    /// Whom it is for.
    pub destination: Party,
    /// Destination port; `None` for protocols without.
    pub destination_port: Option<u16>,
    /// From the first packet to the last, in nanoseconds.
    pub lasts: u64,
    /// How it ends; `close` for TCP and nothing for others if left out.
    pub ending: Option<Ending>,
    /// Time to the answer, in nanoseconds; a millisecond if left out.
    pub round_trip: Option<u64>,
}

impl Flow {
    /// A flow as written, once its parties are known: no longer than it takes to be answered.
    pub fn of_notation(
        notation: &FlowNotation,
        source: Party,
        destination: Party,
        start: Instant,
    ) -> Self {
        let (source_port, destination_port) = (notation.source.port, notation.destination.port);
        let (protocol, lasts, ending, round_trip) = (notation.protocol, 0, None, None);
        Self {
            start,
            protocol,
            source,
            source_port,
            destination,
            destination_port,
            lasts,
            ending,
            round_trip,
        }
    }

    /// How it ends, with the default of its protocol.
    pub fn ending(&self) -> Ending {
        // looked up, not decided: protocols come in no order
        [Ending::Silent, self.ending.unwrap_or(Ending::Close)]
            [usize::from(self.protocol == Protocol::TCP)]
    }

    /// When the answer to its first packet is sent.
    pub fn answered_at(&self) -> Instant {
        Instant(self.start.0.saturating_add(self.round_trip.unwrap_or(ROUND_TRIP)))
    }

    /// When its last packet is sent.
    pub fn ends_at(&self) -> Instant {
        let span = self.lasts.max(self.round_trip.unwrap_or(ROUND_TRIP));
        Instant(self.start.0.saturating_add(span))
    }
}

/// A packet of a capture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Seen {
    /// When the packet is seen.
    pub at: Instant,
    /// The device that it comes to.
    pub device: DeviceId,
    /// On which of its interfaces.
    pub interface: InterfaceId,
    /// The packet as it was captured.
    pub packet: Packet,
}

/// An ICMP error of a capture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SeenError {
    /// When the error is seen.
    pub at: Instant,
    /// The device that it comes to.
    pub device: DeviceId,
    /// On which of its interfaces.
    pub interface: InterfaceId,
    /// The ICMP error as it was captured.
    pub error: IcmpError,
}

/// Something that is sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Item {
    /// A flow from its first packet to its last.
    Flow(Flow),
    /// A packet that was seen.
    Seen(Seen),
    /// An ICMP error that was seen. It is no flow, and changes nothing.
    Error(SeenError),
}

impl Item {
    /// When the item begins.
    pub fn at(&self) -> Instant {
        match self {
            Self::Flow(flow) => flow.start,
            Self::Seen(seen) => seen.at,
            Self::Error(seen) => seen.at,
        }
    }
}

/// Items that come many at a time: to be asked for each would cost more than most of them take.
pub trait Batches {
    /// Why no more can be read.
    type Error;

    /// Adds the next items to a batch until it holds `most` of them or there are no more, or gives
    /// the reason why the next one cannot be read.
    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<Self::Error>;
}

/// Items that come one by one, for few of them: the slow way.
#[derive(Debug, Clone)]
pub struct OneByOne<I>(pub I);

impl<I: Iterator<Item = Result<Item, E>>, E> Batches for OneByOne<I> {
    type Error = E;

    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<E> {
        while batch.len() < most {
            match self.0.next()? {
                Ok(item) => batch.push(item),
                Err(error) => return Some(error),
            }
        }
        None
    }
}
