//! `zarnet capacity PLAN TRAFFIC...`

use std::cell::Cell;
use std::path::Path;
use std::sync::Arc;

use zarnet_analysis::answer::capacity::{CapacityAnalysis, CapacityAnswer, Outlook, Trial};
use zarnet_analysis::answer::supply_name;
use zarnet_analysis::capacity::{MOST_UNITS, Resource, demand, of_table, resources};
use zarnet_core::net::Instant;
use zarnet_core::predict::{Options, Prediction, predict};
use zarnet_core::traffic::{Batches, Item};
use zarnet_formats::plan::Loaded;
use zarnet_formats::traffic::Given;

use super::compare::table;
use super::plan;
use super::traffic::{At, attempts, device, given, moment, open, peak_or, tell_skipped};
use crate::args::{Capacity, Common, Format};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::files;
use crate::present::capacity::{chart, text};
use crate::present::{diagnostic, present};

/// Loads that a forecast is made of, against the busiest hour.
pub(super) const GROWTHS: [f64; 5] = [1.0, 1.25, 1.5, 2.0, 3.0];
/// No forecast is made from fewer.
const LEAST_REQUESTS: u64 = 10;

pub fn run(args: &Capacity, common: &Common) -> Result<u8, Failure> {
    if args.target <= 0.0 || args.target >= 1.0 {
        let help = "no finite supply refuses nobody for sure; write a share as 0.1%".to_owned();
        return Err(Failure::wrong(
            "target-out-of-reach",
            "--target is not between 0% and 100%",
            help,
        ));
    }
    if args.over_time && common.format == Format::Text {
        let help = "add --format csv or --format json; as text, a picture is drawn".to_owned();
        return Err(Failure::wrong("not-as-text", "--over-time is for scripts", help));
    }
    let drawn =
        args.chart.as_deref().map(|path| Ok::<_, Failure>((path, kind_of(path)?))).transpose()?;
    if let Some((path, _)) = drawn
        && path.exists()
        && !args.force
    {
        let message = format!("{} is there already", path.display());
        return Err(Failure::wrong("file-exists", message, "--force overwrites it".to_owned()));
    }
    let loaded = plan(&args.plan, common)?;
    let given = given(&args.traffic)?;
    let analysis = Setting { args, common, given, loaded: &loaded }.analysis()?;
    if let Some(name) = &args.apply {
        return apply(name, &analysis, &loaded, args.force, common);
    }
    let answer = CapacityAnswer {
        loaded: &loaded,
        analysis: &analysis,
        target: args.target,
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
        Some("png") => Ok(chart::Kind::Png),
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
    let trial = remedy(name, analysis)?;
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

/// A remedy by its name; of several supplies, the first that has one.
fn remedy<'a>(name: &str, analysis: &'a CapacityAnalysis) -> Result<&'a Trial, Failure> {
    analysis.trials.iter().find(|t| t.kind.name() == name).ok_or_else(|| {
        let names: Vec<&str> = analysis.trials.iter().map(|t| t.kind.name()).collect();
        let help = match names.is_empty() {
            true => "nothing was refused, so none was looked for; --supply NAME looks at one all \
                     the same"
                .to_owned(),
            false => format!("one of {}", names.join(", ")),
        };
        Failure::wrong("unknown-name", format!("there is no remedy `{name}`"), help)
    })
}

pub(super) struct Setting<'a> {
    pub args: &'a Capacity,
    pub common: &'a Common,
    pub given: Vec<Given>,
    pub loaded: &'a Loaded,
}

impl Setting<'_> {
    fn analysis(&self) -> Result<CapacityAnalysis, Failure> {
        if let Some(path) = &self.args.observed {
            let observed = table(path, &self.args.table, &self.loaded.plan)?;
            let resources = self.chosen(of_table(&self.loaded.plan, &observed))?;
            return Ok(CapacityAnalysis {
                resources,
                observed: true,
                ..CapacityAnalysis::default()
            });
        }
        let (prediction, begun) = self.predicted()?;
        let all = resources(&prediction, self.args.at.is_some());
        let elsewhere = prediction.recording.as_ref().map_or(0, |r| {
            r.shortages.iter().filter(|s| s.tried.iter().all(Option::is_none)).count()
        });
        let resources = self.chosen(all)?;
        let (from, until) = (begun, prediction.end);
        let mut analysis =
            CapacityAnalysis { resources, from, until, elsewhere, ..CapacityAnalysis::default() };
        analysis.outlooks =
            analysis.resources.iter().map(|r| self.outlook(r, from, until)).collect();
        if !self.args.brief {
            self.simulate(&mut analysis)?;
            self.try_remedies(&mut analysis)?;
        }
        if let Some(name) = &self.args.remedy {
            analysis.shown = Some(remedy(name, &analysis)?.kind);
        }
        Ok(analysis)
    }

    /// The traffic, played with what was in use kept, and when it begins.
    fn predicted(&self) -> Result<(Prediction, Instant), Failure> {
        let traffic = open(&self.given, self.loaded, &self.args.reader, self.common)?;
        let shared = Arc::new(self.loaded.plan.clone());
        let at = match self.args.at.as_deref() {
            Some(text) => moment(text, &traffic)?,
            None => At::Peak,
        };
        let moment = peak_or(at, &shared, &traffic, self.common)?;
        let options = Options {
            moment,
            seed: self.common.seed,
            sessions: false,
            record: true,
            ..Options::default()
        };
        let begun = Cell::new(None);
        let (prediction, skipped) =
            attempts(&traffic, options, self.common.quiet, |items, options| {
                predict(shared.clone(), Timed { items, begun: &begun }, traffic.events(), options)
            })?;
        tell_skipped(skipped, self.common.quiet);
        Ok((prediction, begun.get().unwrap_or_default()))
    }

    /// The resources that were asked for.
    fn chosen(&self, all: Vec<Resource>) -> Result<Vec<Resource>, Failure> {
        let only =
            self.args.table.device.as_deref().map(|n| device(&self.loaded.plan, n)).transpose()?;
        let named: Vec<Resource> =
            all.into_iter().filter(|r| only.is_none_or(|d| r.device == d)).collect();
        let Some(name) = &self.args.supply else { return Ok(named) };
        let is = |r: &Resource| {
            supply_name(&self.loaded.plan, r.device, r.supply).iter().any(|n| n == name)
        };
        let found: Vec<Resource> = named.iter().filter(|r| is(r)).cloned().collect();
        if found.is_empty() {
            let mut names: Vec<String> = named
                .iter()
                .flat_map(|r| supply_name(&self.loaded.plan, r.device, r.supply))
                .collect();
            names.sort();
            names.dedup();
            let help = format!("used were {}", names.join(", "));
            return Err(Failure::wrong(
                "unknown-name",
                format!("there is no supply `{name}` in use"),
                help,
            ));
        }
        Ok(found)
    }

    fn outlook(&self, resource: &Resource, from: Instant, until: Instant) -> Option<Outlook> {
        let usable = resource.series.usable?;
        let demand = demand(resource, from, until);
        // of a handful of requests nothing can be said
        if resource.series.begun + resource.refused_flows < LEAST_REQUESTS || demand.offered <= 0.0
        {
            return None;
        }
        let forecasts = GROWTHS.iter().map(|g| demand.grown(usable, *g)).collect();
        let headroom = demand.headroom(usable, self.args.target);
        let months =
            self.args.growth.filter(|g| *g > 0.0).zip(headroom).map(|(g, h)| h.ln() / g.ln_1p());
        let needed = demand.needed(self.args.target, 1.0, MOST_UNITS);
        Some(Outlook { demand, forecasts, headroom, months, needed, simulated: Vec::new() })
    }
}

/// Traffic that tells when it begins.
struct Timed<'a, B> {
    items: B,
    begun: &'a Cell<Option<Instant>>,
}

impl<B: Batches> Batches for Timed<'_, B> {
    type Error = B::Error;

    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<B::Error> {
        let error = self.items.fill(batch, most);
        // what has to be sorted is read again, and then begins earlier
        let first = batch.first().map(Item::at).into_iter().chain(self.begun.get()).min();
        self.begun.set(first);
        error
    }
}
