//! The translation log: an event, and how much of it a day makes.

use std::io::{self, Write};

use serde::Serialize;
use zarnet_core::plan::Log;
use zarnet_formats::nat_log::{LogNames, TimeText, TranslationEvent, cause_name};

use super::{Answer, Row, SHAPE};

/// An event of a translation log.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct EventShape<'a> {
    /// When it happened (RFC 3339).
    pub time: String,
    /// What happened.
    pub event: &'static str,
    /// The device that tells it.
    pub device: &'a str,
    /// The protocol; none is any.
    pub protocol: Option<String>,
    /// Internal end.
    pub internal: Option<LoggedEnd>,
    /// External end; of a block the first port.
    pub external: Option<LoggedEnd>,
    /// The last port of a block.
    pub last_port: Option<u16>,
    /// The far end.
    pub peer: Option<LoggedEnd>,
    /// The rule that translated, or had nothing left.
    pub rule: Option<&'a str>,
    /// Why it ended.
    pub ended_by: Option<&'static str>,
    /// The pool that has nothing left.
    pub pool: Option<&'a str>,
    /// How much a limit allows.
    pub limit: Option<u32>,
}

/// An address of a log, and its port if it has one.
#[derive(Serialize, Clone, Copy, Debug, PartialEq, Eq)]
pub struct LoggedEnd {
    /// The address.
    pub address: std::net::IpAddr,
    /// Port or query id.
    pub port: Option<u16>,
}

impl std::fmt::Display for LoggedEnd {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (self.port, self.address.is_ipv6()) {
            (None, _) => self.address.fmt(f),
            (Some(port), false) => write!(f, "{}:{port}", self.address),
            (Some(port), true) => write!(f, "[{}]:{port}", self.address),
        }
    }
}

/// An event as JSON has it.
pub fn event_shape<'a>(
    event: &TranslationEvent,
    names: &'a LogNames,
    time: &mut TimeText,
) -> EventShape<'a> {
    let end = |address: Option<std::net::IpAddr>, port| {
        address.map(|address| LoggedEnd { address, port })
    };
    EventShape {
        time: time.of(event.at).to_owned(),
        event: event.kind.name(),
        device: names.get(event.device),
        protocol: event.protocol.map(|p| p.to_string()),
        internal: end(event.internal, event.internal_port),
        external: end(event.external, event.external_port),
        last_port: event.last_port,
        peer: end(event.peer, event.peer_port),
        rule: event.rule.map(|rule| names.get(rule)),
        ended_by: event.cause.map(cause_name),
        pool: event.pool.map(|pool| names.get(pool)),
        limit: event.limit,
    }
}

/// The name of what is logged.
pub fn log_name(log: Log) -> &'static str {
    match log {
        Log::Nothing => "nothing",
        Log::Sessions => "sessions",
        Log::Mappings => "mappings",
        Log::Blocks => "blocks",
    }
}

/// How much log a choice makes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct Amount {
    /// Events.
    pub records: u64,
    /// Octets of IPFIX, templates and headers among them.
    pub ipfix: u64,
    /// Octets of syslog messages.
    pub syslog: u64,
    /// Octets of CSV.
    pub csv: u64,
    /// The most events in one second.
    #[serde(rename = "most-in-a-second")]
    pub most_in_a_second: u64,
}

/// How much log each choice makes.
pub struct LogSummary {
    /// When the log begins and ends, in milliseconds since 1970.
    pub span: (i64, i64),
    /// What is logged, and how much that is; nothing where no device can log it so.
    pub choices: Vec<(Log, Option<Amount>)>,
}

/// A choice as JSON has it.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ChoiceShape {
    /// Name of what is logged.
    pub log: &'static str,
    /// How much the traffic makes; none where no device hands out blocks.
    pub amount: Option<Amount>,
    /// The same for a day like it.
    pub a_day: Option<Amount>,
}

/// The whole summary as JSON has it.
#[derive(Serialize)]
pub struct SummaryShape {
    /// The version of the shape.
    pub shape: u32,
    /// When the log begins (RFC 3339).
    pub from: String,
    /// When it ends.
    pub until: String,
    /// What each choice makes.
    pub choices: Vec<ChoiceShape>,
}

const DAY: f64 = 86_400_000.0;

impl LogSummary {
    /// What a day makes that is like the traffic; none where the traffic has no length.
    pub fn a_day(&self, amount: Amount) -> Option<Amount> {
        let length = (self.span.1 - self.span.0) as f64;
        let times = DAY / length;
        let scaled = |n: u64| (n as f64 * times).round() as u64;
        (length > 0.0).then(|| Amount {
            records: scaled(amount.records),
            ipfix: scaled(amount.ipfix),
            syslog: scaled(amount.syslog),
            csv: scaled(amount.csv),
            most_in_a_second: amount.most_in_a_second,
        })
    }
}

impl Answer for LogSummary {
    type Shape<'s> = SummaryShape;

    fn shape(&self) -> SummaryShape {
        let mut time = TimeText::default();
        let (from, until) = (time.of(self.span.0).to_owned(), time.of(self.span.1).to_owned());
        let choices = self.choices.iter().map(|(log, amount)| ChoiceShape {
            log: log_name(*log),
            amount: *amount,
            a_day: amount.and_then(|a| self.a_day(a)),
        });
        SummaryShape { shape: SHAPE, from, until, choices: choices.collect() }
    }

    fn columns(&self) -> &'static [&'static str] {
        &["log", "records", "ipfix", "syslog", "csv", "most-in-a-second"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut line = Row::default();
        for (log, amount) in &self.choices {
            line.text(log_name(*log));
            let numbers = amount.map(|a| [a.records, a.ipfix, a.syslog, a.csv, a.most_in_a_second]);
            for number in numbers.map_or([None; 5], |n| n.map(Some)) {
                match number {
                    Some(number) => line.number(number),
                    None => line.text(""),
                }
            }
            line.write(out)?;
        }
        Ok(())
    }
}
