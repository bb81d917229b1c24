//! `zarnet follow PLAN FLOW`

use std::sync::Arc;

use zarnet_analysis::answer::Naming;
use zarnet_analysis::answer::follow::FollowAnswer;
use zarnet_core::net::Instant;
use zarnet_core::plan::Plan;
use zarnet_core::predict::{Options, Scene, follow_during};
use zarnet_core::traffic::Flow;
use zarnet_formats::capture_of;
use zarnet_formats::plan::Loaded;
use zarnet_formats::source::Sources;
use zarnet_formats::traffic::Names;

use super::plan;
use super::traffic::{attempts, given, moment, open};
use crate::args::{Common, Day, Follow};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::files;
use crate::present::follow::text;
use crate::present::table::count;
use crate::present::{diagnostic, present};

pub fn run(args: &Follow, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let flow = flow(&args.flow, &loaded.plan)?;
    let (scene, sources) = on_the_day(&loaded, &flow, &args.day, common)?;
    let followed = &scene.followed;
    let naming = Naming { plan: &followed.plan, sources: &sources };
    let answer = FollowAnswer { naming, followed, network: Some(&scene.network) };
    if let Some(path) = &args.capture_to {
        let arrived = followed.arrived.map(|a| a.1.ends);
        let capture = capture_of(followed, |at| answer.observation_point(at, arrived));
        files::write_new(path, &capture, args.force)?;
        let places = count(followed.views().len() as u64, "place", "places");
        diagnostic::note(
            common.quiet,
            &format!("wrote what {places} would record to {}", path.display()),
        );
    }
    present(&answer, common, |out, width| text(answer, out, width, common.verbose))?;
    Ok(if followed.negative { NEGATIVE } else { FINE })
}

/// A flow as typed.
pub(super) fn flow(text: &str, plan: &Plan) -> Result<Flow, Failure> {
    Names::new(plan)
        .flow(text, Instant::ZERO)
        .map_err(|fault| Failure::wrong(fault.name(), format!("\"{text}\": {fault}"), fault.help()))
}

/// Follows a flow at the wanted moment of a day, or on a network at rest.
fn on_the_day(
    loaded: &Loaded,
    flow: &Flow,
    day: &Day,
    common: &Common,
) -> Result<(Scene, Sources), Failure> {
    let shared = Arc::new(loaded.plan.clone());
    if day.during.is_empty() {
        return Ok((Scene::at_rest(shared, common.seed, flow), loaded.sources.clone()));
    }
    let traffic = open(&given(&day.during)?, loaded, &day.reader, common)?;
    let moment = moment(&day.at, &shared, &traffic, common)?;
    let options = Options { moment, seed: common.seed, sessions: false, ..Options::default() };
    let scene = attempts(&traffic, options, common.quiet, |items, options| {
        follow_during(shared.clone(), items, traffic.events(), options, flow)
    })?;
    Ok((scene, traffic.plan_files().clone()))
}
