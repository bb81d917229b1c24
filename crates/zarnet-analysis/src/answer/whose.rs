//! Who had an external address and port at a time.

use std::collections::HashMap;
use std::io::{self, Write};
use std::net::IpAddr;

use serde::Serialize;
use zarnet_formats::nat_log::{TimeText, cause_name};
use zarnet_store::{Asked, Finding, Found, Gap, Question, Record};

use super::log::LoggedEnd;
use super::{Answer, Row, SHAPE};

/// How certain an answer is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Certainty {
    /// Nobody else had it then.
    Sure,
    /// Others may have had it then: they are answers too, or the log has a gap.
    OneOf,
    /// The log tells of a block of ports, and all of it was this host's.
    Block,
}

impl Certainty {
    /// Its stable name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Sure => "sure",
            Self::OneOf => "one-of",
            Self::Block => "block",
        }
    }
}

/// The answer to a question about a store.
pub struct WhoseAnswer<'a> {
    /// What was asked.
    pub question: &'a Question,
    /// What the store knows.
    pub finding: &'a Finding,
    /// Names of hosts, by their internal addresses, if a plan tells them.
    pub hosts: HashMap<IpAddr, String>,
}

/// External ports as JSON has them.
#[derive(Serialize, Clone, Copy, Debug, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub struct ExternalShape {
    /// The address.
    pub address: IpAddr,
    /// The port, or the first one of a block; none for a whole address.
    pub port: Option<u16>,
    /// The last port of a block.
    pub last_port: Option<u16>,
}

impl std::fmt::Display for ExternalShape {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        LoggedEnd { address: self.address, port: self.port }.fmt(f)?;
        self.last_port.map_or(Ok(()), |last| write!(f, "-{last}"))
    }
}

/// A translation as JSON has it.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct AnswerShape<'a> {
    /// Name of the host, or its internal address.
    pub host: String,
    /// The device that translated.
    pub device: &'a str,
    /// The rule that did, if the log says so.
    pub rule: Option<&'a str>,
    /// The protocol; none is any.
    pub protocol: Option<String>,
    /// Internal end.
    pub internal: LoggedEnd,
    /// External end.
    pub external: ExternalShape,
    /// Far end, if the translation was for that one only.
    pub peer: Option<LoggedEnd>,
    /// When it began (RFC 3339); none if that was not logged.
    pub from: Option<String>,
    /// When it ended; none if that was not logged.
    pub until: Option<String>,
    /// When it had ended at the latest, if its end was not logged and another had its end then.
    pub gone_by: Option<String>,
    /// Why it ended.
    pub ended_by: Option<&'static str>,
    /// How certain it is.
    pub certainty: Certainty,
}

/// A gap in the logs as JSON has it.
#[derive(Serialize)]
pub struct GapShape<'a> {
    /// The device whose log has it.
    pub device: &'a str,
    /// When it begins (RFC 3339).
    pub from: String,
    /// When it ends.
    pub until: String,
    /// How many records did not come; none if there is no log at all.
    pub lost: Option<u64>,
}

/// By how much a clock differed, as JSON has it.
#[derive(Serialize)]
pub struct ClockShape<'a> {
    /// The device.
    pub device: &'a str,
    /// The least that it was ahead of the recorder's, in seconds; negative for behind.
    pub least: f64,
    /// The most.
    pub most: f64,
}

/// The whole answer as JSON has it.
#[derive(Serialize)]
pub struct WhoseShape<'a> {
    /// The version of the shape.
    pub shape: u32,
    /// Whether the logs have no gap that may hide another answer.
    pub complete: bool,
    /// Those gaps.
    pub gaps: Vec<GapShape<'a>>,
    /// Clocks that were compared while the logs came.
    pub clocks: Vec<ClockShape<'a>>,
    /// Who it was.
    pub answers: Vec<AnswerShape<'a>>,
}

impl<'a> WhoseAnswer<'a> {
    /// Whether the logs have no gap that may hide another answer.
    pub fn is_complete(&self) -> bool {
        self.finding.gaps.is_empty() && !self.finding.devices.is_empty()
    }

    /// How certain a translation is.
    pub fn certainty(&self, found: &Found) -> Certainty {
        let record = &found.record;
        let others = self.finding.found.iter().any(|other| is_rival(found, other));
        let has_gap = record.unseen.is_some()
            && self.finding.gaps.iter().any(|(device, _)| *device == found.device);
        let is_instant = matches!(self.question.asked, Asked::External(..));
        match record.ports {
            _ if is_instant && (others || has_gap) => Certainty::OneOf,
            Some((first, last)) if first != last => Certainty::Block,
            _ => Certainty::Sure,
        }
    }

    /// The name of a host, or its address.
    pub fn host(&self, record: &Record) -> String {
        self.hosts.get(&record.internal).cloned().unwrap_or_else(|| record.internal.to_string())
    }

    /// A translation as it is shown.
    pub fn answer(&self, found: &'a Found, time: &mut TimeText) -> AnswerShape<'a> {
        let record = &found.record;
        let mut text = |at: Option<i64>| at.map(|at| time.of(at).to_owned());
        let (from, until) = (text(record.since()), text(record.ended()));
        let gone_by = text(record.gone_by().filter(|_| record.ended().is_none()));
        AnswerShape {
            host: self.host(record),
            device: &found.device,
            rule: found.rule.as_deref(),
            protocol: record.protocol.map(|p| p.to_string()),
            internal: LoggedEnd { address: record.internal, port: record.internal_port },
            external: ExternalShape {
                address: record.external,
                port: record.ports.map(|p| p.0),
                last_port: record.ports.filter(|p| p.0 != p.1).map(|p| p.1),
            },
            peer: record.peer.map(|address| LoggedEnd { address, port: record.peer_port }),
            from,
            until,
            gone_by,
            ended_by: record.cause.map(cause_name),
            certainty: self.certainty(found),
        }
    }

    /// A gap as it is shown.
    pub fn gap(&self, (device, gap): &'a (String, Gap), time: &mut TimeText) -> GapShape<'a> {
        let (from, until) = (time.of(gap.from).to_owned(), time.of(gap.until).to_owned());
        GapShape { device, from, until, lost: gap.lost }
    }

    /// Clocks that were compared.
    pub fn clocks(&self) -> Vec<ClockShape<'a>> {
        let seconds = |milliseconds: i64| milliseconds as f64 / 1000.0;
        let clocks = self.finding.clocks.iter();
        let clock = |(device, (least, most)): (&'a String, &(i64, i64))| ClockShape {
            device,
            least: seconds(*least),
            most: seconds(*most),
        };
        clocks.map(clock).collect()
    }
}

/// Whether two hosts may have had the same external end at the same time.
fn is_rival(a: &Found, b: &Found) -> bool {
    let (x, y) = (&a.record, &b.record);
    let ports = match (x.ports, y.ports) {
        (Some(x), Some(y)) => x.0 <= y.1 && y.0 <= x.1,
        _ => true,
    };
    let protocols = x.protocol.is_none() || y.protocol.is_none() || x.protocol == y.protocol;
    a.device == b.device && x.internal != y.internal && ports && protocols
}

impl Answer for WhoseAnswer<'_> {
    type Shape<'s>
        = WhoseShape<'s>
    where
        Self: 's;

    fn shape(&self) -> WhoseShape<'_> {
        let mut time = TimeText::default();
        let gaps = self.finding.gaps.iter().map(|gap| self.gap(gap, &mut time)).collect();
        let answers = self.finding.found.iter().map(|found| self.answer(found, &mut time));
        let answers = answers.collect();
        let (complete, clocks) = (self.is_complete(), self.clocks());
        WhoseShape { shape: SHAPE, complete, gaps, clocks, answers }
    }

    fn columns(&self) -> &'static [&'static str] {
        &[
            "host",
            "device",
            "rule",
            "protocol",
            "internal",
            "internal-port",
            "external",
            "external-port",
            "last-port",
            "peer",
            "peer-port",
            "begun",
            "ended",
            "ended-by",
            "certainty",
        ]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let (mut line, mut time) = (Row::default(), TimeText::default());
        let port = |port: Option<u16>| port.map(|p| p.to_string()).unwrap_or_default();
        for found in &self.finding.found {
            let answer = self.answer(found, &mut time);
            line.text(&answer.host);
            line.text(answer.device);
            line.text(answer.rule.unwrap_or_default());
            line.text(&answer.protocol.unwrap_or_default());
            line.text(&answer.internal.address.to_string());
            line.text(&port(answer.internal.port));
            line.text(&answer.external.address.to_string());
            line.text(&port(answer.external.port));
            line.text(&port(answer.external.last_port));
            line.text(&answer.peer.map(|p| p.address.to_string()).unwrap_or_default());
            line.text(&port(answer.peer.and_then(|p| p.port)));
            line.text(&answer.from.unwrap_or_default());
            line.text(&answer.until.unwrap_or_default());
            line.text(answer.ended_by.unwrap_or_default());
            line.text(answer.certainty.name());
            line.write(out)?;
        }
        Ok(())
    }
}
