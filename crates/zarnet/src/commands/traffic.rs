//! What every command that reads traffic does with it.

use std::cell::Cell;
use std::sync::Arc;
use std::time::{Duration, Instant as Clock};

use indicatif::{ProgressBar, ProgressStyle};
use zarnet_core::net::Protocol;
use zarnet_core::plan::{DeviceId, InterfaceId, Plan};
use zarnet_core::predict::{Halt, Moment, Options, Prediction, predict};
use zarnet_core::traffic::{Batches, Item};
use zarnet_formats::plan::Loaded;
use zarnet_formats::traffic::{
    Attempt, Fault, Given, Growth, Items, Reading, Skipped, Traffic, TrafficError,
};

use crate::args::{Common, Reader};
use crate::exit::Failure;
use crate::present::diagnostic;

/// The moment that `--at` names.
#[derive(Clone, Copy)]
pub(super) enum At {
    Moment(Moment),
    Peak,
}

/// What arguments name. Pipes and standard input are read here, once, for some commands play
/// traffic more than once.
pub(super) fn given(named: &[String]) -> Result<Vec<Given>, Failure> {
    Given::all(named).map_err(|errors| {
        diagnostic::traffic(&errors, errors.len());
        Failure::Told
    })
}

/// Opens what was named.
pub(super) fn open(
    given: &[Given],
    loaded: &Loaded,
    reader: &Reader,
    common: &Common,
) -> Result<Traffic, Failure> {
    open_grown(given, loaded, reader, common, Growth::default())
}

/// The same with load profiles that have grown.
pub(super) fn open_grown(
    given: &[Given],
    loaded: &Loaded,
    reader: &Reader,
    common: &Common,
    growth: Growth,
) -> Result<Traffic, Failure> {
    let seen_at =
        reader.seen_at.as_deref().map(|s| observation_point(&loaded.plan, s)).transpose()?;
    let (skip_bad, seed, allow_outside) = (reader.skip_bad, common.seed, common.allow_outside);
    let reading = Reading { seen_at, skip_bad, seed, growth, allow_outside };
    let traffic = Traffic::open(given, loaded, reading).map_err(|errors| {
        diagnostic::traffic(&errors, errors.len());
        Failure::Told
    })?;
    check_memory(&traffic, &loaded.plan, available_memory())?;
    Ok(traffic)
}

/// So many octets of memory an entry of a table takes, with its session (docs/speed.md).
const ENTRY: f64 = 140.0;

/// Refuses load profiles whose table would not fit into memory: better said before than found out
/// after an hour.
fn check_memory(traffic: &Traffic, plan: &Plan, available: Option<f64>) -> Result<(), Failure> {
    let timers = plan.devices.iter().map(|d| &d.timers);
    let idle = |p: Protocol| {
        let longest = timers.clone().map(|t| match p {
            // one that ends properly lasts this long after
            Protocol::TCP => t.tcp_close,
            Protocol::UDP => t.udp,
            _ => t.other.max(t.icmp),
        });
        longest.max().unwrap_or_default().as_nanos() as f64
    };
    let need: f64 = traffic.loads().map(|l| l.most_alive(idle(l.protocol))).sum::<f64>() * ENTRY;
    match available {
        Some(available) if need > available => {
            let (need, available) = (need / 1e9, available / 1e9);
            let message = format!(
                "the load profiles need about {need:.1} GB of memory for their table, and \
                 {available:.1} GB are free"
            );
            let help =
                "lower `rate` or `each-lasts`, or split the profile over several runs".to_owned();
            Err(Failure::wrong("too-much-memory", message, help))
        }
        _ => Ok(()),
    }
}

/// Octets of memory that can be had, where the system tells.
fn available_memory() -> Option<f64> {
    let text = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = text.lines().find_map(|l| l.strip_prefix("MemAvailable:"))?;
    line.split_whitespace().next()?.parse::<f64>().ok().map(|kilobytes| kilobytes * 1024.0)
}

/// Plays traffic; what turns out to need another reading of it gets one.
pub(super) fn attempts<T>(
    traffic: &Traffic,
    options: Options,
    quiet: bool,
    play: impl Fn(Watched<'_, '_>, Options) -> Result<T, Halt<TrafficError>>,
) -> Result<(T, Skipped), Failure> {
    let (mut attempt, mut options) = (Attempt::Streaming, options);
    options.sources = options.sources.or(traffic.known_sources());
    let progress = Progress::new(quiet);
    loop {
        let mut items = traffic.items(attempt);
        let outcome = play(Watched { items: &mut items, progress: &progress }, options.clone());
        let skipped = items.skipped();
        match outcome {
            Ok(answer) => return Ok((answer, skipped)),
            Err(Halt::OutOfOrder { .. }) if attempt == Attempt::Streaming => {
                traffic.learn(items);
                attempt = Attempt::Sorted;
            }
            Err(Halt::SourcesNeeded) if options.sources.is_none() => {
                options.sources = Some(traffic.sources())
            }
            Err(Halt::Traffic(error)) if before_origin(&error) && attempt == Attempt::Streaming => {
                traffic.learn(items);
                attempt = Attempt::Sorted;
            }
            Err(Halt::Traffic(_)) => {
                let (errors, count) = traffic.errors();
                diagnostic::traffic(&errors, count);
                return Err(Failure::Told);
            }
            Err(Halt::OutOfOrder { at, after }) => {
                let message =
                    format!("the traffic goes back from {after} to {at} although it was sorted");
                return Err(Failure::Io(std::io::Error::other(message)));
            }
            Err(Halt::SourcesNeeded) => {
                return Err(Failure::Io(std::io::Error::other(
                    "the sources of the traffic are still unknown",
                )));
            }
        }
    }
}

/// A time of day before the first that was read is no error of the list: the list is not in order.
fn before_origin(error: &TrafficError) -> bool {
    matches!(&error.fault, Fault::NegativeTime(text) if !text.starts_with('-'))
}

pub(super) fn device(plan: &Plan, name: &str) -> Result<DeviceId, Failure> {
    plan.device(name).ok_or_else(|| {
        let names: Vec<&str> = plan.devices.iter().map(|d| d.name.as_str()).collect();
        let help = format!("the plan has {}", names.join(", "));
        Failure::wrong("unknown-name", format!("there is no device `{name}`"), help)
    })
}

fn observation_point(plan: &Plan, text: &str) -> Result<(DeviceId, InterfaceId), Failure> {
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

pub(super) fn moment(text: &str, traffic: &Traffic) -> Result<At, Failure> {
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

/// The moment that is meant; where that is the peak, a first run finds it.
pub(super) fn peak_or(
    at: At,
    plan: &Arc<Plan>,
    traffic: &Traffic,
    common: &Common,
) -> Result<Moment, Failure> {
    let At::Moment(moment) = at else {
        let options = Options { seed: common.seed, sessions: false, ..Options::default() };
        let whole = attempts(traffic, options, common.quiet, |items, options| {
            predict(plan.clone(), items, traffic.events(), options)
        })?;
        return Ok(Moment::At(whole.0.peak_at));
    };
    Ok(moment)
}

pub(super) fn tell_skipped(skipped: Skipped, quiet: bool) {
    let Skipped { link, not_ip, fragments, icmp_other, bad } = skipped;
    let parts = [
        (bad, "lines or packets that are wrong"),
        (link, "frames of a link type that is not read"),
        (not_ip, "frames that are not IP"),
        (fragments, "fragments without their first"),
        (icmp_other, "ICMP messages that are neither query nor error"),
    ];
    let told: Vec<String> =
        parts.iter().filter(|p| p.0 > 0).map(|(n, what)| format!("{n} {what}")).collect();
    if !told.is_empty() && !quiet {
        diagnostic::warn("passed-over", &format!("passed over: {}", told.join(", ")), None);
    }
}

/// Tells of a capture that seems to be from another interface than the one that was named.
pub(super) fn tell_elsewhere(prediction: &Prediction, quiet: bool) {
    let Some(elsewhere) = prediction.elsewhere.as_ref().filter(|_| !quiet) else { return };
    let device = &prediction.plan.devices[elsewhere.device.index()];
    let named = |i: InterfaceId| format!("{}/{}", device.name, device.interfaces[i.index()].name);
    let prefixes: Vec<String> =
        elsewhere.prefixes.iter().map(|(prefix, n)| format!("{prefix} ({n})")).collect();
    let (packets, seen_on) = (elsewhere.packets, named(elsewhere.seen_on));
    let message = format!(
        "{packets} packets of the capture are from senders that are not behind {seen_on}, most of \
         them in {}",
        prefixes.join(", ")
    );
    let help = match elsewhere.fits {
        Some(fits) => format!(
            "they are behind {0}: `--seen-at {0}` if the capture was made there",
            named(fits)
        ),
        None => format!(
            "no interface of {} leads to them in particular: is it a capture of this device?",
            device.name
        ),
    };
    diagnostic::warn("seen-elsewhere", &message, Some(&help));
}

/// Traffic that tells how far it was read.
pub(super) struct Watched<'a, 'b> {
    items: &'a mut Items<'b>,
    progress: &'a Progress,
}

impl Batches for Watched<'_, '_> {
    type Error = TrafficError;

    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<TrafficError> {
        let error = self.items.fill(batch, most);
        self.progress.step(batch.len() as u64);
        error
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
    fn step(&self, more: u64) {
        let before = self.items.get();
        let items = before + more;
        self.items.set(items);
        if before >> 16 != items >> 16 && !self.quiet {
            self.show(items);
        }
    }

    #[cold]
    fn show(&self, items: u64) {
        if self.started.elapsed() < Duration::from_millis(500) {
            return;
        }
        let bar = self.bar.take().unwrap_or_else(|| {
            let style =
                ProgressStyle::with_template("{spinner} {pos} flows and packets, {per_sec}");
            ProgressBar::new_spinner()
                .with_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()))
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
