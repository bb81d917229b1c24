//! `zarnet log PLAN TRAFFIC...`

mod encode;
mod summary;

use std::cell::{Cell, RefCell};
use std::io::{self, IsTerminal, Seek};
use std::path::Path;
use std::sync::Arc;

use tempfile::SpooledTempFile;
use zarnet_core::device::LogEntry;
use zarnet_core::plan::{DeviceId, Log, Plan};
use zarnet_core::predict::{Options, log};
use zarnet_core::traffic::{Batches, Item};
use zarnet_formats::nat_log::{LogNames, OfRun};
use zarnet_formats::traffic::Traffic;
use zarnet_live::send_log::LogSender;

use super::plan;
use super::traffic::{attempts, device, given, open, tell_elsewhere};
use crate::args::{Common, Format, LogArgs, LogAs};
use crate::exit::{FINE, Failure};
use crate::files::temporary_for;
use crate::present::log::{EventTable, sent};
use crate::present::{View, diagnostic, output};
use encode::{Counter, Encoder};

pub fn run(args: &LogArgs, common: &Common) -> Result<u8, Failure> {
    let loaded = plan(&args.plan, common)?;
    let traffic = open(&given(&args.traffic)?, &loaded, &args.reader, common)?;
    let only = args.device.as_deref().map(|name| device(&loaded.plan, name)).transpose()?;
    let origin = traffic.origin().ok_or_else(|| {
        let help = "--begins 2026-08-01T06:00:00Z says when the first of it happens".to_owned();
        let message = "a log has times of day, and the traffic has none";
        Failure::wrong("begins-missing", message, help)
    })?;
    let what = Logging {
        plan: Arc::new(loaded.plan.clone()),
        traffic: &traffic,
        origin,
        with_peers: args.with_peers,
        only,
        seed: common.seed,
        quiet: common.quiet,
    };
    if args.summary {
        return summary::run(&what, common);
    }
    let all_as = logged_as(args.as_, &what.plan)?;
    match &args.to {
        Some(to) => send(&what, all_as, (to, args.rate), common),
        None => print(&what, all_as, args, common),
    }
}

/// What is logged, of which traffic.
struct Logging<'a> {
    plan: Arc<Plan>,
    traffic: &'a Traffic,
    /// When its clock begins, in nanoseconds since 1970.
    origin: i128,
    with_peers: bool,
    only: Option<DeviceId>,
    seed: u64,
    quiet: bool,
}

/// Whether a device hands out blocks of ports.
fn has_blocks(plan: &Plan) -> bool {
    plan.devices.iter().any(|device| device.behaviour.block_size.is_some())
}

/// What is logged of every rule, if that is said. One way or the other something must be.
pub(super) fn logged_as(what: Option<LogAs>, plan: &Plan) -> Result<Option<Log>, Failure> {
    let rules = || plan.devices.iter().flat_map(|d| &d.rules);
    match what {
        Some(LogAs::Sessions) => Ok(Some(Log::Sessions)),
        Some(LogAs::Mappings) => Ok(Some(Log::Mappings)),
        Some(LogAs::Blocks) if has_blocks(plan) => Ok(Some(Log::Blocks)),
        Some(LogAs::Blocks) => {
            let help =
                "a device with `block-size` in its behaviour does; --as mappings logs every \
                        mapping"
                    .to_owned();
            Err(Failure::wrong("no-blocks", "no device hands out blocks of ports", help))
        }
        None if rules().any(|r| r.log != Log::Nothing) => Ok(None),
        None => {
            let help = "--as sessions, --as mappings or --as blocks logs all of them; `log` of a \
                        rule logs one"
                .to_owned();
            Err(Failure::wrong("nothing-logged", "no rule of the plan is logged", help))
        }
    }
}

impl Logging<'_> {
    /// Plays the traffic, and writes its log. What cannot be written ends the traffic early.
    fn play(&self, all_as: Option<Log>, encoder: Encoder<'_>) -> Result<LogNames, Failure> {
        let (writing, stopped) = (RefCell::new(Writing::new(self, encoder)), Cell::new(false));
        let options =
            Options { seed: self.seed, mappings: false, sessions: false, ..Options::default() };
        let prediction = attempts(self.traffic, options, self.quiet, |items, options| {
            let mut again = writing.borrow_mut().begin();
            let (items, events) = (Until { items, stopped: &stopped }, self.traffic.events());
            log(self.plan.clone(), items, events, options, all_as, |plan, device, entries| {
                let mut writing = writing.borrow_mut();
                writing.take(plan, (device, entries), &mut again);
                stopped.set(writing.failure.is_some());
            })
        })?;
        tell_elsewhere(&prediction, self.quiet);
        writing.into_inner().finish()
    }
}

/// A log as it is written.
struct Writing<'a> {
    of_run: OfRun,
    names: LogNames,
    encoder: Encoder<'a>,
    only: Option<DeviceId>,
    /// Entries that are sent and cannot be taken back.
    written: u64,
    /// Whether a run has begun already.
    has_begun: bool,
    failure: Option<io::Error>,
}

impl<'a> Writing<'a> {
    fn new(of: &Logging<'_>, encoder: Encoder<'a>) -> Self {
        Self {
            of_run: OfRun::new(of.origin, of.with_peers),
            names: LogNames::default(),
            encoder,
            only: of.only,
            written: 0,
            has_begun: false,
            failure: None,
        }
    }

    /// A run begins: how many entries of it are sent already. One that begins anew, because senders
    /// have to be known, logs the same again up to where the one before it stopped.
    fn begin(&mut self) -> u64 {
        if std::mem::replace(&mut self.has_begun, true) {
            match self.encoder.restart() {
                Ok(true) => self.written = 0,
                Ok(false) => {}
                Err(error) => self.failure = Some(error),
            }
        }
        self.written
    }

    fn take(
        &mut self,
        plan: &Arc<Plan>,
        (device, entries): (DeviceId, &[LogEntry]),
        again: &mut u64,
    ) {
        let known = (*again).min(entries.len() as u64) as usize;
        *again -= known as u64;
        let new = &entries[known..];
        self.written += new.len() as u64;
        if self.failure.is_none() && self.only.is_none_or(|only| only == device) {
            let (encoder, failure) = (&mut self.encoder, &mut self.failure);
            self.of_run.events(plan, device, new, &mut self.names, |event, names| {
                if failure.is_none() {
                    *failure = encoder.event(event, names).err();
                }
            });
        }
    }

    fn finish(mut self) -> Result<LogNames, Failure> {
        let written = match self.failure {
            Some(error) => Err(error),
            None => self.encoder.finish(),
        };
        match written {
            // a reader that went away has read enough
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(self.names),
            Err(error) => Err(error.into()),
            Ok(()) => Ok(self.names),
        }
    }
}

/// Traffic that ends early when nobody takes the log any more.
struct Until<'a, B> {
    items: B,
    stopped: &'a Cell<bool>,
}

impl<B: Batches> Batches for Until<'_, B> {
    type Error = B::Error;

    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<B::Error> {
        if self.stopped.get() { None } else { self.items.fill(batch, most) }
    }
}

fn print(
    what: &Logging<'_>,
    all_as: Option<Log>,
    args: &LogArgs,
    common: &Common,
) -> Result<u8, Failure> {
    if let Some(path) = &args.into {
        return write(what, all_as, (path, args.force), common);
    }
    if common.format == Format::Ipfix && io::stdout().is_terminal() {
        let help = "write it into a file: --into morning.ipfix".to_owned();
        return Err(Failure::wrong("binary", "IPFIX is nothing for a terminal", help));
    }
    if common.format == Format::Text {
        let view = View { width: output::width(common), rows: args.rows, verbose: common.verbose };
        let mut table = EventTable::new(view);
        let names = what.play(all_as, Encoder::Text(&mut table))?;
        output::answer(|out| table.write(out, &names))?;
        return Ok(FINE);
    }
    let mut out = io::BufWriter::with_capacity(BUFFER, SpooledTempFile::new(IN_MEMORY));
    what.play(all_as, Encoder::of(common.format, &mut out))?;
    let mut held = out.into_inner().map_err(io::IntoInnerError::into_error)?;
    held.rewind()?;
    output::copy(&mut held)?;
    Ok(FINE)
}

/// So many octets are gathered where less is written at a time; messages of IPFIX are more.
const BUFFER: usize = 1 << 15;
/// A log of so many octets is kept in memory until it is known to be whole: traffic may turn out not
/// to be in order.
const IN_MEMORY: usize = 64 << 20;

/// Writes the log into a file that appears whole; as IPFIX, if no form is asked for.
fn write(
    what: &Logging<'_>,
    all_as: Option<Log>,
    (path, force): (&Path, bool),
    common: &Common,
) -> Result<u8, Failure> {
    let file = temporary_for(path, force)?;
    let format = if common.format == Format::Text { Format::Ipfix } else { common.format };
    let mut out = io::BufWriter::with_capacity(BUFFER, file.as_file());
    what.play(all_as, Encoder::of(format, &mut out))?;
    drop(out);
    file.as_file().sync_all()?;
    readable_by_others(file.path())?;
    file.persist(path).map_err(|error| Failure::Io(error.error))?;
    diagnostic::written(&[path.to_owned()], "the translation log", common.quiet);
    Ok(FINE)
}

/// A temporary file is its owner's alone; a log is a file like any other.
fn readable_by_others(path: &Path) -> io::Result<()> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o644))?;
    }
    Ok(())
}

/// An option names no place that logs can go to or come from.
pub(super) fn bad_address(option: &str, text: &str, error: &io::Error) -> Failure {
    let help = "write udp://HOST:PORT or tcp://HOST:PORT".to_owned();
    Failure::wrong("bad-address", format!("{option} {text}: {error}"), help)
}

fn send(
    what: &Logging<'_>,
    all_as: Option<Log>,
    (to, rate): (&str, u32),
    common: &Common,
) -> Result<u8, Failure> {
    let is_syslog = match common.format {
        Format::Syslog => true,
        Format::Text | Format::Ipfix => false,
        Format::Json | Format::Csv => {
            let help = "--format ipfix or --format syslog".to_owned();
            return Err(Failure::wrong("not-sent", "a log is sent as IPFIX or syslog", help));
        }
    };
    let cannot = |error: io::Error| Failure::wrong("cannot-send", format!("{to}: {error}"), None);
    // what is sent cannot be taken back: whether the traffic is in order is found out before
    what.play(all_as, Encoder::Counted(&mut Counter::new()))?;
    let mut sender =
        LogSender::connect(to, is_syslog, rate).map_err(|error| match error.kind() {
            io::ErrorKind::InvalidInput => bad_address("--to", to, &error),
            _ => cannot(error),
        })?;
    match what.play(all_as, Encoder::Sent(&mut sender)) {
        Err(Failure::Io(error)) => return Err(cannot(error)),
        other => other?,
    };
    output::answer(|out| sent(out, to, sender.sent()))?;
    Ok(FINE)
}
