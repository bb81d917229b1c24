//! `zarnet predict PLAN TRAFFIC...`

use std::sync::Arc;

use zarnet_analysis::answer::predict::PredictAnswer;
use zarnet_core::predict::{Options, predict};

use super::plan;
use super::traffic::{attempts, device, given, moment, open, tell_elsewhere};
use crate::args::{Common, Format, Predict};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::present::predict::text;
use crate::present::{View, present};

pub fn run(args: &Predict, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let only = args.device.as_deref().map(|name| device(&loaded.plan, name)).transpose()?;
    let traffic = open(&given(&args.traffic)?, &loaded, &args.reader, common)?;
    let sessions = args.sessions || common.format == Format::Json;
    let shared = Arc::new(loaded.plan.clone());
    let moment = moment(&args.at, &shared, &traffic, common)?;
    let (seed, timeline) = (common.seed, args.timeline);
    let options = Options { moment, seed, sessions, timeline, ..Options::default() };
    let prediction = attempts(&traffic, options, common.quiet, |items, options| {
        predict(shared.clone(), items, traffic.events(), options)
    })?;
    tell_elsewhere(&prediction, common.quiet);
    let answer = PredictAnswer {
        plan: &prediction.plan,
        sources: traffic.plan_files(),
        prediction: &prediction,
        only,
        sessions: args.sessions,
    };
    present(&answer, common, |out, width| {
        let (rows, verbose) = (args.rows, common.verbose);
        text(out, answer, View { width, rows, verbose })
    })?;
    Ok(if prediction.negative { NEGATIVE } else { FINE })
}
