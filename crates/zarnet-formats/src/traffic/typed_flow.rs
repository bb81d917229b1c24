//! A flow as typed.

use zarnet_core::net::{FlowNotation, Instant};
use zarnet_core::traffic::Flow;

use super::clock::Clock;
use super::fields::{Column, Context, Fields};
use super::{Fault, Names};

impl Names {
    /// A flow as typed, that begins at `start`.
    ///
    /// # Errors
    /// What is wrong with its notation, a name or a port.
    pub fn flow(&self, text: &str, start: Instant) -> Result<Flow, Fault> {
        self.flow_of(text, start).map_err(|fault| self.with_hint(fault))
    }

    fn flow_of(&self, text: &str, start: Instant) -> Result<Flow, Fault> {
        let notation: FlowNotation = text.parse().map_err(|error| Fault::Notation { column: "flow", error })?;
        let mut fields = Fields::EMPTY.starting(start);
        let context = &mut Context { names: self, clock: &mut Clock::default() };
        let port = |p: Option<u16>| p.map(|p| p.to_string()).unwrap_or_default();
        let values = [
            (Column::Protocol, notation.protocol.to_string()),
            (Column::Source, notation.source.who.clone()),
            (Column::SourcePort, port(notation.source.port)),
            (Column::Destination, notation.destination.who.clone()),
            (Column::DestinationPort, port(notation.destination.port)),
        ];
        for (column, value) in &values {
            fields.set(*column, value, context)?;
        }
        fields.flow(self)
    }
}
