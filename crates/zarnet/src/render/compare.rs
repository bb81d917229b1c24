//! The answer of `compare`: what differs between the predicted table and the one that a device has.

use std::collections::BTreeMap;
use std::io::{self, Write};

use serde::Serialize;
use zarnet_analysis::compare::{Comparison, Difference, Kind, Why};
use zarnet_core::net::Endpoint;
use zarnet_core::plan::DeviceId;
use zarnet_core::predict::Prediction;
use zarnet_formats::observed::Observed;

use super::answer::{End, Mapping, ProtocolName, mapping};
use super::csv::Row;
use super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count};

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
    fn device(self, id: DeviceId) -> &'a str {
        &self.prediction.plan.devices[id.index()].name
    }

    /// The whole answer as JSON has it.
    pub fn shape(self) -> CompareShape<'a> {
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
            shape: 1,
            at: self.prediction.at.seconds(),
            same: self.comparison.same,
            fixed_not_listed: self.comparison.fixed_not_listed,
            differences: self.comparison.differences.iter().map(entry).collect(),
        }
    }

    /// A row for each difference.
    pub fn csv(self, out: &mut dyn Write) -> io::Result<()> {
        out.write_all(
            b"kind,cause,device,protocol,internal,internal-port,predicted,predicted-port,\
              observed,observed-port,line\n",
        )?;
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

    /// Writes the answer as text.
    pub fn text(self, out: &mut dyn Write, width: usize, rows: usize) -> io::Result<()> {
        let c = self.comparison;
        let entries = count(c.same, "entry is", "entries are");
        if c.differences.is_empty() {
            writeln!(
                out,
                "{GOOD}the tables agree{GOOD:#}: {entries} as predicted at {}",
                self.prediction.at
            )?;
            return self.footer(out);
        }
        writeln!(out, "{BOLD}Differences{BOLD:#} of the tables at {}", self.prediction.at)?;
        let columns = [
            Column::text("KIND"),
            Column::text("CAUSE"),
            Column::text("DEVICE").expendable(2),
            Column::text("PROTOCOL"),
            Column::text("INTERNAL"),
            Column::text("PREDICTED"),
            Column::text("OBSERVED"),
            Column::text("RULE").expendable(1),
            Column::number("LINE").expendable(3),
        ];
        let shown = if rows == 0 { usize::MAX } else { rows };
        let cells: Vec<Vec<Cell>> = c.differences.iter().take(shown).map(|d| self.row(d)).collect();
        table::write(out, &columns, &cells, width)?;
        if c.differences.len() > shown {
            writeln!(
                out,
                "{DIM}{shown} of {} shown; --rows 0 shows all{DIM:#}",
                c.differences.len()
            )?;
        }
        writeln!(out)?;
        let mut by_cause: BTreeMap<Why, u64> = BTreeMap::new();
        c.differences.iter().for_each(|d| *by_cause.entry(d.why).or_default() += 1);
        let longest = by_cause.keys().map(|w| w.name().len()).max().unwrap_or(0);
        for (why, n) in by_cause {
            writeln!(
                out,
                "{n:5}  {CAUTION}{:longest$}{CAUTION:#}  {}",
                why.name(),
                why.sentence()
            )?;
        }
        writeln!(
            out,
            "\n{entries} as predicted, {BAD}{}{BAD:#}",
            count(c.differences.len() as u64, "differs", "differ")
        )?;
        self.footer(out)
    }

    fn footer(self, out: &mut dyn Write) -> io::Result<()> {
        match self.comparison.fixed_not_listed {
            0 => Ok(()),
            n => {
                let what = count(
                    n,
                    "fixed entry without a session is",
                    "fixed entries without a session are",
                );
                writeln!(out, "{DIM}{what} not compared: the table lists none of that kind{DIM:#}")
            }
        }
    }

    fn row(self, d: &Difference) -> Vec<Cell> {
        let parts = Parts::of(d);
        let end = |e: Option<Endpoint>| e.map(|e| e.to_string()).unwrap_or_default();
        let style = if d.kind == Kind::Different { CAUTION } else { BAD };
        let rule = d.predicted.map(|(device, row)| {
            self.prediction.plan.devices[device.index()].rules[row.rule.index()].name.clone()
        });
        vec![
            Cell::styled(d.kind.name(), style),
            d.why.name().into(),
            parts.device.map_or("", |d| self.device(d)).into(),
            parts.protocol.to_string().into(),
            end(parts.internal).into(),
            end(parts.predicted).into(),
            end(parts.observed).into(),
            rule.unwrap_or_default().into(),
            d.observed.map(|o| o.line.to_string()).unwrap_or_default().into(),
        ]
    }
}

/// What both sides of a difference have in common, and what not.
struct Parts {
    device: Option<DeviceId>,
    protocol: ProtocolName,
    internal: Option<Endpoint>,
    predicted: Option<Endpoint>,
    observed: Option<Endpoint>,
}

impl Parts {
    fn of(d: &Difference) -> Self {
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
