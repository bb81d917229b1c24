//! What came of recording logs, and of checking a store.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_formats::nat_log::{Noted, TimeText};
use zarnet_store::{Checked, Recorded};

use super::{Answer, Row, SHAPE};

/// A log that was taken.
#[derive(Debug, Clone)]
pub struct LogTaken {
    /// What it is called.
    pub name: String,
    /// What it is written in.
    pub format: &'static str,
    /// The first and the last time in it, in milliseconds since 1970.
    pub span: Option<(i64, i64)>,
    /// What was passed over and what was lost.
    pub noted: Noted,
    /// Why it could not be read to its end.
    pub cut: Option<String>,
}

/// What came of recording.
pub struct RecordAnswer<'a> {
    /// Every log.
    pub logs: &'a [LogTaken],
    /// What the writer did.
    pub recorded: Recorded,
    /// Translations of which one end was logged so far.
    pub open: usize,
    /// Files that were too old to be kept.
    pub removed: u64,
}

/// A log as JSON has it.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct LogTakenShape<'a> {
    /// What it is called.
    pub log: &'a str,
    /// What it is written in.
    pub format: &'static str,
    /// Events that were taken.
    pub events: u64,
    /// The first time in it (RFC 3339).
    pub from: Option<String>,
    /// The last time in it.
    pub until: Option<String>,
    /// Records that were sent and did not come.
    pub lost: u64,
    /// What was passed over, by its kind.
    pub passed_over: Vec<PassedOver>,
    /// Elements of IPFIX that are unknown here, as ENTERPRISE/NUMBER.
    pub unknown_elements: Vec<String>,
    /// Why it could not be read to its end.
    pub cut: Option<&'a str>,
}

/// Something that was passed over.
#[derive(Serialize, Clone, Copy, Debug, PartialEq, Eq)]
pub struct PassedOver {
    /// What it was.
    pub what: &'static str,
    /// How many.
    pub count: u64,
}

/// The whole answer as JSON has it.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct RecordShape<'a> {
    /// The version of the shape.
    pub shape: u32,
    /// Every log.
    pub logs: Vec<LogTakenShape<'a>>,
    /// Events that were taken.
    pub events: u64,
    /// Translations that were written with both their ends.
    pub records: u64,
    /// Translations of which one end was logged so far.
    pub open: usize,
    /// Events that told of something that ran out, or of a limit.
    pub shortages: u64,
    /// Events that were found in the journal after a crash.
    pub recovered: u64,
    /// Files that were too old to be kept.
    pub removed: u64,
}

/// What of a log was passed over, without what there was none of.
pub fn passed_over(noted: &Noted) -> Vec<PassedOver> {
    let all = [
        ("messages that are none", noted.bad_messages),
        ("sets that make no sense", noted.bad_sets),
        ("records that lack something", noted.bad_records),
        ("records of other matters", noted.other_records),
        ("sets without a template", noted.sets_without_template),
        ("messages that came late", noted.late_messages),
        ("octets of no message", noted.octets_skipped),
    ];
    all.into_iter().filter(|p| p.1 > 0).map(|(what, count)| PassedOver { what, count }).collect()
}

impl LogTaken {
    fn shape(&self) -> LogTakenShape<'_> {
        let mut time = TimeText::default();
        let mut text = |at: Option<i64>| at.map(|at| time.of(at).to_owned());
        let unknown = self.noted.unknown_elements.keys();
        LogTakenShape {
            log: &self.name,
            format: self.format,
            events: self.noted.events,
            from: text(self.span.map(|s| s.0)),
            until: text(self.span.map(|s| s.1)),
            lost: self.noted.lost,
            passed_over: passed_over(&self.noted),
            unknown_elements: unknown.map(|e| format!("{}/{}", e.enterprise, e.id)).collect(),
            cut: self.cut.as_deref(),
        }
    }
}

impl Answer for RecordAnswer<'_> {
    type Shape<'s>
        = RecordShape<'s>
    where
        Self: 's;

    fn shape(&self) -> RecordShape<'_> {
        let Recorded { events, records, shortages, recovered, .. } = self.recorded;
        let (open, removed) = (self.open, self.removed);
        let logs = self.logs.iter().map(LogTaken::shape).collect();
        RecordShape { shape: SHAPE, logs, events, records, open, shortages, recovered, removed }
    }

    fn columns(&self) -> &'static [&'static str] {
        &["log", "format", "events", "from", "until", "lost", "passed-over"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut line = Row::default();
        for log in self.logs {
            let shape = log.shape();
            line.text(shape.log);
            line.text(shape.format);
            line.number(shape.events);
            line.text(&shape.from.unwrap_or_default());
            line.text(&shape.until.unwrap_or_default());
            line.number(shape.lost);
            line.number(shape.passed_over.iter().map(|p| p.count).sum());
            line.write(out)?;
        }
        Ok(())
    }
}

/// What came of checking a store.
pub struct CheckedAnswer<'a>(pub &'a Checked);

/// A file that is not as it was written, as JSON has it.
#[derive(Serialize)]
pub struct FaultShape {
    /// The file.
    pub file: String,
    /// What is wrong with it.
    pub fault: String,
}

/// The whole answer as JSON has it.
#[derive(Serialize)]
pub struct CheckedShape {
    /// The version of the shape.
    pub shape: u32,
    /// Files of both orders.
    pub files: u64,
    /// Records of one order.
    pub records: u64,
    /// Octets of both orders.
    pub octets: u64,
    /// What is wrong.
    pub faults: Vec<FaultShape>,
}

fn named(path: &std::path::Path) -> String {
    path.display().to_string()
}

impl Answer for CheckedAnswer<'_> {
    type Shape<'s>
        = CheckedShape
    where
        Self: 's;

    fn shape(&self) -> CheckedShape {
        let Checked { files, records, octets, faults } = self.0;
        let fault = |(path, fault): &'_ (std::path::PathBuf, String)| (named(path), fault.clone());
        let faults = faults.iter().map(fault).map(|(file, fault)| FaultShape { file, fault });
        let faults = faults.collect();
        CheckedShape { shape: SHAPE, files: *files, records: *records, octets: *octets, faults }
    }

    fn columns(&self) -> &'static [&'static str] {
        &["file", "fault"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut line = Row::default();
        for (path, fault) in &self.0.faults {
            line.text(&path.display().to_string());
            line.text(fault);
            line.write(out)?;
        }
        Ok(())
    }
}
