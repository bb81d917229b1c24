//! `zarnet behaviour [NAME]`

use std::path::Path;

use serde::Serialize;
use zarnet_core::plan::{Behaviour, Described, Preset, Timers};

use crate::args::{BehaviourArgs, Common, Format};
use crate::exit::{FINE, Failure};
use crate::render::csv::Row;
use crate::render::table::{self, BOLD, CAUTION, Cell, Column, DIM};
use crate::render::{json, output};

/// Something that has a behaviour: a preset, or a device of a plan.
struct Subject {
    name: String,
    behaviour: Vec<Described>,
    timers: Vec<Described>,
}

impl Subject {
    fn new(name: &str, behaviour: &Behaviour, timers: &Timers) -> Self {
        Self { name: name.into(), behaviour: behaviour.settings(), timers: timers.settings() }
    }

    fn settings(&self) -> impl Iterator<Item = &Described> {
        self.behaviour.iter().chain(&self.timers)
    }
}

/// The answer as a shape.
#[derive(Serialize)]
struct Report<'a> {
    shape: u32,
    behaviours: Vec<Entry<'a>>,
}

#[derive(Serialize)]
struct Entry<'a> {
    name: &'a str,
    behaviour: serde_json::Map<String, serde_json::Value>,
    timers: serde_json::Map<String, serde_json::Value>,
}

pub fn run(args: &BehaviourArgs, common: &Common) -> Result<u8, Failure> {
    let subjects = subjects(args.name.as_deref(), common)?;
    match common.format {
        Format::Json => {
            let values = |list: &[Described]| {
                list.iter().map(|d| (d.key.clone(), value(&d.value))).collect()
            };
            let entry = |s| -> Entry<'_> {
                let Subject { name, behaviour, timers }: &Subject = s;
                Entry { name, behaviour: values(behaviour), timers: values(timers) }
            };
            output::json(|out| {
                json::write(
                    out,
                    &Report { shape: 1, behaviours: subjects.iter().map(entry).collect() },
                )
            })?;
        }
        Format::Csv => output::csv(|out| {
            writeln!(out, "name,key,value,meaning,source")?;
            let mut row = Row::default();
            for s in &subjects {
                for d in s.settings() {
                    [&s.name, &*d.key, &d.value, d.meaning, d.source]
                        .into_iter()
                        .for_each(|t| row.text(t));
                    row.write(out)?;
                }
            }
            Ok(())
        })?,
        Format::Text => text(&subjects, output::width(common))?,
    }
    Ok(FINE)
}

/// All presets, one of them, or the devices of a plan.
fn subjects(name: Option<&str>, common: &Common) -> Result<Vec<Subject>, Failure> {
    let timers = Timers::default();
    let presets = Preset::ALL.iter().filter(|p| name.is_none_or(|n| n == p.0));
    let found: Vec<Subject> =
        presets.map(|(name, p)| Subject::new(name, &p.behaviour(), &timers)).collect();
    let Some(name) = name.filter(|_| found.is_empty()) else { return Ok(found) };
    if !Path::new(name).exists() {
        let names: Vec<&str> = Preset::ALL.iter().map(|p| p.0).collect();
        let help = format!("the presets are {}; a plan's path shows its devices", names.join(", "));
        return Err(Failure::wrong(
            "unknown-name",
            format!("there is no preset or plan `{name}`"),
            help,
        ));
    }
    let plan = super::plan(Path::new(name), common)?.plan;
    Ok(plan.devices.iter().map(|d| Subject::new(&d.name, &d.behaviour, &d.timers)).collect())
}

/// A value of a plan as JSON has it.
fn value(text: &str) -> serde_json::Value {
    serde_json::from_str(text).unwrap_or(serde_json::Value::Null)
}

fn text(subjects: &[Subject], width: usize) -> Result<(), Failure> {
    let default = Subject::new("bcp", &Preset::Bcp.behaviour(), &Timers::default());
    output::answer(|out| {
        for (n, subject) in subjects.iter().enumerate() {
            if n > 0 {
                writeln!(out)?;
            }
            writeln!(out, "{BOLD}Behaviour of {}{BOLD:#}", subject.name)?;
            let usual =
                |d: &Described| default.settings().any(|u| u.key == d.key && u.value == d.value);
            // several at once: what they differ in is enough
            let shown: Vec<&Described> =
                subject.settings().filter(|d| subjects.len() == 1 || n == 0 || !usual(d)).collect();
            let columns = [
                Column::text("KEY"),
                Column::text("VALUE"),
                Column::text("MEANING").expendable(1),
                Column::text("SOURCE").expendable(2),
            ];
            let row = |d: &&Described| {
                let style = if usual(d) { anstyle::Style::new() } else { CAUTION };
                vec![
                    Cell::from(d.key.as_str()),
                    Cell::styled(d.value.as_str(), style),
                    Cell::from(d.meaning),
                    Cell::styled(d.source, DIM),
                ]
            };
            let rows: Vec<Vec<Cell>> = shown.iter().map(row).collect();
            table::write(out, &columns, &rows, width)?;
            let differs = subject.settings().filter(|d| !usual(d)).count();
            match (shown.len() < subject.settings().count(), differs) {
                (true, _) => writeln!(out, "{DIM}everything else as bcp has it{DIM:#}")?,
                (false, 0) => writeln!(
                    out,
                    "{DIM}these are the defaults: what the best current practices ask for{DIM:#}"
                )?,
                (false, n) => writeln!(
                    out,
                    "{DIM}{} from bcp, the defaults{DIM:#}",
                    table::count(n as u64, "key differs", "keys differ")
                )?,
            }
        }
        if subjects.len() > 1 {
            writeln!(
                out,
                "\n{DIM}zarnet behaviour NAME shows one in full; a plan's path, its devices{DIM:#}"
            )?;
        }
        Ok(())
    })?;
    Ok(())
}
