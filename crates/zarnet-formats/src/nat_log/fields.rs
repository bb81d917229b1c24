//! The fields of an event by their names, as syslog and CSV have them.

use std::io::Write;
use std::net::IpAddr;

use zarnet_core::net::Protocol;

use super::{EventKind, LogNames, Name, TranslationEvent, cause_name, cause_of_name};

/// A field of an event.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Field {
    Event,
    Device,
    Protocol,
    Internal,
    InternalPort,
    External,
    ExternalPort,
    LastPort,
    Peer,
    PeerPort,
    Rule,
    EndedBy,
    Pool,
    Limit,
}

/// Every field and its name, in the order in which they are written.
pub(super) const FIELDS: [(Field, &str); 14] = [
    (Field::Event, "event"),
    (Field::Device, "device"),
    (Field::Protocol, "protocol"),
    (Field::Internal, "internal"),
    (Field::InternalPort, "internal-port"),
    (Field::External, "external"),
    (Field::ExternalPort, "external-port"),
    (Field::LastPort, "last-port"),
    (Field::Peer, "peer"),
    (Field::PeerPort, "peer-port"),
    (Field::Rule, "rule"),
    (Field::EndedBy, "ended-by"),
    (Field::Pool, "pool"),
    (Field::Limit, "limit"),
];

impl Field {
    pub(super) fn of_name(name: &str) -> Option<Self> {
        FIELDS.iter().find(|f| f.1 == name).map(|f| f.0)
    }

    /// Appends the value that an event has for it. `false`: it has none.
    pub(super) fn write(
        self,
        event: &TranslationEvent,
        names: &LogNames,
        out: &mut Vec<u8>,
    ) -> bool {
        let mut name = |name: Option<Name>| {
            name.is_some_and(|name| {
                out.extend(names.get(name).as_bytes());
                true
            })
        };
        match self {
            Self::Event => show(Some(event.kind.name()), out),
            Self::Device => name(Some(event.device)),
            Self::Protocol => show(event.protocol, out),
            Self::Internal => show(event.internal, out),
            Self::InternalPort => show(event.internal_port, out),
            Self::External => show(event.external, out),
            Self::ExternalPort => show(event.external_port, out),
            Self::LastPort => show(event.last_port, out),
            Self::Peer => show(event.peer, out),
            Self::PeerPort => show(event.peer_port, out),
            Self::Rule => name(event.rule),
            Self::EndedBy => show(event.cause.map(cause_name), out),
            Self::Pool => name(event.pool),
            Self::Limit => show(event.limit, out),
        }
    }
}

fn show(value: Option<impl std::fmt::Display>, out: &mut Vec<u8>) -> bool {
    value.is_some_and(|value| write!(out, "{value}").is_ok())
}

/// An event whose fields come one after the other.
#[derive(Debug, Default)]
pub(super) struct EventDraft {
    pub kind: Option<EventKind>,
    pub device: Option<Name>,
    protocol: Option<Protocol>,
    internal: Option<IpAddr>,
    internal_port: Option<u16>,
    external: Option<IpAddr>,
    external_port: Option<u16>,
    last_port: Option<u16>,
    peer: Option<IpAddr>,
    peer_port: Option<u16>,
    rule: Option<Name>,
    cause: Option<zarnet_core::device::EndCause>,
    pool: Option<Name>,
    limit: Option<u32>,
}

/// A value that stands for none, as exports write it.
fn is_none(value: &str) -> bool {
    matches!(value, "" | "-" | "any" | "none")
}

impl EventDraft {
    /// Takes the value of a field. `None`: it cannot be one.
    pub(super) fn take(&mut self, field: Field, value: &str, names: &mut LogNames) -> Option<()> {
        let value = value.trim();
        if is_none(value) {
            return Some(());
        }
        match field {
            Field::Event => self.kind = Some(EventKind::of_name(value)?),
            Field::Device => self.device = Some(names.obtain(value)),
            Field::Protocol => {
                self.protocol = Some(value.to_ascii_lowercase().parse().ok()?);
            }
            Field::Internal => {
                (self.internal, self.internal_port) = end(value, self.internal_port)?;
            }
            Field::InternalPort => self.internal_port = Some(value.parse().ok()?),
            Field::External => {
                (self.external, self.external_port) = end(value, self.external_port)?;
            }
            Field::ExternalPort => match value.split_once('-') {
                Some((first, last)) => {
                    self.external_port = Some(first.trim().parse().ok()?);
                    self.last_port = Some(last.trim().parse().ok()?);
                }
                None => self.external_port = Some(value.parse().ok()?),
            },
            Field::LastPort => self.last_port = Some(value.parse().ok()?),
            Field::Peer => (self.peer, self.peer_port) = end(value, self.peer_port)?,
            Field::PeerPort => self.peer_port = Some(value.parse().ok()?),
            Field::Rule => self.rule = Some(names.obtain(value)),
            // another device's reason is none of ours
            Field::EndedBy => self.cause = cause_of_name(value),
            Field::Pool => self.pool = Some(names.obtain(value)),
            Field::Limit => self.limit = Some(value.parse().ok()?),
        }
        Some(())
    }

    /// Whether it is about a block of ports.
    pub(super) fn has_block(&self) -> bool {
        self.last_port.is_some() && self.last_port != self.external_port
    }

    /// The event, if that makes one.
    pub(super) fn event(&self, at: i64, kind: EventKind, device: Name) -> Option<TranslationEvent> {
        let event = TranslationEvent {
            at,
            kind,
            device,
            protocol: self.protocol,
            internal: self.internal,
            internal_port: self.internal_port,
            external: self.external,
            external_port: self.external_port,
            last_port: self.last_port,
            peer: self.peer,
            peer_port: self.peer_port,
            rule: self.rule,
            cause: self.cause,
            pool: self.pool,
            limit: self.limit,
        };
        event.lacks().is_none().then_some(event)
    }
}

/// An address, or one with its port.
fn end(text: &str, port: Option<u16>) -> Option<(Option<IpAddr>, Option<u16>)> {
    if let Ok(address) = text.parse() {
        return Some((Some(address), port));
    }
    let end: std::net::SocketAddr = text.parse().ok()?;
    Some((Some(end.ip()), Some(end.port())))
}
