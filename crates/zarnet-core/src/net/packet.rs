//! What of a packet matters to translation.

use std::fmt;
use std::net::IpAddr;

use super::Protocol;

/// An address and a port; port 0 where there is none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Endpoint {
    /// The IP address, of either family.
    pub address: IpAddr,
    /// Port, or query id on the side that asked (RFC 5508 §3.1); 0 for none.
    pub port: u16,
}

impl Endpoint {
    /// An endpoint of an address and a port.
    pub fn new(address: impl Into<IpAddr>, port: u16) -> Self {
        Self { address: address.into(), port }
    }
}

impl fmt::Display for Endpoint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.address, self.port) {
            (a, 0) => a.fmt(f),
            (IpAddr::V4(a), p) => write!(f, "{a}:{p}"),
            (IpAddr::V6(a), p) => write!(f, "[{a}]:{p}"),
        }
    }
}

/// What a packet says about the conversation it belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Signal {
    /// Data, or a protocol without connections.
    Plain,
    /// TCP: SYN without ACK.
    Syn,
    /// TCP: SYN and ACK.
    SynAck,
    /// TCP segment with the FIN flag (RFC 9293).
    Fin,
    /// TCP segment with the RST flag (RFC 9293).
    Rst,
    /// ICMP: a query; its id is the source port.
    Query,
    /// ICMP: the reply to a query; its id is the destination port.
    Reply,
}

impl Signal {
    /// All of them, in order.
    pub(crate) const ALL: [Self; 7] =
        [Self::Plain, Self::Syn, Self::SynAck, Self::Fin, Self::Rst, Self::Query, Self::Reply];
}

/// Source and destination of a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Tuple {
    /// The end that sends.
    pub source: Endpoint,
    /// The end that it is sent to.
    pub destination: Endpoint,
}

impl Tuple {
    /// The two ends swapped: an answer's.
    pub fn reversed(self) -> Self {
        Self { source: self.destination, destination: self.source }
    }
}

impl fmt::Display for Tuple {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} -> {}", self.source, self.destination)
    }
}

/// A packet, as far as translation looks at it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Packet {
    /// Number of the protocol above IP.
    pub protocol: Protocol,
    /// What its header says about the connection.
    pub signal: Signal,
    /// Source and destination, as the packet carries them.
    pub ends: Tuple,
}

/// An ICMP error: who tells whom about which packet (RFC 792, RFC 5508 §4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct IcmpError {
    /// The router or host that reports the error.
    pub from: IpAddr,
    /// Who is told: the sender of the packet, as the one who noticed knows it.
    pub to: IpAddr,
    /// The packet that it is about, as far as it is embedded.
    pub about: Packet,
}

impl Packet {
    /// The first packet of a conversation of `protocol`: a SYN, a query, or plain.
    pub fn first(protocol: Protocol, source: Endpoint, destination: Endpoint) -> Self {
        // looked up, not decided: protocols come in no order
        let kind =
            usize::from(protocol == Protocol::TCP) + 2 * usize::from(protocol.has_query_id());
        let signal = [Signal::Plain, Signal::Syn, Signal::Query, Signal::Query][kind];
        Self { protocol, signal, ends: Tuple { source, destination } }
    }

    /// What an ordinary receiver answers to a first packet.
    pub fn answer(self) -> Self {
        let signal = match self.signal {
            Signal::Syn => Signal::SynAck,
            Signal::Query => Signal::Reply,
            other @ Signal::Plain
            | other @ Signal::SynAck
            | other @ Signal::Fin
            | other @ Signal::Rst
            | other @ Signal::Reply => other,
        };
        Self { signal, ends: self.ends.reversed(), ..self }
    }

    /// The end that sends.
    pub fn source(self) -> Endpoint {
        self.ends.source
    }

    /// The end that it is sent to.
    pub fn destination(self) -> Endpoint {
        self.ends.destination
    }

    /// Whether a conversation may begin with it: for TCP only a SYN, for ICMP only a query.
    pub fn may_begin(self) -> bool {
        match self.protocol {
            Protocol::TCP => self.signal == Signal::Syn,
            p if p.has_query_id() => self.signal == Signal::Query,
            _ => true,
        }
    }
}
