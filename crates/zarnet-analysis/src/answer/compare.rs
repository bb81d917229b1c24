//! The answer of `compare`: what differs between the predicted table and the one that a device has.

use std::io::{self, Write};

use crate::compare::{Comparison, Difference};
use serde::Serialize;
use zarnet_core::net::Endpoint;
use zarnet_core::plan::DeviceId;
use zarnet_core::predict::Prediction;
use zarnet_formats::observed::Observed;

use super::ends::{End, ProtocolName};
use super::predict::{Mapping, mapping};
use super::{Answer, Row, SHAPE};

/// What was compared, and with what.
#[derive(Clone, Copy)]
pub struct CompareAnswer<'a> {
    /// The prediction that was compared.
    pub prediction: &'a Prediction,
    /// The result of the comparison.
    pub comparison: &'a Comparison,
}

/// The answer as a shape.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct CompareShape<'a> {
    shape: u32,
    at: f64,
    same: u64,
    fixed_not_listed: u64,
    differences: Vec<Entry<'a>>,
}

#[derive(Serialize)]
struct Entry<'a> {
    kind: &'static str,
    cause: &'static str,
    predicted: Option<Mapping<'a>>,
    observed: Option<Seen<'a>>,
}

#[derive(Serialize)]
struct Seen<'a> {
    device: &'a str,
    protocol: ProtocolName,
    internal: End,
    external: End,
    peer: Option<End>,
    line: u64,
}

impl<'a> CompareAnswer<'a> {
    /// Name of a device.
    pub fn device(self, id: DeviceId) -> &'a str {
        &self.prediction.plan.devices[id.index()].name
    }

    fn whole(self) -> CompareShape<'a> {
        let seen = |o: Observed| Seen {
            device: self.device(o.device),
            protocol: ProtocolName(o.protocol),
            internal: o.internal.into(),
            external: o.external.into(),
            peer: o.peer.map(End::from),
            line: o.line,
        };
        let entry = |d: &Difference| Entry {
            kind: d.kind.name(),
            cause: d.why.name(),
            predicted: d
                .predicted
                .map(|(device, row)| mapping(&self.prediction.plan, device, &row)),
            observed: d.observed.map(seen),
        };
        CompareShape {
            shape: SHAPE,
            at: self.prediction.at.seconds(),
            same: self.comparison.same,
            fixed_not_listed: self.comparison.fixed_not_listed,
            differences: self.comparison.differences.iter().map(entry).collect(),
        }
    }
}

/// What both sides of a difference have in common, and what not.
pub struct Parts {
    /// The device that has, or would have, the entry.
    pub device: Option<DeviceId>,
    /// Protocol of the entry.
    pub protocol: ProtocolName,
    /// Internal end of the entry.
    pub internal: Option<Endpoint>,
    /// External end as predicted.
    pub predicted: Option<Endpoint>,
    /// External end as observed.
    pub observed: Option<Endpoint>,
}

impl Parts {
    /// The parts of a difference.
    pub fn of(d: &Difference) -> Self {
        let (predicted, observed) = (d.predicted.map(|p| p.1), d.observed);
        let protocol = observed.and_then(|o| o.protocol).or(predicted.and_then(|p| p.protocol));
        Self {
            device: d.predicted.map(|p| p.0).or(observed.map(|o| o.device)),
            protocol: ProtocolName(protocol),
            internal: predicted.map(|p| p.internal).or(observed.map(|o| o.internal)),
            predicted: predicted.map(|p| p.external),
            observed: observed.map(|o| o.external),
        }
    }
}

impl Answer for CompareAnswer<'_> {
    type Shape<'s>
        = CompareShape<'s>
    where
        Self: 's;

    fn shape(&self) -> Self::Shape<'_> {
        self.whole()
    }

    fn columns(&self) -> &'static [&'static str] {
        &[
            "kind",
            "cause",
            "device",
            "protocol",
            "internal",
            "internal-port",
            "predicted",
            "predicted-port",
            "observed",
            "observed-port",
            "line",
        ]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for d in &self.comparison.differences {
            let parts = Parts::of(d);
            row.text(d.kind.name());
            row.text(d.why.name());
            row.text(parts.device.map_or("", |d| self.device(d)));
            row.text(&parts.protocol.to_string());
            row.end(parts.internal);
            row.end(parts.predicted);
            row.end(parts.observed);
            row.text(&d.observed.map(|o| o.line.to_string()).unwrap_or_default());
            row.write(out)?;
        }
        Ok(())
    }
}
