//! `zarnet impact PLAN NEW-PLAN`

use std::sync::Arc;

use zarnet_analysis::answer::impact::ImpactAnswer;
use zarnet_analysis::impact::{LiveSession, impact_of_files, live_sessions};
use zarnet_core::plan::Plan;
use zarnet_core::predict::{Options, predict};
use zarnet_formats::plan::Loaded;

use super::traffic::{attempts, device, given, moment, open};
use super::two_plans;
use crate::args::{Common, Impact};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::present::impact::text;
use crate::present::{View, present};

pub fn run(args: &Impact, common: &Common) -> Result<u8, Failure> {
    let (old, new) = two_plans(&args.plan, &args.new_plan, common)?;
    let mut found = impact_of_files(&old, &new);
    if let Some(name) = &args.device {
        device(&old.plan, name).or_else(|f| device(&new.plan, name).map_err(|_| f))?;
        found.classes.retain(|c| c.device == *name);
        found.settings.retain(|s| s.device.as_ref() == Some(name));
        found.rewritten.retain(|s| s.device.as_ref() == Some(name));
    }
    let live =
        if args.during.is_empty() { None } else { Some(lingering(args, common, &old, &new.plan)?) };
    let answer = ImpactAnswer { found: &found, live: live.as_deref() };
    present(&answer, common, |out, width| {
        text(answer, out, View { width, rows: args.rows, verbose: common.verbose }, true)
    })?;
    Ok(if found.is_empty() { FINE } else { NEGATIVE })
}

/// The sessions that live at the moment of the change, and what the new plan would make of their
/// first packet: a session goes on as it was, however that is.
fn lingering(
    args: &Impact,
    common: &Common,
    old: &Loaded,
    new: &Plan,
) -> Result<Vec<LiveSession>, Failure> {
    let traffic = open(&given(&args.during)?, old, &args.reader, common)?;
    let shared = Arc::new(old.plan.clone());
    let moment = moment(&args.at, &shared, &traffic, common)?;
    let options = Options { moment, seed: common.seed, ..Options::default() };
    let prediction = attempts(&traffic, options, common.quiet, |items, options| {
        predict(shared.clone(), items, traffic.events(), options)
    })?;
    Ok(live_sessions(&prediction, new, common.seed))
}
