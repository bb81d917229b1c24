//! The answer of `predict` for people.

mod counters;
mod tables;
mod timeline;

use counters::counters;
use std::collections::BTreeMap;
use std::io::{self, Write};
use tables::{disabled, mappings, sessions};
use timeline::timeline;

use zarnet_core::Class;
use zarnet_core::predict::NotTranslated;

use super::View;
use super::table::{BAD, BOLD, CAUTION, DIM, GOOD, count};
use zarnet_analysis::answer::predict::PredictAnswer;

/// Writes the whole answer: tables at the moment or, if it was asked for, the timeline.
pub fn text(out: &mut dyn Write, answer: PredictAnswer<'_>, view: View) -> io::Result<()> {
    if let Some(rows) = &answer.prediction.timeline {
        timeline(out, answer, rows, view)?;
        flows(out, answer)?;
        return missing(out, answer, view);
    }
    let tables = answer
        .prediction
        .tables
        .iter()
        .filter(|t| answer.only.is_none_or(|d| d == t.device))
        .peekable();
    for table in tables {
        mappings(out, answer, table.device, &table.mappings, view)?;
        disabled(out, answer, table)?;
        if answer.sessions {
            writeln!(out)?;
            sessions(out, answer, table.device, &table.sessions, view)?;
        }
        writeln!(out)?;
    }
    flows(out, answer)?;
    missing(out, answer, view)?;
    counters(out, answer, view)
}

fn flows(out: &mut dyn Write, answer: PredictAnswer<'_>) -> io::Result<()> {
    let t = answer.prediction.tally;
    let part = |number: u64, name: &str, style: anstyle::Style| match number {
        0 => format!("0 {name}"),
        n => format!("{style}{n} {name}{style:#}"),
    };
    writeln!(
        out,
        "{BOLD}Flows{BOLD:#}  {} in: {}, {}, {}, {}",
        t.total(),
        part(t.translated, "translated", GOOD),
        part(t.untranslated, "untranslated", CAUTION),
        part(t.refused, "refused", BAD),
        part(t.undelivered, "undelivered", BAD)
    )?;
    let errors = answer.prediction.icmp_errors;
    let all = errors.translated + errors.untranslated + errors.dropped;
    if all > 0 {
        let what = count(all, "ICMP error", "ICMP errors");
        writeln!(
            out,
            "{DIM}{what} of the capture: {} translated, {} passed on as sent, {} dropped; none \
             changes a table{DIM:#}",
            errors.translated, errors.untranslated, errors.dropped
        )?;
    }
    if answer.prediction.link_only > 0 {
        let n = count(answer.prediction.link_only, "packet", "packets");
        writeln!(
            out,
            "{DIM}{n} of the capture stay on their link: multicast, broadcast or link-local{DIM:#}"
        )?;
    }
    if answer.prediction.unattributed > 0 {
        let n = count(answer.prediction.unattributed, "packet", "packets");
        writeln!(
            out,
            "{DIM}{n} of the capture not judged: sent by the device itself, seen only after \
             translation, or from elsewhere{DIM:#}"
        )?;
    }
    Ok(())
}

/// Flows that were not translated, by reason, device and rule: how many, what it means, and the
/// first of them.
fn missing(out: &mut dyn Write, answer: PredictAnswer<'_>, view: View) -> io::Result<()> {
    let all = &answer.prediction.not_translated;
    if all.is_empty() {
        return Ok(());
    }
    let mut groups: BTreeMap<_, (u64, &NotTranslated, &NotTranslated)> = BTreeMap::new();
    for not in all {
        let key = (not.reason, not.device, not.rule, not.place);
        groups.entry(key).and_modify(|g| (g.0, g.2) = (g.0 + 1, not)).or_insert((1, not, not));
    }
    let mut groups: Vec<_> = groups.into_values().collect();
    groups.sort_by_key(|g| (std::cmp::Reverse(g.0), g.1.flow.start));
    writeln!(out, "\n{BOLD}Not translated{BOLD:#}")?;
    let digits = groups.iter().map(|g| g.0.to_string().len()).max().unwrap_or(1);
    let most = if view.rows == 0 { groups.len() } else { groups.len().min(view.rows.max(5)) };
    let indent = " ".repeat(digits + 2);
    for (number, first, last) in &groups[..most] {
        let m = answer.missing(first);
        let style = if first.reason.class() == Class::Untranslated { CAUTION } else { BAD };
        writeln!(
            out,
            "{number:>digits$}  {style}{}{style:#}  {}",
            m.reason,
            first.reason.sentence()
        )?;
        let mut blame = Vec::new();
        blame.extend(m.rule.map(|r| format!("rule {r}")));
        blame.extend(m.device.filter(|_| answer.plan.devices.len() > 1).map(|d| format!("on {d}")));
        blame.extend(m.place.map(|p| p.to_string()));
        let blame =
            if blame.is_empty() { String::new() } else { format!(" ({})", blame.join(", ")) };
        let until =
            if *number > 1 { format!(", last at {}", last.flow.start) } else { String::new() };
        writeln!(
            out,
            "{indent}{DIM}first{DIM:#} {} {DIM}at {}{until}{blame}{DIM:#}",
            m.flow, first.flow.start
        )?;
    }
    if most < groups.len() {
        writeln!(out, "{DIM}{most} of {} kinds shown; --rows 0 shows all{DIM:#}", groups.len())?;
    }
    writeln!(out, "{DIM}`zarnet why PLAN FLOW` finds the cause of one, and tries repairs{DIM:#}")
}
