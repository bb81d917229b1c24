//! Ports, port ranges and services: `443/tcp`, `16384-16484/udp`, `icmp`, `any`.

use std::fmt;
use std::str::FromStr;

use super::{NotationError, Protocol};

/// Ports from `first` to `last`, both included.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct PortRange {
    /// The lowest port of the range.
    pub first: u16,
    /// The highest port of the range.
    pub last: u16,
}

impl PortRange {
    /// Every port number, 0 included.
    pub const ALL: Self = Self { first: 0, last: u16::MAX };

    /// Whether `port` lies in the range.
    pub fn contains(self, port: u16) -> bool {
        self.first <= port && port <= self.last
    }

    /// Number of ports, 1 to 65,536.
    pub fn count(self) -> u32 {
        u32::from(self.last - self.first) + 1
    }

    /// Whether the two have a port in common.
    pub fn intersects(self, other: Self) -> bool {
        self.first <= other.last && other.first <= self.last
    }
}

impl FromStr for PortRange {
    type Err = NotationError;

    fn from_str(text: &str) -> Result<Self, NotationError> {
        let port = |t: &str| match t.trim() {
            t if t.is_empty() || !t.bytes().all(|c| c.is_ascii_digit()) => {
                Err(NotationError::Port(t.into()))
            }
            t => t
                .parse::<u16>()
                .ok()
                .filter(|&p| p > 0)
                .ok_or_else(|| NotationError::Port(t.into())),
        };
        let (first, last) = text.split_once('-').unwrap_or((text, text));
        let range = Self { first: port(first)?, last: port(last)? };
        if range.first > range.last { Err(NotationError::Reversed(text.into())) } else { Ok(range) }
    }
}

impl fmt::Display for PortRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.first == self.last {
            self.first.fmt(f)
        } else {
            write!(f, "{}-{}", self.first, self.last)
        }
    }
}

/// A protocol, or any, and the ports of it that are meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Service {
    /// The protocol; `None` is any.
    pub protocol: Option<Protocol>,
    /// The ports; all of them where the protocol has none.
    pub ports: PortRange,
}

impl Service {
    /// Every protocol and port.
    pub const ANY: Self = Self { protocol: None, ports: PortRange::ALL };

    /// Whether a packet of `protocol` with this port is meant.
    pub fn holds(self, protocol: Protocol, port: u16) -> bool {
        self.protocol.is_none_or(|p| p == protocol)
            && (!protocol.has_ports() || self.ports.contains(port))
    }

    /// Whether the two have a packet in common.
    pub fn intersects(self, other: Self) -> bool {
        let protocols = match (self.protocol, other.protocol) {
            (Some(a), Some(b)) => a == b,
            _ => true,
        };
        protocols && self.ports.intersects(other.ports)
    }
}

impl FromStr for Service {
    type Err = NotationError;

    fn from_str(text: &str) -> Result<Self, NotationError> {
        let text = text.trim();
        if text.is_empty() {
            return Err(NotationError::Empty);
        }
        if text == "any" {
            return Ok(Self::ANY);
        }
        let Some((ports, protocol)) = text.split_once('/') else {
            return match text.parse::<Protocol>() {
                Ok(p) if p.name().is_some() => {
                    Ok(Self { protocol: Some(p), ports: PortRange::ALL })
                }
                Ok(_) => Err(NotationError::ProtocolMissing(text.into())),
                Err(_) if text.parse::<PortRange>().is_ok() => {
                    Err(NotationError::ProtocolMissing(text.into()))
                }
                Err(e) => Err(e),
            };
        };
        let protocol: Protocol = protocol.trim().parse()?;
        if ports.trim() == "any" {
            return Ok(Self { protocol: Some(protocol), ports: PortRange::ALL });
        }
        let ports = ports.parse()?;
        if !protocol.has_ports() {
            return Err(NotationError::PortsNotPossible(protocol.to_string()));
        }
        Ok(Self { protocol: Some(protocol), ports })
    }
}

impl fmt::Display for Service {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.protocol {
            None => f.write_str("any"),
            Some(p) if self.ports != PortRange::ALL => write!(f, "{}/{p}", self.ports),
            Some(p) if p.name().is_none() => write!(f, "any/{p}"),
            Some(p) => p.fmt(f),
        }
    }
}

/// Several services; empty holds nothing.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ServiceSet(pub Vec<Service>);

impl ServiceSet {
    /// Every protocol and port.
    pub fn any() -> Self {
        Self(vec![Service::ANY])
    }

    /// Whether every packet is meant.
    pub fn is_any(&self) -> bool {
        self.0.contains(&Service::ANY)
    }

    /// Whether a packet of `protocol` with this port is meant.
    pub fn holds(&self, protocol: Protocol, port: u16) -> bool {
        self.0.iter().any(|s| s.holds(protocol, port))
    }

    /// Whether the two have a packet in common.
    pub fn intersects(&self, other: &Self) -> bool {
        self.0.iter().any(|a| other.0.iter().any(|b| a.intersects(*b)))
    }

    /// The one protocol of all its services.
    pub fn protocol(&self) -> Option<Protocol> {
        let first = self.0.first()?.protocol?;
        self.0.iter().all(|s| s.protocol == Some(first)).then_some(first)
    }
}

impl fmt::Display for ServiceSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, service) in self.0.iter().enumerate() {
            write!(f, "{}{service}", if i == 0 { "" } else { ", " })?;
        }
        Ok(())
    }
}
