//! `zarnet predict PLAN TRAFFIC...`

use std::cell::Cell;
use std::sync::Arc;
use std::time::{Duration, Instant as Clock};

use indicatif::{ProgressBar, ProgressStyle};
use zarnet_core::plan::{DeviceId, InterfaceId, Plan};
use zarnet_core::predict::{Halt, Moment, Options, Prediction, predict};
use zarnet_formats::traffic::{Attempt, Fault, Given, Reading, Skipped, Traffic, TrafficError};

use super::plan;
use crate::args::{Common, Format, Predict};
use crate::exit::{FINE, Failure, NEGATIVE};
use crate::render::answer::Answer;
use crate::render::text::View;
use crate::render::{csv, diagnostic, json, output, text};

/// What `--at` says.
#[derive(Clone, Copy)]
enum At {
    Moment(Moment),
    Peak,
}

pub fn run(args: &Predict, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan)?;
    let seen_at = args.seen_at.as_deref().map(|s| vantage(&loaded.plan, s)).transpose()?;
    let only = args.device.as_deref().map(|name| device(&loaded.plan, name)).transpose()?;
    let given: Vec<Given> = args.traffic.iter().map(|t| Given::from_argument(t)).collect();
    let reading = Reading { seen_at, skip_bad: args.skip_bad, seed: common.seed };
    let traffic = Traffic::open(&given, &loaded, reading).map_err(|errors| {
        diagnostic::traffic(&errors, errors.len());
        Failure::Told
    })?;
    let at = moment(&args.at, &traffic)?;
    let sessions = args.sessions || common.format == Format::Json;
    let shared = Arc::new(loaded.plan.clone());
    let make = |moment| {
        let options = Options { moment, seed: common.seed, sessions, ..Options::default() };
        attempts(&shared, &traffic, options, common.quiet)
    };
    let (prediction, skipped) = match at {
        At::Moment(moment) => make(moment)?,
        // the first run finds the peak, the second stops there
        At::Peak => make(Moment::At(make(Moment::End)?.0.peak_at))?,
    };
    tell_skipped(skipped, common.quiet);
    let answer = Answer { plan: &prediction.plan, sources: traffic.plan_files(), prediction: &prediction, only };
    match common.format {
        Format::Json => output::plain(|out| json::write(out, &answer))?,
        Format::Csv if args.sessions => output::plain(|out| csv::sessions(out, answer))?,
        Format::Csv => output::plain(|out| csv::mappings(out, answer))?,
        Format::Text => {
            let (width, verbose) = (output::width(common), common.verbose);
            let view = View { width, rows: args.rows, sessions: args.sessions, verbose };
            output::answer(|out| text::write(out, answer, view))?;
        }
    }
    Ok(if prediction.negative { NEGATIVE } else { FINE })
}

/// Predicts; what turns out to need another reading of the traffic gets one.
fn attempts(
    plan: &Arc<Plan>,
    traffic: &Traffic,
    options: Options,
    quiet: bool,
) -> Result<(Prediction, Skipped), Failure> {
    let (mut attempt, mut options) = (Attempt::Streaming, options);
    let progress = Progress::new(quiet);
    loop {
        let mut items = traffic.items(attempt);
        let next = std::iter::from_fn(|| {
            progress.step();
            items.next()
        });
        let outcome = predict(plan.clone(), next, traffic.events(), options.clone());
        let skipped = items.skipped();
        match outcome {
            Ok(prediction) => return Ok((prediction, skipped)),
            Err(Halt::OutOfOrder { .. }) if attempt == Attempt::Streaming => attempt = Attempt::Sorted,
            Err(Halt::SourcesNeeded) if options.sources.is_none() => options.sources = Some(traffic.sources()),
            Err(Halt::Traffic(error)) if before_origin(&error) && attempt == Attempt::Streaming => {
                attempt = Attempt::Sorted;
            }
            Err(Halt::Traffic(_)) => {
                let (errors, count) = traffic.errors();
                diagnostic::traffic(&errors, count);
                return Err(Failure::Told);
            }
            Err(Halt::OutOfOrder { at, after }) => {
                let message = format!("the traffic goes back from {after} to {at} although it was sorted");
                return Err(Failure::Io(std::io::Error::other(message)));
            }
            Err(Halt::SourcesNeeded) => {
                return Err(Failure::Io(std::io::Error::other("the sources of the traffic are still unknown")));
            }
        }
    }
}

/// A time of day before the first that was read is no error of the list: the list is not in order.
fn before_origin(error: &TrafficError) -> bool {
    matches!(&error.fault, Fault::NegativeTime(text) if !text.starts_with('-'))
}

fn device(plan: &Plan, name: &str) -> Result<DeviceId, Failure> {
    plan.device(name).ok_or_else(|| {
        let names: Vec<&str> = plan.devices.iter().map(|d| d.name.as_str()).collect();
        let help = format!("the plan has {}", names.join(", "));
        Failure::wrong("unknown-name", format!("there is no device `{name}`"), help)
    })
}

fn vantage(plan: &Plan, text: &str) -> Result<(DeviceId, InterfaceId), Failure> {
    let (name, interface) = text.split_once('/').unwrap_or((text, ""));
    let id = device(plan, name)?;
    let interfaces = &plan.devices[id.index()].interfaces;
    let found = interfaces.iter().position(|i| i.name == interface);
    found.map(|i| (id, InterfaceId(i as u16))).ok_or_else(|| {
        let names: Vec<String> = interfaces.iter().map(|i| format!("{name}/{}", i.name)).collect();
        Failure::wrong(
            "unknown-name",
            format!("there is no interface `{text}`"),
            format!("one of {}", names.join(", ")),
        )
    })
}

fn moment(text: &str, traffic: &Traffic) -> Result<At, Failure> {
    match text {
        "end" => Ok(At::Moment(Moment::End)),
        "peak" => Ok(At::Peak),
        text => match traffic.time(text) {
            Ok(at) => Ok(At::Moment(Moment::At(at))),
            Err(fault) => {
                let help = "write a time (90, 2m30s), `peak` or `end`".to_owned();
                let error = match &fault {
                    Fault::Notation { error, .. } => error.to_string(),
                    fault => fault.to_string(),
                };
                Err(Failure::wrong(fault.name(), format!("--at: {error}"), help))
            }
        },
    }
}

fn tell_skipped(skipped: Skipped, quiet: bool) {
    let Skipped { not_ip, fragments, icmp_other, bad } = skipped;
    let parts = [
        (bad, "lines or packets that are wrong"),
        (not_ip, "frames that are not IP"),
        (fragments, "fragments without their first"),
        (icmp_other, "ICMP messages that are neither query nor error"),
    ];
    let told: Vec<String> = parts.iter().filter(|p| p.0 > 0).map(|(n, what)| format!("{n} {what}")).collect();
    if !told.is_empty() && !quiet {
        diagnostic::warn("passed-over", &format!("passed over: {}", told.join(", ")), None);
    }
}

/// Tells on a terminal, for work over half a second, how far it has come.
struct Progress {
    started: Clock,
    items: Cell<u64>,
    bar: Cell<Option<ProgressBar>>,
    quiet: bool,
}

impl Progress {
    fn new(quiet: bool) -> Self {
        Self { started: Clock::now(), items: Cell::new(0), bar: Cell::new(None), quiet }
    }

    #[inline]
    fn step(&self) {
        let items = self.items.get() + 1;
        self.items.set(items);
        if items.is_multiple_of(65_536) && !self.quiet {
            self.show(items);
        }
    }

    #[cold]
    fn show(&self, items: u64) {
        if self.started.elapsed() < Duration::from_millis(500) {
            return;
        }
        let bar = self.bar.take().unwrap_or_else(|| {
            let style = ProgressStyle::with_template("{spinner} {pos} flows and packets, {per_sec}");
            ProgressBar::new_spinner().with_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()))
        });
        bar.set_position(items);
        self.bar.set(Some(bar));
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        if let Some(bar) = self.bar.take() {
            bar.finish_and_clear();
        }
    }
}
