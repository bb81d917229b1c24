//! The answer of `predict`: tables at a moment, flows that were not translated, counters.

use std::io::{self, Write};

use serde::Serialize;
use serde::ser::{SerializeStruct, Serializer};
use zarnet_core::device::{MappingRow, SessionRow};
use zarnet_core::net::Instant;
use zarnet_core::plan::{DeviceId, Plan, RuleId};
use zarnet_core::predict::{NotTranslated, Prediction};
use zarnet_formats::observed::MAPPING_COLUMNS;
use zarnet_formats::source::Sources;

use super::ends::{End, Pair, ProtocolName};
use super::naming::{Naming, Position};
use super::{Answer, Row, SHAPE};

/// A prediction with the names of its plan.
#[derive(Clone, Copy)]
pub struct PredictAnswer<'a> {
    /// The plan that holds at the moment.
    pub plan: &'a Plan,
    /// The files that the plan was read from.
    pub sources: &'a Sources,
    /// The prediction that is shown.
    pub prediction: &'a Prediction,
    /// The only device to show.
    pub only: Option<DeviceId>,
    /// Whether CSV has the sessions instead of the mappings. It has the timeline instead of both
    /// if the prediction has one.
    pub sessions: bool,
}

/// A row of the table of mappings.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Mapping<'a> {
    device: &'a str,
    rule: &'a str,
    r#type: &'a str,
    protocol: ProtocolName,
    internal: End,
    external: End,
    peer: Option<End>,
    fixed: bool,
    chosen_freely: bool,
    created: Option<f64>,
    expires: Option<f64>,
    sessions: u32,
}

/// A row of the table of sessions.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Session<'a> {
    device: &'a str,
    rules: Vec<&'a str>,
    protocol: ProtocolName,
    state: &'a str,
    original: Pair,
    translated: Pair,
    created: f64,
    last_active: f64,
    expires: f64,
}

/// A flow that was not translated.
#[derive(Serialize)]
pub struct Missing<'a> {
    /// The flow as written in the traffic.
    pub flow: String,
    /// Its start, in seconds.
    pub at: f64,
    /// Stable name of the reason.
    pub reason: &'static str,
    /// Who is to blame.
    pub device: Option<&'a str>,
    /// The rule that is to blame.
    pub rule: Option<&'a str>,
    /// What in the plan caused it.
    pub place: Option<Position>,
}

/// Number of flows in each class.
#[derive(Serialize)]
pub struct Flows {
    total: u64,
    translated: u64,
    untranslated: u64,
    refused: u64,
    undelivered: u64,
}

pub(super) fn seconds<S: Serializer>(at: &Instant, s: S) -> Result<S::Ok, S::Error> {
    s.serialize_f64(at.seconds())
}

impl<'a> PredictAnswer<'a> {
    pub(super) fn tables(self) -> impl Iterator<Item = &'a zarnet_core::predict::DeviceTable> {
        self.prediction.tables.iter().filter(move |t| self.only.is_none_or(|d| d == t.device))
    }

    /// Name of a device.
    pub fn device(self, id: DeviceId) -> &'a str {
        &self.plan.devices[id.index()].name
    }

    /// Name of a rule.
    pub fn rule(self, device: DeviceId, id: RuleId) -> &'a str {
        &self.plan.devices[device.index()].rules[id.index()].name
    }

    /// Mappings with their device.
    pub fn mapping_rows(self) -> impl Iterator<Item = (DeviceId, &'a MappingRow)> {
        self.tables().flat_map(|t| t.mappings.iter().map(|m| (t.device, m)))
    }

    /// Sessions with their device.
    pub fn session_rows(self) -> impl Iterator<Item = (DeviceId, &'a SessionRow)> {
        self.tables().flat_map(|t| t.sessions.iter().map(|s| (t.device, s)))
    }

    fn mapping(self, device: DeviceId, row: &MappingRow) -> Mapping<'a> {
        mapping(self.plan, device, row)
    }

    fn session(self, device: DeviceId, row: &SessionRow) -> Session<'a> {
        let is_query = row.protocol.has_query_id();
        let mut pairs = [row.original, row.translated].map(Pair::from);
        if is_query {
            pairs.iter_mut().for_each(|p| p.destination.port = None);
        }
        Session {
            device: self.device(device),
            rules: row.rules.iter().flatten().map(|r| self.rule(device, *r)).collect(),
            protocol: ProtocolName(Some(row.protocol)),
            state: row.state.name(),
            original: pairs[0],
            translated: pairs[1],
            created: row.created.seconds(),
            last_active: row.last_active.seconds(),
            expires: row.expires.seconds(),
        }
    }

    /// The names of its plan.
    pub fn naming(self) -> Naming<'a> {
        Naming { plan: self.plan, sources: self.sources }
    }

    /// A flow that was not translated.
    pub fn missing(self, not: &NotTranslated) -> Missing<'a> {
        Missing {
            flow: self.naming().flow(&not.flow),
            at: not.flow.start.seconds(),
            reason: not.reason.name(),
            device: not.device.map(|d| self.device(d)),
            rule: not.device.zip(not.rule).map(|(d, r)| self.rule(d, r)),
            place: not.place.and_then(|p| self.naming().position(p)),
        }
    }

    fn flows(self) -> Flows {
        let t = self.prediction.tally;
        Flows {
            total: t.total(),
            translated: t.translated,
            untranslated: t.untranslated,
            refused: t.refused,
            undelivered: t.undelivered,
        }
    }
}

/// A mapping as a shape.
pub fn mapping<'a>(plan: &'a Plan, device: DeviceId, row: &MappingRow) -> Mapping<'a> {
    let device = &plan.devices[device.index()];
    Mapping {
        device: &device.name,
        rule: &device.rules[row.rule.index()].name,
        r#type: row.kind,
        protocol: ProtocolName(row.protocol),
        internal: row.internal.into(),
        external: row.external.into(),
        peer: row.peer.map(End::from),
        fixed: row.fixed,
        chosen_freely: row.freely,
        created: row.created.map(Instant::seconds),
        expires: row.expires.map(Instant::seconds),
        sessions: row.sessions,
    }
}

/// A list that is written row by row, without being built first.
struct Rows<F>(F);

impl<T: Serialize, I: Iterator<Item = T>, F: Fn() -> I> Serialize for Rows<F> {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_seq(self.0())
    }
}

impl Serialize for PredictAnswer<'_> {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let a = *self;
        let timeline = a.prediction.timeline.as_deref();
        let keys = 8 + usize::from(timeline.is_some());
        let mut o = s.serialize_struct("prediction", keys)?;
        o.serialize_field("shape", &SHAPE)?;
        o.serialize_field("at", &a.prediction.at.seconds())?;
        o.serialize_field(
            "mappings",
            &Rows(|| a.mapping_rows().map(move |(d, m)| a.mapping(d, m))),
        )?;
        o.serialize_field(
            "sessions",
            &Rows(|| a.session_rows().map(move |(d, s)| a.session(d, s))),
        )?;
        o.serialize_field("flows", &a.flows())?;
        o.serialize_field(
            "not-translated",
            &Rows(|| a.prediction.not_translated.iter().map(move |n| a.missing(n))),
        )?;
        o.serialize_field("counters", &a.counters())?;
        o.serialize_field("icmp-errors", &a.icmp_errors())?;
        if let Some(rows) = timeline {
            o.serialize_field("timeline", &Rows(|| rows.iter().map(move |r| a.fared(r))))?;
        }
        o.end()
    }
}

/// Columns of the table of sessions.
const SESSION_COLUMNS: &[&str] = &[
    "device",
    "rules",
    "protocol",
    "state",
    "original-source",
    "original-source-port",
    "original-destination",
    "original-destination-port",
    "translated-source",
    "translated-source-port",
    "translated-destination",
    "translated-destination-port",
    "created",
    "last-active",
    "expires",
];

/// Columns of the timeline.
const TIMELINE_COLUMNS: &[&str] = &[
    "at",
    "until",
    "count",
    "flow",
    "class",
    "reason",
    "device",
    "rule",
    "translated-source",
    "translated-source-port",
    "translated-destination",
    "translated-destination-port",
    "file",
    "line",
];

impl Answer for PredictAnswer<'_> {
    type Shape<'s>
        = Self
    where
        Self: 's;

    fn shape(&self) -> Self {
        *self
    }

    fn columns(&self) -> &'static [&'static str] {
        match self.prediction.timeline {
            Some(_) => TIMELINE_COLUMNS,
            None if self.sessions => SESSION_COLUMNS,
            None => &MAPPING_COLUMNS,
        }
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        match &self.prediction.timeline {
            Some(rows) => self.timeline_lines(rows, out),
            None if self.sessions => self.session_lines(out),
            None => self.mapping_lines(out),
        }
    }
}

impl PredictAnswer<'_> {
    fn mapping_lines(self, out: &mut dyn Write) -> io::Result<()> {
        let (mut row, mut lead) = (Row::default(), Row::default());
        let mut last = None;
        for (device, m) in self.mapping_rows() {
            // row after row begins the same
            let begins = (device, m.rule, m.kind, m.protocol);
            if last != Some(begins) {
                last = Some(begins);
                lead.clear();
                lead.text(self.device(device));
                lead.text(self.rule(device, m.rule));
                lead.text(m.kind);
                lead.protocol(ProtocolName(m.protocol));
            }
            row.begin_with(&lead);
            row.end(Some(m.internal));
            row.end(Some(m.external));
            row.end(m.peer);
            row.flag(m.fixed);
            row.flag(m.freely);
            row.time(m.created);
            row.time(m.expires);
            row.number(m.sessions.into());
            row.write(out)?;
        }
        Ok(())
    }

    fn session_lines(self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for (device, s) in self.session_rows() {
            let rules: Vec<&str> =
                s.rules.iter().flatten().map(|r| self.rule(device, *r)).collect();
            row.text(self.device(device));
            row.text(&rules.join(" "));
            row.protocol(ProtocolName(Some(s.protocol)));
            row.text(s.state.name());
            for tuple in [s.original, s.translated] {
                row.end(Some(tuple.source));
                row.end(Some(tuple.destination));
            }
            row.time(Some(s.created));
            row.time(Some(s.last_active));
            row.time(Some(s.expires));
            row.write(out)?;
        }
        Ok(())
    }
}
