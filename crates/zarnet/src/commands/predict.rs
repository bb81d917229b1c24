//! `zarnet predict PLAN TRAFFIC...`

use std::sync::Arc;

use zarnet_core::predict::{Options, predict};

use super::plan;
use super::traffic::{
    attempts, device, given, moment, open, peak_or, tell_elsewhere, tell_skipped,
};
use crate::args::{Common, Format, Predict};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::render::answer::Answer;
use crate::render::text::View;
use crate::render::{csv, json, output, text};

pub fn run(args: &Predict, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let only = args.device.as_deref().map(|name| device(&loaded.plan, name)).transpose()?;
    let traffic = open(&given(&args.traffic)?, &loaded, &args.reader, common)?;
    let sessions = args.sessions || common.format == Format::Json;
    let shared = Arc::new(loaded.plan.clone());
    let moment = peak_or(moment(&args.at, &traffic)?, &shared, &traffic, common)?;
    let options = Options { moment, seed: common.seed, sessions, ..Options::default() };
    let (prediction, skipped) = attempts(&traffic, options, common.quiet, |items, options| {
        predict(shared.clone(), items, traffic.events(), options)
    })?;
    tell_skipped(skipped, common.quiet);
    tell_elsewhere(&prediction, common.quiet);
    let answer = Answer {
        plan: &prediction.plan,
        sources: traffic.plan_files(),
        prediction: &prediction,
        only,
    };
    match common.format {
        Format::Json => output::json(|out| json::write(out, &answer))?,
        Format::Csv if args.sessions => output::csv(|out| csv::sessions(out, answer))?,
        Format::Csv => output::csv(|out| csv::mappings(out, answer))?,
        Format::Text => {
            let (width, verbose) = (output::width(common), common.verbose);
            let view = View { width, rows: args.rows, sessions: args.sessions, verbose };
            output::answer(|out| text::write(out, answer, view))?;
        }
    }
    Ok(if prediction.negative { NEGATIVE } else { FINE })
}
