//! Scenarios: flows, load profiles and events in TOML.

mod event;
mod load;

use std::cell::RefCell;
use std::path::Path;

use zarnet_core::event::Event;
use zarnet_core::limits;
use zarnet_core::plan::field::Keys;
use zarnet_core::plan::{Place, Placed, Plan, PlanError, Problem, nearest};
use zarnet_core::traffic::{Load, Repeated};

use super::clock::Clock;
use super::fields::{COLUMNS, Context, Fields, span};
use super::{Fault, Names, TrafficError};
use crate::files::Reach;
use crate::source::{SourceFile, Sources};
use crate::toml_reader::{Collected, Reader, Text, parse, place};

/// A scenario that was read whole.
#[derive(Debug, Default)]
pub(super) struct Scenario {
    pub flows: Vec<Repeated>,
    pub loads: Vec<Load>,
    /// Events, and where each stands, as FILE:LINE.
    pub events: Vec<(Event, String)>,
}

/// What a scenario is read with.
pub(super) struct Setting<'a> {
    /// Path of the scenario's file.
    pub name: &'a Path,
    pub plan: &'a Plan,
    pub names: &'a Names,
    /// Times of day count from the first one that is read.
    pub clock: RefCell<Clock>,
    /// Where the files lie that it may name.
    pub reach: Reach,
    /// Where load profiles without a seed of their own start from.
    pub seed: u64,
    /// What is wrong beyond the notation.
    pub faults: RefCell<Vec<(Fault, Place)>>,
}

impl Setting<'_> {
    fn refuse(&self, fault: Fault, at: Place) {
        let mut faults = self.faults.borrow_mut();
        if faults.len() < limits::PROBLEMS {
            faults.push((fault, at));
        }
    }
}

/// Reads a scenario, or reports everything that is wrong with it. The files of plans that it names
/// are added to `plan_files`.
pub(super) fn read(
    text: &str,
    setting: &Setting<'_>,
    plan_files: &mut Sources,
) -> Result<Scenario, Vec<TrafficError>> {
    let name = setting.name;
    let problems = Collected::default();
    let mut scenario = Scenario::default();
    let table = parse(0, text, &problems);
    let root = Reader::new(0, table.get_ref(), place(0, 0..0), "a scenario", &problems);
    root.prose("note");
    for flow in some_of(root.tables("flow", "a flow"), "flows", limits::SCENARIO_FLOWS, setting) {
        scenario.flows.extend(read_flow(flow, setting));
    }
    let loads =
        some_of(root.tables("load", "a load profile"), "load profiles", limits::LOADS, setting);
    for (i, load) in loads.into_iter().enumerate() {
        scenario.loads.extend(load::read(load, setting, i as u64));
    }
    let events = some_of(root.tables("event", "an event"), "events", limits::EVENTS, setting);
    let line =
        |place: Place| text.get(..place.start as usize).map_or(0, |t| t.matches('\n').count());
    let events = event::read_all(events, setting, plan_files).into_iter();
    scenario.events =
        events.map(|(e, at)| (e, format!("{}:{}", name.display(), line(at) + 1))).collect();
    root.finish();
    let problem = |p: &Problem| {
        let help = p.error.help().map(|h| format!(" ({h})")).unwrap_or_default();
        (Fault::Scenario(format!("{}{help}", p.error)), p.place)
    };
    let mut faults: Vec<(Fault, Place)> =
        problems.into_inner().kept().iter().map(problem).collect();
    faults.append(&mut setting.faults.borrow_mut());
    if faults.is_empty() {
        return Ok(scenario);
    }
    faults.sort_by_key(|f| f.1);
    let sources = Sources(vec![SourceFile::new(name.into(), text.to_owned())]);
    let error = |(fault, place): (Fault, Place)| {
        let line = sources.line_column(place).map(|l| l.line as u64);
        TrafficError { input: name.into(), line, fault: setting.names.with_hint(fault) }
    };
    Err(faults.into_iter().map(error).collect())
}

/// The tables of a list, if there are no more than may be; else none, which is told.
fn some_of<'a>(
    tables: Vec<Reader<'a>>,
    what: &str,
    most: usize,
    setting: &Setting<'_>,
) -> Vec<Reader<'a>> {
    match tables.get(most) {
        None => tables,
        Some(beyond) => {
            setting.refuse(Fault::Scenario(format!("more than {most} {what}")), beyond.place);
            Vec::new()
        }
    }
}

fn read_flow(r: Reader<'_>, setting: &Setting<'_>) -> Option<Repeated> {
    let table = r.place;
    let mut fields = Fields::EMPTY;
    for (name, column) in COLUMNS {
        if let Some(text) = r.scalar(name)
            && let Err(fault) = fields.set(
                column,
                &text.value,
                &mut Context { names: setting.names, clock: &mut setting.clock.borrow_mut() },
            )
        {
            setting.refuse(fault, text.place);
            return None;
        }
    }
    let flow = fields.flow(setting.names).map_err(|fault| setting.refuse(fault, r.place)).ok();
    let (every, count) = (r.scalar("every"), r.number("count"));
    let repeats = match (r.has("every"), r.has("count")) {
        (false, false) => Some((0, 1)),
        (true, true) => {
            every.zip(count).and_then(|(every, count)| repeats(&every, &count, setting))
        }
        (has_every, _) => {
            let missing = if has_every { "count" } else { "every" };
            let place = every.map(|e| e.place).or(count.map(|c| c.place)).unwrap_or(table);
            let why = "a repeated flow needs both `every` (the interval) and `count` (how often \
                       in all)";
            setting.refuse(Fault::Scenario(format!("there is no `{missing}`: {why}")), place);
            None
        }
    };
    r.finish();
    let (flow, (every, count)) = flow.zip(repeats)?;
    let last = every.checked_mul(count - 1).and_then(|span| span.checked_add(flow.start.0));
    if last.is_none_or(|last| last / 1_000_000_000 > limits::SECONDS) {
        setting
            .refuse(Fault::TimeTooLong(format!("the start of the last of {count} times")), table);
        return None;
    }
    Some(Repeated { flow, every, count })
}

/// After which time a flow is sent again, and how often in all.
fn repeats(every: &Text, count: &Placed<i64>, setting: &Setting<'_>) -> Option<(u64, u64)> {
    let every =
        span(&every.value, "every").map_err(|fault| setting.refuse(fault, every.place)).ok();
    let most = limits::REPEATS;
    let times = u64::try_from(count.value).ok().filter(|n| (1..=most).contains(n));
    if times.is_none() {
        let why = format!("`count` must be between 1 and {most}, not {}", count.value);
        setting.refuse(Fault::Scenario(why), count.place);
    }
    every.zip(times)
}

/// The position of a name among others, or a report that it is not one of them.
fn known<'a>(
    r: &Reader<'_>,
    what: &'static str,
    text: &Text,
    names: impl Iterator<Item = &'a str> + Clone,
) -> Option<u16> {
    let found = names.clone().position(|n| n == text.value);
    if found.is_none() {
        let near = nearest(&text.value, names);
        r.report(PlanError::UnknownName { what, name: text.value.clone(), near }, text.place);
    }
    found.map(|i| i as u16)
}

/// A time or length of time; `None` if there is none, or it is wrong, which is then told.
fn time(r: &Reader<'_>, key: &'static str, setting: &Setting<'_>) -> Option<u64> {
    parsed_time(r.scalar(key)?, key, setting)
}

/// The same where there must be one.
fn needed_time(r: &Reader<'_>, key: &'static str, setting: &Setting<'_>) -> Option<u64> {
    parsed_time(r.needed_scalar(key)?, key, setting)
}

fn parsed_time(text: Text, key: &'static str, setting: &Setting<'_>) -> Option<u64> {
    let named = |fault| match fault {
        Fault::Notation { error, .. } => Fault::Notation { column: key, error },
        fault => fault,
    };
    let time = setting.clock.borrow_mut().parse(&text.value).map(|t| t.0);
    time.map_err(|fault| setting.refuse(named(fault), text.place)).ok()
}
