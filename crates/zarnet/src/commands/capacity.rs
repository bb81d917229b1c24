//! `zarnet capacity PLAN TRAFFIC...`

use std::path::Path;

use zarnet_analysis::answer::capacity::CapacityAnswer;
use zarnet_analysis::capacity::{CapacityAnalysis, CapacityQuestion, TakenTable, of_observed};
use zarnet_formats::plan::Loaded;

use super::compare::{end_of_log, table};
use super::plan;
use super::traffic::{Progress, TrialProgress, given, opening, tell_skipped};
use crate::args::{Capacity, Common, Format};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::files;
use crate::present::capacity::{chart, text};
use crate::present::{diagnostic, present};

pub fn run(args: &Capacity, common: &Common) -> Result<u8, Failure> {
    let drawn = checked(args, common)?;
    let loaded = plan(&args.plan, common)?;
    let analysis = analysis(args, &loaded, common)?;
    if let Some(name) = &args.apply {
        return apply(name, &analysis, &loaded, args.force, common);
    }
    let answer = CapacityAnswer {
        loaded: &loaded,
        analysis: &analysis,
        target: args.target,
        users: args.users,
        alert: args.alert,
        over_time: args.over_time,
    };
    if let Some((path, kind)) = drawn {
        files::write_new(
            path,
            &chart::drawn(answer, kind).map_err(std::io::Error::other)?,
            args.force,
        )?;
        diagnostic::note(common.quiet, &format!("wrote {}", path.display()));
    }
    present(&answer, common, |out, width| text(answer, args, out, width, common.verbose))?;
    Ok(if analysis.resources.iter().any(|r| r.refused_flows > 0) { NEGATIVE } else { FINE })
}

fn kind_of(path: &Path) -> Result<chart::Kind, Failure> {
    match path.extension().and_then(|e| e.to_str()) {
        Some("svg") => Ok(chart::Kind::Svg),
        #[cfg(feature = "png")]
        Some("png") => Ok(chart::Kind::Png),
        #[cfg(not(feature = "png"))]
        Some("png") => {
            let message = "--chart: this build of zarnet draws no .png";
            let help = "name an .svg file, or build with the feature `png`".to_owned();
            Err(Failure::wrong("unknown-picture", message, help))
        }
        _ => {
            let message = format!("--chart: {} is neither .svg nor .png", path.display());
            Err(Failure::wrong(
                "unknown-picture",
                message,
                "name the file so: use.svg, use.png".to_owned(),
            ))
        }
    }
}

/// Writes a remedy into the files of the plan that it changes.
fn apply(
    name: &str,
    analysis: &CapacityAnalysis,
    loaded: &Loaded,
    force: bool,
    common: &Common,
) -> Result<u8, Failure> {
    let trial = analysis.remedy(name)?;
    let Some(changed) = &trial.changed else {
        let why = trial
            .obstacle
            .clone()
            .unwrap_or_else(|| "it cannot be written into this plan".to_owned());
        return Err(Failure::wrong("no-such-repair", format!("{name}: {why}"), None));
    };
    let written = files::put_plan(&loaded.sources, &changed.sources, force)?;
    diagnostic::written(&written, &trial.title, common.quiet);
    Ok(FINE)
}

/// Refuses arguments that do not go together; gives the picture that is to be drawn.
fn checked<'a>(
    args: &'a Capacity,
    common: &Common,
) -> Result<Option<(&'a Path, chart::Kind)>, Failure> {
    if args.target <= 0.0 || args.target >= 1.0 {
        let help = "no finite supply can guarantee zero refusals, and none is needed to refuse \
                    all; write a share such as 0.1%"
            .to_owned();
        let message = "--target is not between 0% and 100%";
        return Err(Failure::wrong("target-out-of-reach", message, help));
    }
    if args.over_time && common.format == Format::Text {
        let help = "add --format csv or --format json; as text, a picture is drawn".to_owned();
        return Err(Failure::wrong("not-as-text", "--over-time is for scripts", help));
    }
    let Some(path) = args.chart.as_deref() else { return Ok(None) };
    let kind = kind_of(path)?;
    if path.exists() && !args.force {
        let message = format!("{} is there already", path.display());
        return Err(Failure::wrong("file-exists", message, "--force overwrites it".to_owned()));
    }
    Ok(Some((path, kind)))
}

/// What is found out: from traffic, or from a table that a device has.
fn analysis(
    args: &Capacity,
    loaded: &Loaded,
    common: &Common,
) -> Result<CapacityAnalysis, Failure> {
    let only = args.table.device.as_deref();
    if !args.observed.is_empty() {
        let tables = tables(args, loaded)?;
        return Ok(of_observed(loaded, &tables, only, args.supply.as_deref(), args.growth)?);
    }
    let question = CapacityQuestion {
        loaded,
        opening: opening(given(&args.traffic)?, &args.reader, common),
        at: args.at.clone(),
        device: only.map(str::to_owned),
        supply: args.supply.clone(),
        target: args.target,
        growth: args.growth,
        runs: args.runs,
        brief: args.brief,
        remedy: args.remedy.clone(),
        trials: &TrialProgress::new(common.quiet),
    };
    let (analysis, skipped) = question.answer(&Progress::new(common.quiet))?;
    tell_skipped(skipped, common.quiet);
    Ok(analysis)
}

/// Tables of a device, the oldest first.
fn tables(args: &Capacity, loaded: &Loaded) -> Result<Vec<TakenTable>, Failure> {
    let days = args.taken.iter().map(|text| day(text)).collect::<Result<Vec<f64>, _>>()?;
    if !days.is_empty() && days.len() != args.observed.len() {
        let message = format!(
            "--taken is given {} times, and --observed {} times",
            days.len(),
            args.observed.len()
        );
        let help = "say when each table was taken, in their order".to_owned();
        return Err(Failure::wrong("dates-and-tables", message, help));
    }
    if args.observed.len() > 1 && days.is_empty() {
        let message = "of several tables it is not known when they were taken";
        let help = "--taken 2026-08-01 for each --observed, in their order".to_owned();
        return Err(Failure::wrong("dates-and-tables", message, help));
    }
    let one = |(n, named): (usize, &String)| {
        let rows = table(named, &args.table, &loaded.plan, end_of_log)?;
        Ok(TakenTable { rows, day: days.get(n).copied().unwrap_or_default() })
    };
    args.observed.iter().enumerate().map(one).collect()
}

/// A date, or a time of day, in days.
fn day(text: &str) -> Result<f64, Failure> {
    zarnet_formats::traffic::days_of(text).ok_or_else(|| {
        let help = "write a date, 2026-08-01, or a time, 2026-08-01T06:00:00Z".to_owned();
        Failure::wrong("bad-date", format!("--taken: `{text}` is not a date"), help)
    })
}
