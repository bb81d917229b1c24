//! `zarnet check PLAN`

use std::collections::BTreeMap;

use serde::Serialize;
use zarnet_analysis::audit::{FINDINGS, Finding, Severity, audit};
use zarnet_core::limits;
use zarnet_formats::plan::{LoadError, Loaded, edited, load};

use super::{reach, told};
use crate::args::{Check, Common, Format};
use crate::exit::{FINE, Failure, NEGATIVE, WRONG_INPUT};
use crate::render::change::{self, diff};
use crate::render::csv::Row;
use crate::render::diagnostic::finding;
use crate::render::naming::Position;
use crate::render::packets::flow;
use crate::render::table::{BOLD, DIM, count};
use crate::render::{json, output};

/// The answer as a shape.
#[derive(Serialize)]
struct Report {
    shape: u32,
    findings: Vec<Entry>,
    /// Errors of the plan that were found and are not listed.
    #[serde(skip_serializing_if = "is_zero")]
    further: usize,
}

fn is_zero(number: &usize) -> bool {
    *number == 0
}

/// A finding, or an error of the plan.
#[derive(Serialize)]
struct Entry {
    name: &'static str,
    severity: &'static str,
    message: String,
    places: Vec<Position>,
    witness: Option<String>,
    repair: Option<String>,
    diff: Option<String>,
}

pub fn run(args: &Check, common: &Common) -> Result<u8, Failure> {
    let Some(path) = args.plan.as_deref() else { return list(common.format) };
    let named = |name: &String| FINDINGS.iter().any(|f| f.0 == name);
    if let Some(wrong) = args.allow.iter().chain(&args.deny).find(|n| !named(n)) {
        let near = zarnet_core::plan::nearest(wrong, FINDINGS.iter().map(|f| f.0));
        let help = near.map_or("`zarnet check --list` has them all".to_owned(), |n| {
            format!("did you mean `{n}`?")
        });
        return Err(Failure::wrong("unknown-name", format!("there is no finding `{wrong}`"), help));
    }
    let mut loaded = match load(path, reach(path, common)) {
        Ok(loaded) => loaded,
        Err(LoadError::Problems { problems, sources }) if common.format != Format::Text => {
            let entry = |p: &zarnet_core::plan::Problem| Entry {
                name: p.error.name(),
                severity: "error",
                message: p.error.to_string(),
                places: std::iter::once(p.place)
                    .chain(p.other.map(|o| o.0))
                    .filter_map(|p| Position::of(p, &sources))
                    .collect(),
                witness: None,
                repair: p.error.help(),
                diff: None,
            };
            let findings = problems.kept().iter().map(entry).collect();
            write(
                &Report { shape: 1, findings, further: problems.count() - problems.kept().len() },
                common.format,
            )?;
            return Ok(WRONG_INPUT);
        }
        Err(error) => return Err(told(error)),
    };
    loaded.plan.allow.extend(args.allow.iter().cloned());
    loaded.plan.deny.extend(args.deny.iter().cloned());
    let (plan, sources) = (&loaded.plan, &loaded.sources);
    let findings = audit(plan);
    // as text, diffs are for those who ask for more
    let is_shown = common.format != Format::Text || common.verbose;
    let repairs = repairs(&loaded, &findings, if is_shown { limits::REPAIRS } else { 0 });
    let bad = findings.iter().any(|f| f.severity == Severity::Error);
    if common.format != Format::Text {
        let entry = |(f, diff): (&Finding, &Option<String>)| Entry {
            name: f.name,
            severity: f.severity.name(),
            message: f.message.clone(),
            places: f.places.iter().filter_map(|p| Position::of(*p, sources)).collect(),
            witness: f.witness.map(flow),
            repair: f.help.clone(),
            diff: diff.clone(),
        };
        let findings = findings.iter().zip(&repairs).map(entry).collect();
        write(&Report { shape: 1, findings, further: 0 }, common.format)?;
    } else {
        text(&findings, &repairs, &loaded, path, common.verbose)?;
    }
    Ok(if bad { NEGATIVE } else { FINE })
}

/// The repairs of the first findings that know one, as diffs: for each the plan is changed and
/// built anew.
fn repairs(loaded: &Loaded, findings: &[Finding], most: usize) -> Vec<Option<String>> {
    let mut left = most;
    let mut one = |f: &Finding| {
        left = left.checked_sub(usize::from(!f.edits.is_empty()))?;
        repair(loaded, f)
    };
    findings.iter().map(&mut one).collect()
}

/// A repair as a diff, where the finding knows one that leads to a plan that can be built.
fn repair(loaded: &Loaded, finding: &Finding) -> Option<String> {
    if finding.edits.is_empty() {
        return None;
    }
    let changed = edited(loaded, std::slice::from_ref(&finding.edits)).ok()?;
    Some(diff(&loaded.sources, &changed.sources))
}

/// Every finding there is.
fn list(format: Format) -> Result<u8, Failure> {
    let all: Vec<(&str, &str, String)> = FINDINGS
        .iter()
        .map(|f| (f.0, f.1.name(), super::explain::sentence(f.0).unwrap_or_default()))
        .collect();
    match format {
        Format::Json => {
            let entry = |f: &(&str, &str, String)| {
                let (name, severity, means) = f;
                serde_json::json!({ "name": name, "severity": severity, "means": means })
            };
            let list: Vec<_> = all.iter().map(entry).collect();
            output::json(|out| {
                json::write(out, &serde_json::json!({ "shape": 1, "findings": list }))
            })?;
        }
        Format::Csv => output::csv(|out| {
            writeln!(out, "name,severity,means")?;
            let mut row = Row::default();
            all.iter().try_for_each(|f| {
                [f.0, f.1, &f.2].into_iter().for_each(|t| row.text(t));
                row.write(out)
            })
        })?,
        Format::Text => output::answer(|out| {
            let longest = all.iter().map(|f| f.0.len()).max().unwrap_or(0);
            for (name, severity, means) in &all {
                writeln!(out, "{severity:<7}  {BOLD}{name:<longest$}{BOLD:#}  {means}")?;
            }
            writeln!(
                out,
                "{DIM}`zarnet explain NAME` tells more; `[check]` of a plan has `allow` and \
                 `deny`{DIM:#}"
            )
        })?,
    }
    Ok(FINE)
}

fn text(
    findings: &[Finding],
    repairs: &[Option<String>],
    loaded: &Loaded,
    path: &std::path::Path,
    verbose: bool,
) -> Result<(), Failure> {
    let Loaded { plan, sources, .. } = loaded;
    let rules: usize = plan.devices.iter().map(|d| d.rules.len()).sum();
    output::answer(|out| {
        let mut shown: BTreeMap<&str, usize> = BTreeMap::new();
        for (f, repair) in findings.iter().zip(repairs) {
            let alike = shown.entry(f.name).or_default();
            *alike += 1;
            if *alike > limits::PROBLEMS_SHOWN {
                continue;
            }
            finding(out, f, sources)?;
            if let Some(repair) = repair.as_ref().filter(|_| verbose) {
                change::write(out, "", repair)?;
            }
            writeln!(out)?;
        }
        for (name, all) in shown.into_iter().filter(|s| s.1 > limits::PROBLEMS_SHOWN) {
            let more = all - limits::PROBLEMS_SHOWN;
            writeln!(out, "... and {more} more `{name}`; --format json lists all\n")?;
        }
        let number = |s: Severity| findings.iter().filter(|f| f.severity == s).count() as u64;
        let summary = format!(
            "{}: {}, {}, {}, {}",
            path.display(),
            count(plan.devices.len() as u64, "device", "devices"),
            count(rules as u64, "rule", "rules"),
            count(plan.hosts.len() as u64, "host", "hosts"),
            count(plan.segments.len() as u64, "segment", "segments"),
        );
        match findings.len() {
            0 => writeln!(out, "{summary}; nothing to report"),
            _ => writeln!(
                out,
                "{summary}; {}, {}, {}",
                count(number(Severity::Error), "error", "errors"),
                count(number(Severity::Warning), "warning", "warnings"),
                count(number(Severity::Hint), "hint", "hints")
            ),
        }
    })?;
    Ok(())
}

fn write(report: &Report, format: Format) -> Result<(), Failure> {
    if format == Format::Json {
        output::json(|out| json::write(out, report))?;
        return Ok(());
    }
    output::csv(|out| {
        writeln!(out, "severity,name,file,line,column,message")?;
        let mut row = Row::default();
        for f in &report.findings {
            let (file, line, column) = match f.places.first() {
                Some(p) => (p.file.as_str(), p.line.to_string(), p.column.to_string()),
                None => ("", String::new(), String::new()),
            };
            [f.severity, f.name, file, &line, &column, &f.message]
                .into_iter()
                .for_each(|t| row.text(t));
            row.write(out)?;
        }
        Ok(())
    })?;
    Ok(())
}
