//! What became of each flow, as JSON and CSV have it.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_core::Reason;
use zarnet_core::predict::TimelineRow;

use super::Row;
use super::ends::Pair;
use super::naming::Position;
use super::predict::PredictAnswer;

/// A flow, or several of one sender to one destination that fared alike.
#[derive(Serialize)]
pub struct Fared<'a> {
    /// When the first of them begins, in seconds.
    pub at: f64,
    /// When the last of them begins.
    pub until: f64,
    /// How many flows they are.
    pub count: u64,
    /// The flow as written in the traffic.
    pub flow: String,
    /// Stable name of its class.
    pub class: &'static str,
    /// Stable name of the reason why it was not translated.
    pub reason: Option<&'static str>,
    /// Who translated it, or is to blame.
    pub device: Option<&'a str>,
    /// The rule that did.
    pub rule: Option<&'a str>,
    /// The first packet as it arrived.
    pub translated: Option<Pair>,
    /// What in the plan caused it.
    pub place: Option<Position>,
}

impl<'a> PredictAnswer<'a> {
    /// A row of the timeline.
    pub fn fared(self, row: &TimelineRow) -> Fared<'a> {
        Fared {
            at: row.flow.start.seconds(),
            until: row.until.seconds(),
            count: row.count,
            flow: self.naming().flow(&row.flow),
            class: row.class.name(),
            reason: row.reason.map(Reason::name),
            device: row.device.map(|d| self.device(d)),
            rule: row.device.zip(row.rule).map(|(d, r)| self.rule(d, r)),
            translated: row.translated.map(Pair::from),
            place: row.place.and_then(|p| self.naming().position(p)),
        }
    }

    pub(super) fn timeline_lines(
        self,
        rows: &[TimelineRow],
        out: &mut dyn Write,
    ) -> io::Result<()> {
        let mut line = Row::default();
        for row in rows {
            let fared = self.fared(row);
            line.time(Some(row.flow.start));
            line.time(Some(row.until));
            line.number(row.count);
            line.text(&fared.flow);
            line.text(fared.class);
            line.text(fared.reason.unwrap_or_default());
            line.text(fared.device.unwrap_or_default());
            line.text(fared.rule.unwrap_or_default());
            line.end(row.translated.map(|t| t.source));
            line.end(row.translated.map(|t| t.destination));
            line.place(fared.place.as_ref());
            line.write(out)?;
        }
        Ok(())
    }
}
