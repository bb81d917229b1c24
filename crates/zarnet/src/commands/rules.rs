//! `zarnet rules PLAN [TRAFFIC...]`: what each rule does, in the order in which they are tried.

use std::sync::Arc;

use zarnet_analysis::answer::predict::PredictAnswer;
use zarnet_analysis::answer::rules::RulesAnswer;
use zarnet_core::predict::{Moment, Options, predict};

use super::plan;
use super::traffic::{attempts, device, given, open};
use crate::args::{Common, Rules};
use crate::exit::{FINE, Failure};
use crate::present::{present, rules};

pub fn run(args: &Rules, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let only = args.device.as_deref().map(|name| device(&loaded.plan, name)).transpose()?;
    let answer = if args.traffic.is_empty() {
        RulesAnswer::new(&loaded.plan, &loaded.sources, only, None)
    } else {
        let traffic = open(&given(&args.traffic)?, &loaded, &args.reader, common)?;
        let shared = Arc::new(loaded.plan.clone());
        let options = Options {
            moment: Moment::End,
            seed: common.seed,
            sessions: false,
            ..Options::default()
        };
        let prediction = attempts(&traffic, options, common.quiet, |items, options| {
            predict(shared.clone(), items, traffic.events(), options)
        })?;
        let counted = PredictAnswer {
            plan: &prediction.plan,
            sources: traffic.plan_files(),
            prediction: &prediction,
            only,
            sessions: false,
        };
        let counts = counted.counters().rules;
        RulesAnswer::new(&loaded.plan, &loaded.sources, only, Some(&counts))
    };
    present(&answer, common, |out, width| rules::text(&answer, out, width))?;
    Ok(FINE)
}
