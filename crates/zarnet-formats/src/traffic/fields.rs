//! The fields of a flow, whatever the format they come in.

use std::net::IpAddr;

use zarnet_core::net::{Instant, NotationError, Protocol, parse_span};
use zarnet_core::plan::nearest;
use zarnet_core::traffic::Ending;
use zarnet_core::traffic::{Flow, Party};

use super::clock::{Clock, plain_seconds, within_a_century};
use super::{Fault, Names};

/// A column of a flow list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Column {
    Start,
    Protocol,
    Source,
    SourcePort,
    Destination,
    DestinationPort,
    Lasts,
    Ends,
    RoundTrip,
}

/// The columns of a flow list, by name.
pub(super) const COLUMNS: [(&str, Column); 9] = [
    ("start", Column::Start),
    ("protocol", Column::Protocol),
    ("source", Column::Source),
    ("source-port", Column::SourcePort),
    ("destination", Column::Destination),
    ("destination-port", Column::DestinationPort),
    ("lasts", Column::Lasts),
    ("ends", Column::Ends),
    ("round-trip", Column::RoundTrip),
];

impl Column {
    /// The column of this name.
    pub(super) fn named(name: &str) -> Result<Self, Fault> {
        let name = name.trim();
        COLUMNS.iter().find(|c| c.0 == name).map(|c| c.1).ok_or_else(|| {
            let near = nearest(name, COLUMNS.iter().map(|c| c.0));
            let near = COLUMNS.iter().map(|c| c.0).find(|c| Some(*c) == near.as_deref());
            Fault::UnknownColumn { name: name.into(), near }
        })
    }

    /// Checks that a list has what a flow needs, and nothing twice.
    pub(super) fn check(columns: &[Self]) -> Result<(), Fault> {
        for (name, column) in COLUMNS {
            let count = columns.iter().filter(|c| **c == column).count();
            let needed =
                matches!(column, Self::Start | Self::Protocol | Self::Source | Self::Destination);
            if needed && count == 0 {
                return Err(Fault::MissingColumn(name));
            }
            if count > 1 {
                return Err(Fault::ColumnTwice(name.into()));
            }
        }
        Ok(())
    }
}

/// A way to end, by its name.
pub(super) fn ending(text: &str) -> Result<Ending, Fault> {
    Ok(match text {
        "close" => Ending::Close,
        "reset" => Ending::Reset,
        "silent" => Ending::Silent,
        _ => return Err(Fault::UnknownEnding { value: text.into() }),
    })
}

/// A flow whose fields are being read.
#[derive(Debug, Clone, Copy)]
pub(super) struct Fields {
    start: Option<Instant>,
    protocol: Option<Protocol>,
    source: Option<Party>,
    source_port: Option<u16>,
    destination: Option<Party>,
    destination_port: Option<u16>,
    lasts: u64,
    ending: Option<Ending>,
    round_trip: Option<u64>,
}

/// What fields are read with.
pub(super) struct Context<'a> {
    pub names: &'a Names,
    pub clock: &'a mut Clock,
}

impl Fields {
    pub(super) const EMPTY: Self = Self {
        start: None,
        protocol: None,
        source: None,
        source_port: None,
        destination: None,
        destination_port: None,
        lasts: 0,
        ending: None,
        round_trip: None,
    };

    /// Enters a field; an empty one counts as left out.
    #[inline]
    pub(super) fn set(
        &mut self,
        column: Column,
        text: &str,
        context: &mut Context<'_>,
    ) -> Result<(), Fault> {
        if text.is_empty() {
            return Ok(());
        }
        match column {
            Column::Start => self.start = Some(context.clock.parse(text)?),
            Column::Protocol => self.protocol = Some(protocol(text)?),
            Column::Source => self.source = Some(party(text, "source", context.names)?),
            Column::SourcePort => self.source_port = Some(port(text, "source-port")?),
            Column::Destination => {
                self.destination = Some(party(text, "destination", context.names)?)
            }
            Column::DestinationPort => {
                self.destination_port = Some(port(text, "destination-port")?)
            }
            Column::Lasts => self.lasts = span(text, "lasts")?,
            Column::RoundTrip => self.round_trip = Some(span(text, "round-trip")?),
            Column::Ends => {
                self.ending = Some(ending(text)?);
            }
        }
        Ok(())
    }

    /// The flow, if its fields go together.
    #[inline]
    pub(super) fn flow(self, names: &Names) -> Result<Flow, Fault> {
        let needed = |name| move || Fault::MissingColumn(name);
        let start = self.start.ok_or_else(needed("start"))?;
        let protocol = self.protocol.ok_or_else(needed("protocol"))?;
        let source = self.source.ok_or_else(needed("source"))?;
        let destination = self.destination.ok_or_else(needed("destination"))?;
        if protocol.has_ports() {
            if self.destination_port.is_none() {
                return Err(Fault::PortMissing(protocol.to_string()));
            }
        } else if self.destination_port.is_some_and(|p| p > 0)
            || !protocol.has_query_id() && self.source_port.is_some_and(|p| p > 0)
        {
            return Err(Fault::PortNotPossible(protocol.to_string()));
        }
        let family = |p| names.address(p).map(|a: IpAddr| a.is_ipv4());
        if let (Some(a), Some(b)) = (family(source), family(destination))
            && a != b
            && matches!((source, destination), (Party::Address(_), Party::Address(_)))
        {
            return Err(Fault::MixedFamilies);
        }
        let source_port = self.source_port.filter(|_| protocol.is_multiplexed());
        let destination_port = self.destination_port.filter(|_| protocol.has_ports());
        let (lasts, ending, round_trip) = (self.lasts, self.ending, self.round_trip);
        Ok(Flow {
            start,
            protocol,
            source,
            source_port,
            destination,
            destination_port,
            lasts,
            ending,
            round_trip,
        })
    }
}

#[inline]
fn protocol(text: &str) -> Result<Protocol, Fault> {
    match text {
        "tcp" => Ok(Protocol::TCP),
        "udp" => Ok(Protocol::UDP),
        _ => text.parse().map_err(|error| Fault::Notation { column: "protocol", error }),
    }
}

#[inline]
pub(super) fn party(text: &str, column: &'static str, names: &Names) -> Result<Party, Fault> {
    names.party(text).map_err(|fault| match fault {
        Fault::Notation { error, .. } => Fault::Notation { column, error },
        other => other,
    })
}

/// A port or query id, 0 included: a query may have it.
#[inline]
fn port(text: &str, column: &'static str) -> Result<u16, Fault> {
    let digits = text.bytes().all(|c| c.is_ascii_digit());
    text.parse()
        .ok()
        .filter(|_| digits)
        .ok_or_else(|| Fault::Notation { column, error: NotationError::Port(text.into()) })
}

#[inline]
pub(super) fn span(text: &str, column: &'static str) -> Result<u64, Fault> {
    if let Some(instant) = plain_seconds(text.as_bytes()) {
        return Ok(instant.0);
    }
    let span = parse_span(text).map_err(|error| match text.strip_prefix('-') {
        Some(rest) if !rest.is_empty() => Fault::NegativeTime(text.into()),
        _ => Fault::Notation { column, error },
    })?;
    within_a_century(u64::try_from(span.as_nanos()).unwrap_or(u64::MAX), text)
}
