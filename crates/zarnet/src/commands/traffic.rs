//! What every command that reads traffic does with it.

use std::cell::Cell;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant as Clock};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use zarnet_analysis::AnalysisError;
use zarnet_analysis::capacity::WatchTrials;
use zarnet_analysis::play::{At, Opening, Watch, Watched, at_peak, play};
use zarnet_core::plan::{DeviceId, InterfaceId, Plan};
use zarnet_core::predict::{Halt, Moment, Options, Prediction};
use zarnet_formats::plan::Loaded;
use zarnet_formats::traffic::{Given, Growth, Skipped, Traffic, TrafficError};

use crate::args::{Common, Reader};
use crate::exit::Failure;
use crate::present::diagnostic;

/// What arguments name. Pipes and standard input are read here, once, for some commands play
/// traffic more than once.
pub(super) fn given(named: &[String]) -> Result<Vec<Given>, Failure> {
    Given::all(named).map_err(|errors| {
        diagnostic::traffic(&errors, errors.len());
        Failure::Told
    })
}

/// How traffic is opened.
pub(super) fn opening(given: Vec<Given>, reader: &Reader, common: &Common) -> Opening {
    Opening {
        given,
        seen_at: reader.seen_at.clone(),
        skip_bad: reader.skip_bad,
        seed: common.seed,
        allow_outside: common.allow_outside,
        begins: reader.begins.map(jiff::Timestamp::as_nanosecond),
        memory: available_memory(),
        threads: common.threads(),
    }
}

/// Opens what was named.
pub(super) fn open(
    given: &[Given],
    loaded: &Loaded,
    reader: &Reader,
    common: &Common,
) -> Result<Traffic, Failure> {
    let opening = opening(given.to_vec(), reader, common);
    Ok(opening.open(loaded, Growth::default())?)
}

/// Octets of memory that can be had, where the system tells.
fn available_memory() -> Option<f64> {
    let text = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = text.lines().find_map(|l| l.strip_prefix("MemAvailable:"))?;
    line.split_whitespace().next()?.parse::<f64>().ok().map(|kilobytes| kilobytes * 1024.0)
}

/// Plays traffic, shows on a terminal how far it is, and tells what was passed over.
pub(super) fn attempts<T>(
    traffic: &Traffic,
    options: Options,
    quiet: bool,
    run: impl Fn(Watched<'_, '_, Progress>, Options) -> Result<T, Halt<TrafficError>>,
) -> Result<T, Failure> {
    let (outcome, skipped) = play(traffic, options, &Progress::new(quiet), run)?;
    tell_skipped(skipped, quiet);
    Ok(outcome)
}

impl From<AnalysisError> for Failure {
    /// What is wrong with traffic is shown here, line by line.
    fn from(error: AnalysisError) -> Self {
        match error {
            AnalysisError::Ask(error) => error.into(),
            AnalysisError::Traffic(errors, count) => {
                diagnostic::traffic(&errors, count);
                Self::Told
            }
            AnalysisError::Internal(message) => Self::Io(std::io::Error::other(message)),
        }
    }
}

pub(super) fn device(plan: &Plan, name: &str) -> Result<DeviceId, Failure> {
    Ok(zarnet_analysis::play::device(plan, name)?)
}

/// The moment that `--at` names; if that is the peak, a first run finds it.
pub(super) fn moment(
    text: &str,
    plan: &Arc<Plan>,
    traffic: &Traffic,
    common: &Common,
) -> Result<Moment, Failure> {
    match At::parse(text, traffic)? {
        At::Moment(moment) => Ok(moment),
        At::Peak => {
            let progress = Progress::new(common.quiet);
            Ok(Moment::At(at_peak(plan, traffic, common.seed, &progress)?))
        }
    }
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
        "{packets} packets of the capture are from senders that are not reached by {seen_on}, \
         most of them in {}",
        prefixes.join(", ")
    );
    let help = match elsewhere.fits {
        Some(fits) => format!(
            "they are reached by {0}: use `--seen-at {0}` if the capture was made there",
            named(fits)
        ),
        None => format!(
            "no interface of {} leads to them in particular: is it a capture of this device?",
            device.name
        ),
    };
    diagnostic::warn("seen-elsewhere", &message, Some(&help));
}

/// Tells on a terminal, for work over half a second, how far it has come.
pub(super) struct Progress {
    what: &'static str,
    started: Clock,
    items: Cell<u64>,
    bar: Cell<Option<ProgressBar>>,
    quiet: bool,
}

impl Progress {
    pub(super) fn new(quiet: bool) -> Self {
        Self::of("flows and packets", quiet)
    }

    /// Of other things than flows and packets.
    pub(super) fn of(what: &'static str, quiet: bool) -> Self {
        Self { what, started: Clock::now(), items: Cell::new(0), bar: Cell::new(None), quiet }
    }

    #[cold]
    fn show(&self, items: u64) {
        if self.started.elapsed() < Duration::from_millis(500) {
            return;
        }
        let bar = self.bar.take().unwrap_or_else(|| {
            let style = ProgressStyle::with_template("{spinner} {pos} {msg}, {per_sec}");
            ProgressBar::new_spinner()
                .with_message(self.what)
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

impl Watch for Progress {
    #[inline]
    fn step(&self, more: u64) {
        let before = self.items.get();
        let items = before + more;
        self.items.set(items);
        if before >> 16 != items >> 16 && !self.quiet {
            self.show(items);
        }
    }
}

/// Shows on a terminal, for work over half a second, how many trials are done.
pub(super) struct TrialProgress {
    bar: Mutex<Option<(ProgressBar, Clock)>>,
    quiet: bool,
}

impl TrialProgress {
    pub(super) fn new(quiet: bool) -> Self {
        Self { bar: Mutex::new(None), quiet }
    }

    fn bar(&self) -> MutexGuard<'_, Option<(ProgressBar, Clock)>> {
        self.bar.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl WatchTrials for TrialProgress {
    fn begin(&self, what: &'static str, count: usize) {
        let bar = ProgressBar::with_draw_target(Some(count as u64), ProgressDrawTarget::hidden());
        let template = "{bar:30} {pos} of {len} {msg}, {eta} left";
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style);
        }
        *self.bar() = Some((bar.with_message(what), Clock::now()));
    }

    fn step(&self) {
        if let Some((bar, started)) = &*self.bar() {
            if bar.is_hidden() && !self.quiet && started.elapsed() > Duration::from_millis(500) {
                bar.set_draw_target(ProgressDrawTarget::stderr());
            }
            bar.inc(1);
        }
    }

    fn end(&self) {
        if let Some((bar, _)) = self.bar().take() {
            bar.finish_and_clear();
        }
    }
}
