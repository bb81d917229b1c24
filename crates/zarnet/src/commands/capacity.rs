//! `zarnet capacity PLAN TRAFFIC...`

use std::cell::Cell;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use zarnet_core::capacity::{self, MOST_UNITS, Resource, Spread, demand, of_hour, of_table, remedies, resources};
use zarnet_core::device::Supply;
use zarnet_core::net::Instant;
use zarnet_core::plan::{DeviceId, Edit, RuleId};
use zarnet_core::predict::{Moment, Options, Prediction, predict};
use zarnet_core::traffic::{Batches, Item};
use zarnet_formats::plan::{Loaded, edited};
use zarnet_formats::traffic::{Given, Growth};

use super::compare::table;
use super::plan;
use super::traffic::{At, attempts, device, given, moment, open, open_grown, peak_or, tell_skipped};
use crate::args::{Capacity, Common, Format};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::files;
use crate::render::capacity::{Answer, Outcome, Outlook, Simulated, Study, Trial, chart};
use crate::render::naming::supply_name;
use crate::render::{diagnostic, json, output};

/// Loads that a forecast is made of, against the busiest hour.
const GROWTHS: [f64; 5] = [1.0, 1.25, 1.5, 2.0, 3.0];
/// No forecast is made from fewer.
const LEAST_REQUESTS: u64 = 10;

pub fn run(args: &Capacity, common: &Common) -> Result<u8, Failure> {
    if args.target <= 0.0 || args.target >= 1.0 {
        let help = "no finite supply refuses nobody for sure; write a share as 0.1%".to_owned();
        return Err(Failure::wrong("target-out-of-reach", "--target is not between 0% and 100%", help));
    }
    if args.over_time && common.format == Format::Text {
        let help = "add --format csv or --format json; as text, a picture is drawn".to_owned();
        return Err(Failure::wrong("not-as-text", "--over-time is for scripts", help));
    }
    let drawn = args.chart.as_deref().map(|path| Ok::<_, Failure>((path, kind_of(path)?))).transpose()?;
    if let Some((path, _)) = drawn
        && path.exists()
        && !args.force
    {
        let message = format!("{} is there already", path.display());
        return Err(Failure::wrong("file-exists", message, "--force overwrites it".to_owned()));
    }
    let loaded = plan(&args.plan, common)?;
    let given = given(&args.traffic)?;
    let study = Setting { args, common, given, loaded: &loaded }.study()?;
    if let Some(name) = &args.apply {
        return apply(name, &study, &loaded, args.force, common);
    }
    let answer = Answer { loaded: &loaded, study: &study, args };
    if let Some((path, kind)) = drawn {
        files::write_new(path, &chart::drawn(answer, kind).map_err(std::io::Error::other)?, args.force)?;
        diagnostic::note(common.quiet, &format!("wrote {}", path.display()));
    }
    match common.format {
        Format::Json => output::json(|out| json::write(out, &answer.shape()))?,
        Format::Csv => output::csv(|out| answer.csv(out))?,
        Format::Text => output::answer(|out| answer.text(out, output::width(common), common.verbose))?,
    }
    Ok(if study.resources.iter().any(|r| r.refused_flows > 0) { NEGATIVE } else { FINE })
}

fn kind_of(path: &Path) -> Result<chart::Kind, Failure> {
    match path.extension().and_then(|e| e.to_str()) {
        Some("svg") => Ok(chart::Kind::Svg),
        Some("png") => Ok(chart::Kind::Png),
        _ => {
            let message = format!("--chart: {} is neither .svg nor .png", path.display());
            Err(Failure::wrong("unknown-picture", message, "name the file so: use.svg, use.png".to_owned()))
        }
    }
}

/// Writes a remedy into the files of the plan that it changes.
fn apply(name: &str, study: &Study, loaded: &Loaded, force: bool, common: &Common) -> Result<u8, Failure> {
    let trial = remedy(name, study)?;
    let Some(changed) = &trial.changed else {
        let why = trial.obstacle.clone().unwrap_or_else(|| "it cannot be written into this plan".to_owned());
        return Err(Failure::wrong("no-such-repair", format!("{name}: {why}"), None));
    };
    let written = files::put_plan(&loaded.sources, &changed.sources, force)?;
    diagnostic::written(&written, &trial.title, common.quiet);
    Ok(FINE)
}

/// A remedy by its name; of several supplies, the first that has one.
fn remedy<'a>(name: &str, study: &'a Study) -> Result<&'a Trial, Failure> {
    study.trials.iter().find(|t| t.kind.name() == name).ok_or_else(|| {
        let names: Vec<&str> = study.trials.iter().map(|t| t.kind.name()).collect();
        let help = match names.is_empty() {
            true => "nothing was refused, so none was looked for; --supply NAME looks at one all the same".to_owned(),
            false => format!("one of {}", names.join(", ")),
        };
        Failure::wrong("unknown-name", format!("there is no remedy `{name}`"), help)
    })
}

struct Setting<'a> {
    args: &'a Capacity,
    common: &'a Common,
    given: Vec<Given>,
    loaded: &'a Loaded,
}

impl Setting<'_> {
    fn study(&self) -> Result<Study, Failure> {
        if let Some(path) = &self.args.observed {
            let observed = table(path, &self.args.table, &self.loaded.plan)?;
            let resources = self.chosen(of_table(&self.loaded.plan, &observed))?;
            return Ok(Study { resources, observed: true, ..Study::default() });
        }
        let (prediction, begun) = self.predicted()?;
        let all = resources(&prediction, self.args.at.is_some());
        let elsewhere = prediction
            .recording
            .as_ref()
            .map_or(0, |r| r.shortages.iter().filter(|s| s.tried.iter().all(Option::is_none)).count());
        let resources = self.chosen(all)?;
        let (from, until) = (begun, prediction.end);
        let mut study = Study { resources, from, until, elsewhere, ..Study::default() };
        study.outlooks = study.resources.iter().map(|r| self.outlook(r, from, until)).collect();
        if !self.args.brief {
            self.simulate(&mut study)?;
            self.try_remedies(&mut study)?;
        }
        if let Some(name) = &self.args.remedy {
            study.shown = Some(remedy(name, &study)?.kind);
        }
        Ok(study)
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
        let options = Options { moment, seed: self.common.seed, sessions: false, record: true, ..Options::default() };
        let begun = Cell::new(None);
        let (prediction, skipped) = attempts(&traffic, options, self.common.quiet, |items, options| {
            predict(shared.clone(), Timed { items, begun: &begun }, traffic.events(), options)
        })?;
        tell_skipped(skipped, self.common.quiet);
        Ok((prediction, begun.get().unwrap_or_default()))
    }

    /// The resources that were asked for.
    fn chosen(&self, all: Vec<Resource>) -> Result<Vec<Resource>, Failure> {
        let only = self.args.table.device.as_deref().map(|n| device(&self.loaded.plan, n)).transpose()?;
        let named: Vec<Resource> = all.into_iter().filter(|r| only.is_none_or(|d| r.device == d)).collect();
        let Some(name) = &self.args.supply else { return Ok(named) };
        let is = |r: &Resource| supply_name(&self.loaded.plan, r.device, r.supply).iter().any(|n| n == name);
        let found: Vec<Resource> = named.iter().filter(|r| is(r)).cloned().collect();
        if found.is_empty() {
            let mut names: Vec<String> =
                named.iter().flat_map(|r| supply_name(&self.loaded.plan, r.device, r.supply)).collect();
            names.sort();
            names.dedup();
            let help = format!("used were {}", names.join(", "));
            return Err(Failure::wrong("unknown-name", format!("there is no supply `{name}` in use"), help));
        }
        Ok(found)
    }

    fn outlook(&self, resource: &Resource, from: Instant, until: Instant) -> Option<Outlook> {
        let usable = resource.series.usable?;
        let demand = demand(resource, from, until);
        // of a handful of requests nothing can be said
        if resource.series.begun + resource.refused_flows < LEAST_REQUESTS || demand.offered <= 0.0 {
            return None;
        }
        let forecasts = GROWTHS.iter().map(|g| demand.grown(usable, *g)).collect();
        let headroom = demand.headroom(usable, self.args.target);
        let months = self.args.growth.filter(|g| *g > 0.0).zip(headroom).map(|(g, h)| h.ln() / g.ln_1p());
        let needed = demand.needed(self.args.target, 1.0, MOST_UNITS);
        Some(Outlook { demand, forecasts, headroom, months, needed, simulated: Vec::new() })
    }

    /// Plays the load profiles anew, with other draws and larger: how much is refused really.
    fn simulate(&self, study: &mut Study) -> Result<(), Failure> {
        let traffic = open(&self.given, self.loaded, &self.args.reader, self.common)?;
        let focus: Vec<usize> = study.focus();
        if !traffic.has_loads() || self.args.runs < 2 || focus.is_empty() {
            return Ok(());
        }
        let hours: Vec<(DeviceId, Supply, (Instant, Instant))> = focus
            .iter()
            .filter_map(|i| {
                let d = &study.outlooks[*i].as_ref()?.demand;
                Some((study.resources[*i].device, study.resources[*i].supply, (d.from, d.until)))
            })
            .collect();
        let work: Vec<Growth> =
            GROWTHS.iter().flat_map(|g| (1..=self.args.runs).map(move |draw| Growth { times: *g, draw })).collect();
        let samples = self.in_parallel(&work, "simulations", |growth| self.sample(*growth, &hours))?;
        for (n, i) in focus.iter().enumerate() {
            let Some(outlook) = &mut study.outlooks[*i] else { continue };
            for growth in GROWTHS {
                let own = work.iter().zip(&samples).filter(|(g, _)| g.times == growth).map(|(_, s)| s[n]);
                let (refused, first): (Vec<f64>, Vec<Option<f64>>) = own.unzip();
                let Some(refused) = Spread::of(&refused) else { continue };
                let ran_out: Vec<f64> = first.iter().flatten().copied().collect();
                outlook.simulated.push(Simulated { growth, refused, ran_out: ran_out.len(), first: mean(&ran_out) });
            }
        }
        Ok(())
    }

    /// Of each supply, the share that is refused in its hour, and the first refusal of all.
    fn sample(
        &self,
        growth: Growth,
        hours: &[(DeviceId, Supply, (Instant, Instant))],
    ) -> Result<Vec<(f64, Option<f64>)>, Failure> {
        let prediction = self.played(self.loaded, growth)?;
        let all = resources(&prediction, true);
        let one = |(device, supply, hour): &(DeviceId, Supply, (Instant, Instant))| {
            let found = all.iter().find(|r| r.device == *device && r.supply == *supply);
            found.map_or((0.0, None), |r| (of_hour(r, *hour).refused, r.series.first_refusal.map(Instant::seconds)))
        };
        Ok(hours.iter().map(one).collect())
    }

    /// All of the traffic on a plan, without a word.
    fn played(&self, loaded: &Loaded, growth: Growth) -> Result<Prediction, Failure> {
        let traffic = open_grown(&self.given, loaded, &self.args.reader, self.common, growth)?;
        let shared = Arc::new(loaded.plan.clone());
        let (moment, seed) = (Moment::End, self.common.seed);
        let options = Options { moment, seed, sessions: false, record: true, ..Options::default() };
        let played = attempts(&traffic, options, true, |items, options| {
            predict(shared.clone(), items, traffic.events(), options)
        })?;
        Ok(played.0)
    }

    /// Tries remedies for every supply that refused somebody, or that was asked for.
    fn try_remedies(&self, study: &mut Study) -> Result<(), Failure> {
        let mut tasks: Vec<(usize, capacity::Remedy)> = Vec::new();
        for i in study.focus() {
            let resource = &study.resources[i];
            if resource.refused_flows == 0 && self.args.supply.is_none() {
                continue;
            }
            let needed = study.outlooks[i].as_ref().and_then(|o| o.needed);
            let made = remedies(&self.loaded.plan, resource, needed);
            // an address and the target that it belongs to would be remedied the same
            let ports = |s: Supply| matches!(s, Supply::Ports(..) | Supply::PortsOfAll(..) | Supply::Blocks(..));
            let alike = |n: usize| ports(study.resources[n].supply) && ports(resource.supply);
            let known =
                |m: &capacity::Remedy| tasks.iter().any(|(n, t)| t.edits == m.edits && t.kind == m.kind && alike(*n));
            let new: Vec<_> = made.into_iter().filter(|m| !known(m)).collect();
            tasks.extend(new.into_iter().map(|m| (i, m)));
        }
        let resources = &study.resources;
        let trials = self.in_parallel(&tasks, "remedies", |(i, remedy)| self.trial(*i, &resources[*i], remedy))?;
        study.trials = trials;
        Ok(())
    }

    fn trial(&self, of: usize, resource: &Resource, remedy: &capacity::Remedy) -> Result<Trial, Failure> {
        let (device, supply) = (resource.device, resource.supply);
        let (kind, title) = (remedy.kind, remedy.title.clone());
        let mut trial = Trial { of, kind, title, obstacle: remedy.obstacle.clone(), changed: None, outcome: None };
        if remedy.edits.is_empty() {
            return Ok(trial);
        }
        let edits: &[Vec<Edit>] = std::slice::from_ref(&remedy.edits);
        let Ok(changed) = edited(self.loaded, edits) else {
            trial.obstacle = Some("the plan as it is written cannot be changed so".to_owned());
            return Ok(trial);
        };
        let prediction = self.played(&changed, Growth::default())?;
        let after = resources(&prediction, true);
        let same = after.iter().find(|r| r.device == device && r.supply == supply && r.series.begun > 0);
        // where addresses are others now, the fullest of their kind counts
        let alike = |r: &&Resource| {
            r.device == device
                && r.series.usable.is_some()
                && match (r.supply, supply) {
                    (Supply::Ports(_, p, _), Supply::Ports(_, q, _) | Supply::Blocks(_, q, _)) => p == q,
                    (Supply::Ports(address, ..), Supply::Pool(pool)) => {
                        let pools = &changed.plan.devices[device.index()].pools;
                        pools.get(pool.index()).is_some_and(|p| p.listed().contains(address))
                    }
                    _ => false,
                }
        };
        let fullest = after.iter().filter(alike).max_by(|a, b| fill(a).total_cmp(&fill(b)));
        let now = same.or(fullest).map(|r| (r.series.peak.count, r.series.usable));
        let (refused, hosts) = refused_by(&prediction, device, &rules_of(resource));
        trial.outcome = Some(Outcome { refused, hosts, peak: now });
        trial.changed = Some(Box::new(changed));
        Ok(trial)
    }

    /// Does a thing for each of a list, on every core, and tells how far it is.
    fn in_parallel<T: Sync, R: Send>(
        &self,
        list: &[T],
        what: &'static str,
        work: impl Fn(&T) -> Result<R, Failure> + Sync,
    ) -> Result<Vec<R>, Failure> {
        let threads = std::thread::available_parallelism().map_or(1, usize::from).min(list.len().max(1));
        let bar =
            ProgressBar::with_draw_target(Some(list.len() as u64), ProgressDrawTarget::hidden()).with_message(what);
        if let Ok(style) = ProgressStyle::with_template("{bar:30} {pos} of {len} {msg}, {eta} left") {
            bar.set_style(style);
        }
        let started = std::time::Instant::now();
        // on a terminal, and for work over half a second
        let step = || {
            if bar.is_hidden() && !self.common.quiet && started.elapsed() > std::time::Duration::from_millis(500) {
                bar.set_draw_target(ProgressDrawTarget::stderr());
            }
            bar.inc(1);
        };
        let next = AtomicUsize::new(0);
        let outcomes = std::thread::scope(|scope| {
            let worker = || {
                let mut done = Vec::new();
                loop {
                    let i = next.fetch_add(1, Ordering::Relaxed);
                    let Some(item) = list.get(i) else { return done };
                    let outcome = work(item);
                    let failed = outcome.is_err();
                    done.push((i, outcome));
                    step();
                    if failed {
                        next.store(list.len(), Ordering::Relaxed);
                    }
                }
            };
            let handles: Vec<_> = (0..threads).map(|_| scope.spawn(worker)).collect();
            handles.into_iter().flat_map(|h| h.join().unwrap_or_default()).collect::<Vec<_>>()
        });
        bar.finish_and_clear();
        let mut outcomes = outcomes;
        outcomes.sort_by_key(|o| o.0);
        outcomes.into_iter().map(|(_, outcome)| outcome).collect()
    }
}

fn mean(samples: &[f64]) -> Option<f64> {
    (!samples.is_empty()).then(|| samples.iter().sum::<f64>() / samples.len() as f64)
}

fn fill(r: &Resource) -> f64 {
    r.series.peak.count as f64 / r.series.usable.unwrap_or(u64::MAX).max(1) as f64
}

/// The rules that draw on a resource, or tried to.
fn rules_of(resource: &Resource) -> Vec<RuleId> {
    let held = resource.holders.iter().flat_map(|h| h.rules.iter().copied());
    held.chain(resource.refused.iter().filter_map(|r| r.rule)).collect()
}

/// Flows of some rules that a device refused for want of something, and the hosts that sent them.
fn refused_by(prediction: &Prediction, device: DeviceId, rules: &[RuleId]) -> (u64, u64) {
    let all = prediction.recording.iter().flat_map(|r| &r.shortages);
    let own = all.filter(|s| s.device == device && s.rule.is_none_or(|r| rules.contains(&r)));
    let mut hosts: Vec<_> = own.clone().filter_map(|s| s.host).collect();
    hosts.sort_unstable();
    hosts.dedup();
    (own.count() as u64, hosts.len() as u64)
}

impl Study {
    /// Positions of the supplies that are looked at closely: those that refused somebody, else the fullest.
    pub fn focus(&self) -> Vec<usize> {
        let refused: Vec<usize> = (0..self.resources.len()).filter(|i| self.resources[*i].refused_flows > 0).collect();
        if !refused.is_empty() {
            return refused;
        }
        let limited = (0..self.resources.len()).filter(|i| self.resources[*i].series.usable.is_some());
        let used = limited.filter(|i| self.resources[*i].series.peak.count > 0);
        used.max_by(|a, b| fill(&self.resources[*a]).total_cmp(&fill(&self.resources[*b]))).into_iter().collect()
    }

    /// The remedy whose change is shown: the one asked for, or of each supply that with the fewest refusals.
    pub fn best(&self, of: usize) -> Option<&Trial> {
        let own = self.trials.iter().filter(|t| t.of == of && t.changed.is_some());
        if let Some(kind) = self.shown {
            return own.into_iter().find(|t| t.kind == kind);
        }
        // of equals, the one that is first named, for remedies are listed by what they cost
        own.min_by_key(|t| t.outcome.as_ref().map_or(u64::MAX, |o| o.refused))
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
