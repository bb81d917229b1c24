//! A flow as typed.

use zarnet_core::net::{FlowNotation, Instant};
use zarnet_core::traffic::Flow;

use super::fields::party;
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
        let wrong = |error| Fault::Notation { column: "flow", error };
        let notation: FlowNotation = text.parse().map_err(wrong)?;
        let source = party(&notation.source.who, "source", self)?;
        let destination = party(&notation.destination.who, "destination", self)?;
        notation.check_port().map_err(|_| Fault::PortMissing(notation.protocol.to_string()))?;
        Ok(Flow::of_notation(&notation, source, destination, start))
    }
}
