//! The answer of `expect`: a shape for scripts, the same for people, and JUnit XML for whatever
//! runs builds.

use std::io::{self, Write};

use quick_xml::Writer;
use quick_xml::events::BytesText;
use serde::Serialize;
use zarnet_core::Reason;
use zarnet_core::net::Endpoint;
use zarnet_core::plan::{Expectation, Plan};
use zarnet_core::predict::{Failed, Tried};
use zarnet_formats::source::Sources;

use super::csv::Row;
use super::escape::{Form, escaped};
use super::follow::{Story, class_name};
use super::naming::{Naming, Position};
use super::table::{BAD, BOLD, DIM, GOOD, count};

/// More than this many that hold are only counted.
const MOST_SHOWN: usize = 40;

/// The answer as a shape.
#[derive(Serialize)]
pub struct ExpectShape {
    shape: u32,
    /// Number of expectations that hold.
    pub passed: usize,
    /// How many do not.
    pub failed: usize,
    expectations: Vec<Entry>,
}

/// One expectation.
#[derive(Serialize)]
struct Entry {
    flow: String,
    holds: bool,
    wanted: String,
    got: String,
    reason: Option<&'static str>,
    note: Option<String>,
    place: Option<Position>,
    /// Of one that fails: its way in short.
    trace: Vec<String>,
}

impl ExpectShape {
    /// What was tried, with the names of its plan.
    pub fn new(plan: &Plan, sources: &Sources, tried: &[Tried]) -> Self {
        let naming = Naming { plan, sources };
        let entries: Vec<Entry> =
            plan.expectations.iter().zip(tried).map(|(e, t)| entry(naming, e, t)).collect();
        let failed = entries.iter().filter(|e| !e.holds).count();
        Self { shape: 1, passed: entries.len() - failed, failed, expectations: entries }
    }

    /// A row for each, for spreadsheets.
    pub fn csv(&self, out: &mut dyn Write) -> io::Result<()> {
        out.write_all(b"holds,flow,wanted,got,reason,file,line\n")?;
        let mut row = Row::default();
        for e in &self.expectations {
            row.text(if e.holds { "true" } else { "false" });
            row.text(&e.flow);
            row.text(&e.wanted);
            row.text(&e.got);
            row.text(e.reason.unwrap_or(""));
            row.text(e.place.as_ref().map_or("", |p| p.file.as_str()));
            row.text(&e.place.as_ref().map(|p| p.line.to_string()).unwrap_or_default());
            row.write(out)?;
        }
        Ok(())
    }

    /// All of it, for people.
    pub fn text(&self, out: &mut dyn Write, verbose: bool) -> io::Result<()> {
        let list_all = verbose || self.expectations.len() <= MOST_SHOWN;
        let longest = self.expectations.iter().map(|e| e.flow.chars().count()).max().unwrap_or(0);
        let places: Vec<String> = self
            .expectations
            .iter()
            .map(|e| e.place.as_ref().map(ToString::to_string).unwrap_or_default())
            .collect();
        let widest = places.iter().map(|p| p.chars().count()).max().unwrap_or(0);
        for (e, place) in
            self.expectations.iter().zip(&places).filter(|(e, _)| list_all || !e.holds)
        {
            let place = format!("{DIM}{place:widest$}{DIM:#}");
            let flow = format!("{:longest$}", e.flow);
            if e.holds {
                writeln!(out, "{GOOD}holds{GOOD:#}  {flow}  {place}  {}", e.wanted)?;
                continue;
            }
            writeln!(out, "{BAD}FAILS{BAD:#}  {BOLD}{flow}{BOLD:#}  {place}")?;
            if let Some(note) = &e.note {
                writeln!(out, "       {DIM}{note}{DIM:#}")?;
            }
            writeln!(out, "       wanted  {}", e.wanted)?;
            writeln!(out, "       got     {BAD}{}{BAD:#}", e.got)?;
            for line in &e.trace {
                writeln!(out, "         {DIM}{line}{DIM:#}")?;
            }
        }
        if self.expectations.is_empty() {
            return writeln!(
                out,
                "the plan expects nothing: write [[expect]] with a flow and what becomes of it"
            );
        }
        let (passed, failed) = (self.passed as u64, self.failed as u64);
        let total = count(passed + failed, "expectation", "expectations");
        match failed {
            0 => writeln!(out, "{total}: {GOOD}all hold{GOOD:#}"),
            n => writeln!(out, "{total}: {passed} hold, {BAD}{}{BAD:#}", count(n, "fails", "fail")),
        }
    }

    /// The same as JUnit XML.
    pub fn junit(&self, suite: &str) -> io::Result<Vec<u8>> {
        let mut octets = b"<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n".to_vec();
        let mut xml = Writer::new_with_indent(&mut octets, b' ', 2);
        let (tests, failures) = (self.expectations.len().to_string(), self.failed.to_string());
        let counts = [("name", suite), ("tests", tests.as_str()), ("failures", failures.as_str())];
        let whole = std::iter::once(("id", REPORT)).chain(counts);
        let cases = |xml: &mut Writer<&mut Vec<u8>>| {
            for e in &self.expectations {
                case(xml, suite, e)?;
            }
            Ok(())
        };
        xml.create_element("testsuites").with_attributes(whole).write_inner_content(|xml| {
            xml.create_element("testsuite")
                .with_attributes(counts)
                .write_inner_content(cases)
                .map(|_| ())
        })?;
        octets.push(b'\n');
        let text = String::from_utf8(octets).map_err(io::Error::other)?;
        Ok(escaped(&text, Form::Plain).into_bytes())
    }
}

/// What a report is known by as one of ours.
const REPORT: &str = "zarnet-expect";

/// Whether a file is a report that was written here.
pub fn is_report(contents: &[u8]) -> bool {
    let begins = format!("<testsuites id=\"{REPORT}\"");
    let head = &contents[..contents.len().min(256)];
    head.windows(begins.len()).any(|w| w == begins.as_bytes())
}

fn case(xml: &mut Writer<&mut Vec<u8>>, suite: &str, e: &Entry) -> io::Result<()> {
    let file = e.place.as_ref().map_or("", |p| p.file.as_str());
    let line = e.place.as_ref().map(|p| p.line.to_string()).unwrap_or_default();
    let name = format!("{}: {}", e.flow, e.wanted);
    let attributes =
        [("classname", suite), ("name", name.as_str()), ("file", file), ("line", line.as_str())];
    let element = xml.create_element("testcase").with_attributes(attributes);
    if e.holds {
        return element.write_empty().map(|_| ());
    }
    let message = format!("wanted {}, got {}", e.wanted, e.got);
    let kind = e.reason.unwrap_or("other");
    let story = e.trace.join("\n");
    element
        .write_inner_content(|xml| {
            let failure = xml.create_element("failure");
            failure
                .with_attributes([("message", message.as_str()), ("type", kind)])
                .write_text_content(BytesText::new(&story))
                .map(|_| ())
        })
        .map(|_| ())
}

fn entry(naming: Naming<'_>, expectation: &Expectation, tried: &Tried) -> Entry {
    let holds = tried.failed.is_empty();
    let story = Story { naming, followed: &tried.followed };
    Entry {
        flow: naming.flow(&expectation.flow),
        holds,
        wanted: wanted(expectation),
        got: got(expectation, tried),
        reason: tried.followed.loss.map(|l| l.reason.name()),
        note: expectation.note.clone(),
        place: naming.position(expectation.place),
        trace: if holds { Vec::new() } else { story.brief() },
    }
}

fn wanted(e: &Expectation) -> String {
    let mut parts = Vec::new();
    let flag = |value: Option<bool>, yes: &str, no: &str| {
        value.map(|v| if v { yes.to_owned() } else { no.to_owned() })
    };
    parts.extend(flag(e.refused, "refused", "not refused"));
    parts.extend(flag(e.unreachable, "unreachable", "reachable"));
    parts.extend(e.reason.map(|r| format!("reason {r}")));
    parts.extend(e.becomes.as_ref().map(|b| format!("becomes {}", b.text)));
    parts.extend(e.reaches.as_ref().map(|r| format!("reaches {}", r.text)));
    for view in &e.seen_by {
        let side = |word: &str, set: &Option<zarnet_core::plan::EndSet>| {
            set.as_ref().map(|s| format!(" {word} {}", s.text)).unwrap_or_default()
        };
        parts.push(format!(
            "seen by {}{}{}",
            view.name,
            side("from", &view.source),
            side("to", &view.destination)
        ));
    }
    if parts.is_empty() { "answered".to_owned() } else { parts.join(", ") }
}

/// What came of it; where everything holds, in a word.
fn got(e: &Expectation, tried: &Tried) -> String {
    let f = &tried.followed;
    let fate = || {
        let reason = f.loss.map(|l| l.reason);
        let why = reason.map(|r: Reason| format!(" ({r})")).unwrap_or_default();
        let class = class_name(f.class);
        if f.delivered() && !f.answered() {
            format!("answer {class}{why}")
        } else {
            format!("{class}{why}")
        }
    };
    let end = |end: &Option<Endpoint>| end.map_or_else(fate, |e| e.to_string());
    let mut parts: Vec<String> = Vec::new();
    for failed in &tried.failed {
        parts.push(match failed {
            Failed::NotAnswered
            | Failed::Refused(_)
            | Failed::Unreachable(_)
            | Failed::Reason(_) => fate(),
            Failed::Becomes(None) | Failed::Reaches(None) => fate(),
            Failed::Becomes(source) => format!("becomes {}", end(source)),
            Failed::Reaches(destination) => format!("reaches {}", end(destination)),
            Failed::SeenBy(i, None) => format!("not seen by {}", e.seen_by[*i].name),
            Failed::SeenBy(i, Some((from, to))) => {
                format!("seen by {} from {from} to {to}", e.seen_by[*i].name)
            }
        });
    }
    parts.dedup();
    if parts.is_empty() { fate() } else { parts.join(", ") }
}
