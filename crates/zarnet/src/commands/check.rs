//! `zarnet check PLAN`

use annotate_snippets::Level;
use serde::Serialize;
use zarnet_core::audit::{Finding, Severity, audit};
use zarnet_formats::plan::{LoadError, Loaded, load};
use zarnet_formats::source::Sources;

use crate::args::{Check, Common, Format};
use crate::exit::{FINE, Failure, NEGATIVE, WRONG_INPUT};
use crate::render::diagnostic::{Told, snippet};
use crate::render::naming::Position;
use crate::render::table::count;
use crate::render::{json, output};

/// The answer as a shape.
#[derive(Serialize)]
struct Report {
    shape: u32,
    findings: Vec<Entry>,
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
}

pub fn run(args: &Check, common: &Common) -> Result<u8, Failure> {
    let Loaded { plan, sources } = match load(&args.plan) {
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
            };
            write(&Report { shape: 1, findings: problems.iter().map(entry).collect() }, common.format)?;
            return Ok(WRONG_INPUT);
        }
        Err(_) => return super::plan(&args.plan).map(|_| FINE),
    };
    let findings = audit(&plan);
    let bad = findings.iter().any(|f| f.severity == Severity::Error);
    if common.format != Format::Text {
        let entry = |f: &Finding| Entry {
            name: f.name,
            severity: f.severity.name(),
            message: f.message.clone(),
            places: f.places.iter().filter_map(|p| Position::of(*p, &sources)).collect(),
            witness: None,
            repair: f.help.clone(),
        };
        write(&Report { shape: 1, findings: findings.iter().map(entry).collect() }, common.format)?;
    } else {
        text(&findings, &sources, &plan, args)?;
    }
    Ok(if bad { NEGATIVE } else { FINE })
}

fn text(findings: &[Finding], sources: &Sources, plan: &zarnet_core::plan::Plan, args: &Check) -> Result<(), Failure> {
    let rules: usize = plan.devices.iter().map(|d| d.rules.len()).sum();
    output::answer(|out| {
        for f in findings {
            let level = match f.severity {
                Severity::Error => Level::ERROR,
                Severity::Warning => Level::WARNING,
                Severity::Hint => Level::INFO.with_name("hint"),
            };
            let other = f.places.get(1).map(|p| (*p, "this one"));
            let (place, message, help) = (f.places.first().copied(), f.message.clone(), f.help.clone());
            writeln!(out, "{}\n", snippet(&Told { level, name: f.name, message, place, other, help }, sources))?;
        }
        let number = |s: Severity| findings.iter().filter(|f| f.severity == s).count() as u64;
        let summary = format!(
            "{}: {}, {}, {}, {}",
            args.plan.display(),
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
        output::plain(|out| json::write(out, report))?;
        return Ok(());
    }
    output::plain(|out| {
        writeln!(out, "severity,name,file,line,column,message")?;
        for f in &report.findings {
            let message = f.message.replace('"', "\"\"");
            let (file, line, column) = match f.places.first() {
                Some(p) => (p.file.as_str(), p.line.to_string(), p.column.to_string()),
                None => ("", String::new(), String::new()),
            };
            writeln!(out, "{},{},{file},{line},{column},\"{message}\"", f.severity, f.name)?;
        }
        Ok(())
    })?;
    Ok(())
}
