//! The notation of a flow: `SOURCE[:PORT] -> DESTINATION[:PORT]/PROTOCOL`.

use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

use super::{NotationError, PortRange, Protocol};

/// One end of a flow as written: an address or a name, with or without a port.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PartyNotation {
    /// The address or the name of a host or device.
    pub who: String,
    /// The port, if one is given.
    pub port: Option<u16>,
}

/// A flow as written; names are looked up by whoever has the plan.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FlowNotation {
    /// Name or address of the end that starts the flow.
    pub source: PartyNotation,
    /// Whom it is sent to.
    pub destination: PartyNotation,
    /// Number of the protocol above IP.
    pub protocol: Protocol,
}

impl FromStr for PartyNotation {
    type Err = NotationError;

    fn from_str(text: &str) -> Result<Self, NotationError> {
        let text = text.trim();
        if text.is_empty() {
            return Err(NotationError::Empty);
        }
        let port = |t: &str| match t.parse::<PortRange>() {
            Ok(p) if p.first == p.last => Ok(Some(p.first)),
            _ => Err(NotationError::Port(t.into())),
        };
        if let Some(inner) = text.strip_prefix('[') {
            let (address, rest) =
                inner.split_once(']').ok_or_else(|| NotationError::Address(text.into()))?;
            let port = match rest.strip_prefix(':') {
                Some(p) => port(p)?,
                None if rest.is_empty() => None,
                None => return Err(NotationError::Address(text.into())),
            };
            return Ok(Self { who: address.into(), port });
        }
        match text.split_once(':') {
            Some((who, p)) if !p.contains(':') => {
                Ok(Self { who: who.trim().into(), port: port(p.trim())? })
            }
            _ => Ok(Self { who: text.into(), port: None }), // a name, or a bare IPv6 address
        }
    }
}

impl fmt::Display for PartyNotation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.port, self.who.parse::<IpAddr>()) {
            (None, _) => f.write_str(&self.who),
            (Some(p), Ok(IpAddr::V6(_))) => write!(f, "[{}]:{p}", self.who),
            (Some(p), _) => write!(f, "{}:{p}", self.who),
        }
    }
}

impl FromStr for FlowNotation {
    type Err = NotationError;

    fn from_str(text: &str) -> Result<Self, NotationError> {
        let (source, rest) =
            text.split_once("->").ok_or_else(|| NotationError::Arrow(text.into()))?;
        let (destination, protocol) = rest
            .rsplit_once('/')
            .ok_or_else(|| NotationError::FlowProtocolMissing(rest.trim().into()))?;
        let flow = Self {
            source: source.parse()?,
            destination: destination.parse()?,
            protocol: protocol.trim().parse()?,
        };
        let ends = [&flow.source, &flow.destination].map(|p| p.who.parse::<IpAddr>().ok());
        if let [Some(a), Some(b)] = ends
            && a.is_ipv4() != b.is_ipv4()
        {
            return Err(NotationError::MixedFamilies(text.trim().into()));
        }
        let asks_port = flow.destination.port.is_some()
            || flow.source.port.is_some() && !flow.protocol.has_query_id();
        if asks_port && !flow.protocol.has_ports() {
            return Err(NotationError::PortsNotPossible(flow.protocol.to_string()));
        }
        Ok(flow)
    }
}

impl FlowNotation {
    /// Checks that a flow of it can be sent.
    ///
    /// # Errors
    /// The port is missing that its protocol needs.
    pub fn check_port(&self) -> Result<(), NotationError> {
        let missing = self.protocol.has_ports() && self.destination.port.is_none();
        if missing { Err(NotationError::PortMissing(self.protocol.to_string())) } else { Ok(()) }
    }
}

impl fmt::Display for FlowNotation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} -> {}/{}", self.source, self.destination, self.protocol)
    }
}
