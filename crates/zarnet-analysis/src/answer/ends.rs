//! Addresses, ports and protocols as JSON has them.

use std::net::IpAddr;

use serde::Serialize;
use serde::ser::Serializer;
use zarnet_core::net::{Endpoint, Protocol, Tuple};

/// An address and a port.
#[derive(Debug, Clone, Copy, Serialize)]
pub struct End {
    /// IP address of the end.
    pub address: IpAddr,
    /// The port; `null` for none.
    pub port: Option<u16>,
}

impl From<Endpoint> for End {
    fn from(end: Endpoint) -> Self {
        Self { address: end.address, port: (end.port > 0).then_some(end.port) }
    }
}

/// Source and destination of a tuple.
#[derive(Debug, Clone, Copy, Serialize)]
pub struct Pair {
    /// The end that sends.
    pub source: End,
    /// The end that it is sent to.
    pub destination: End,
}

impl From<Tuple> for Pair {
    fn from(tuple: Tuple) -> Self {
        Self { source: tuple.source.into(), destination: tuple.destination.into() }
    }
}

/// A protocol by name, or by number as text.
#[derive(Debug, Clone, Copy)]
pub struct ProtocolName(pub Option<Protocol>);

impl ProtocolName {
    /// The name, where there is one.
    pub fn known(self) -> Option<&'static str> {
        self.0.map_or(Some("any"), Protocol::name)
    }
}

impl std::fmt::Display for ProtocolName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (self.known(), self.0) {
            (Some(name), _) => f.pad(name),
            (None, Some(protocol)) => protocol.fmt(f),
            (None, None) => Ok(()),
        }
    }
}

impl Serialize for ProtocolName {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_str(self)
    }
}
