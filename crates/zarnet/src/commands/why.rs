//! `zarnet why PLAN FLOW`

use zarnet_analysis::answer::why::WhyAnswer;
use zarnet_analysis::diagnose::{Diagnosis, FlowQuestion, of_flow};
use zarnet_core::plan::Edit;
use zarnet_core::predict::Moment;
use zarnet_formats::plan::{Loaded, edited};

use super::compare::{end_of_log, of_log, table};
use super::follow::flow;
use super::plan;
use super::traffic::{Progress, given, open, opening};
use crate::args::{Common, Why};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::files;
use crate::present::why::text;
use crate::present::{diagnostic, present};

pub fn run(args: &Why, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let question = FlowQuestion {
        flow: flow(&args.flow, &loaded.plan)?,
        opening: opening(given(&args.day.during)?, &args.day.reader, common),
        at: args.day.at.clone(),
    };
    let progress = Progress::new(common.quiet);
    let (scene, diagnosis, sources) = question.answer(&loaded, &progress)?;
    if let Some(number) = args.apply {
        return apply(number, &loaded, &diagnosis, args.force, common);
    }
    let tried = question.tried(&loaded, &diagnosis, &progress)?;
    // it would stand in the middle of the answer
    drop(progress);
    let moment = || match args.day.during.is_empty() {
        true => end_of_log(),
        false => {
            let traffic = open(&given(&args.day.during)?, &loaded, &args.day.reader, common)?;
            of_log(&traffic, Moment::At(scene.followed.at))
        }
    };
    let observed = args
        .observed
        .as_deref()
        .map(|named| table(named, &args.table, &loaded.plan, moment))
        .transpose()?;
    let observed = observed.map(|table| of_flow(&table, &scene));
    let answer = WhyAnswer {
        sources: &sources,
        scene: &scene,
        diagnosis: &diagnosis,
        tried: &tried,
        observed: observed.as_deref(),
    };
    present(&answer, common, |out, _| text(answer, out, common.verbose))?;
    Ok(if diagnosis.works { FINE } else { NEGATIVE })
}

/// Writes a repair into the files of the plan that it changes.
fn apply(
    number: usize,
    loaded: &Loaded,
    diagnosis: &Diagnosis,
    force: bool,
    common: &Common,
) -> Result<u8, Failure> {
    let Some(repair) = number.checked_sub(1).and_then(|n| diagnosis.repairs.get(n)) else {
        let count = diagnosis.repairs.len();
        let message = format!("there is no repair {number}; {count} were found");
        return Err(Failure::wrong(
            "no-such-repair",
            message,
            "run it without --apply to see them".to_owned(),
        ));
    };
    if repair.changes.iter().flatten().any(Edit::is_on_device) {
        let is_edit = |r: &&zarnet_analysis::diagnose::Repair| {
            !r.changes.iter().flatten().any(Edit::is_on_device)
        };
        let other = diagnosis.repairs.iter().position(|r| is_edit(&r));
        let other =
            other.map_or(String::new(), |n| format!("; --apply {} changes the plan", n + 1));
        let help = format!("what it needs is done on the device: {}{other}", repair.title);
        return Err(Failure::wrong("no-such-repair", "this repair is no change of the plan", help));
    }
    let changed = edited(loaded, &repair.changes).map_err(|_| {
        Failure::wrong("no-such-repair", "the repair cannot be written into this plan", None)
    })?;
    let written = files::put_plan(&loaded.sources, &changed.sources, force)?;
    diagnostic::written(&written, &repair.title, common.quiet);
    Ok(FINE)
}
