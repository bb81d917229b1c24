//! The answer of `capacity`: what ran out, for whom, what would be enough, and which remedy helps.

mod named;
mod outlook_shape;
mod shape;

use std::io::{self, Write};

use zarnet_core::net::Instant;

use super::{Answer, Row};
use crate::capacity::Resource;

pub use named::CapacityAnswer;
pub use shape::CapacityShape;

/// Columns of the summary, a row a resource.
const SUMMARY: &[&str] = &[
    "device",
    "kind",
    "name",
    "address",
    "protocol",
    "usable",
    "at",
    "in-use",
    "peak",
    "peak-at",
    "first-full",
    "first-refusal",
    "refused-flows",
    "refused-hosts",
    "next-release",
];

/// Columns of use over time, a row a change.
const OVER_TIME: &[&str] = &[
    "device", "kind", "name", "address", "protocol", "from", "least", "most", "last", "begun",
    "refused",
];

impl Answer for CapacityAnswer<'_> {
    type Shape<'s>
        = CapacityShape<'s>
    where
        Self: 's;

    fn shape(&self) -> Self::Shape<'_> {
        self.whole()
    }

    fn columns(&self) -> &'static [&'static str] {
        if self.over_time { OVER_TIME } else { SUMMARY }
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        let head = |row: &mut Row, r: &Resource| {
            let which = self.which(r);
            row.text(which.device);
            row.text(which.kind);
            row.text(&which.name);
            row.text(&which.address.map(|a| a.to_string()).unwrap_or_default());
            row.text(&which.protocol.map(|p| p.to_string()).unwrap_or_default());
        };
        if self.over_time {
            for r in &self.analysis.resources {
                for s in r.series.spans() {
                    head(&mut row, r);
                    row.time(Some(s.from));
                    [s.least, s.most, s.last, s.begun, s.refused]
                        .into_iter()
                        .for_each(|n| row.number(n.into()));
                    row.write(out)?;
                }
            }
            return Ok(());
        }
        for r in &self.analysis.resources {
            head(&mut row, r);
            row.text(&r.series.usable.map(|u| u.to_string()).unwrap_or_default());
            let timed = |i: Option<Instant>| i.filter(|_| !self.analysis.observed);
            row.time(timed(Some(r.at)));
            row.number(r.in_use);
            row.number(r.series.peak.count);
            row.time(timed(Some(r.series.peak.at)));
            row.time(timed(r.series.first_full));
            row.time(r.series.first_refusal);
            row.number(r.refused_flows);
            row.number(r.refused.len() as u64);
            row.time(r.next_release);
            row.write(out)?;
        }
        Ok(())
    }
}
