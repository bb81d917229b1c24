//! `zarnet record STORE --listen WHERE`: logs while they come, until a signal ends it.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use serde_json::json;
use zarnet_formats::nat_log::{LogNames, Name, Noted};
use zarnet_live::receive_log::{LogListener, is_loopback, now};
use zarnet_live::send_log::LogAddress;
use zarnet_store::{StoreError, StoreWriter};

use super::LOOK;
use crate::args::{Common, Format, RecordArgs};
use crate::commands::log::bad_address;
use crate::exit::{FINE, Failure};
use crate::files::{asked_to_end, end_when_asked};
use crate::present::log::{Kept, kept_text};
use crate::present::{diagnostic, output};

/// What was received is made to last this often.
const SYNC: Duration = Duration::from_secs(1);
/// And put into files this often, or as soon as the journal has so many octets.
const COMMIT: Duration = Duration::from_secs(15 * 60);
const JOURNAL: u64 = 64 << 20;
/// Old files are looked for this often.
const RETAIN: Duration = Duration::from_secs(3600);
/// A clock that is further off than this is not compared: what comes is a log of another time.
const OFF: i64 = 600_000;

pub(super) fn run(
    args: &RecordArgs,
    writer: StoreWriter,
    names: LogNames,
    common: &Common,
) -> Result<u8, Failure> {
    let addresses = args
        .listen
        .iter()
        .map(|text| LogAddress::parse(text).map_err(|error| bad_address("--listen", text, &error)));
    let addresses: Vec<LogAddress> = addresses.collect::<Result<_, _>>()?;
    if addresses.iter().any(|address| !is_loopback(address)) {
        let help = "a log names hosts, and nothing here tells who sends it: let only the devices \
                    through";
        diagnostic::warn("reachable-by-others", "other machines can send to it", Some(help));
    }
    let listener = LogListener::start(&addresses).map_err(|error| {
        let message = format!("{}: {error}", args.listen.join(", "));
        Failure::wrong("cannot-listen", message, "port 0 takes one that is free".to_owned())
    })?;
    end_when_asked();
    let mut recording = Recording {
        listener,
        writer,
        names,
        noted: Noted::default(),
        live: HashMap::new(),
        dropped: 0,
        told: 0,
        common,
        retain: args.retain,
    };
    recording.run()
}

/// Logs as they are recorded.
struct Recording<'a> {
    listener: LogListener,
    writer: StoreWriter,
    names: LogNames,
    noted: Noted,
    /// Devices whose events are of now: since when, in milliseconds since 1970.
    live: HashMap<Name, i64>,
    /// Datagrams that were thrown away and are noted.
    dropped: u64,
    /// Events that were told to be kept.
    told: u64,
    common: &'a Common,
    retain: Option<i64>,
}

impl Recording<'_> {
    fn run(&mut self) -> Result<u8, Failure> {
        self.writer.keep_journal()?;
        for place in &self.listener.listening {
            diagnostic::note(false, &format!("listening on {place}"));
        }
        let (mut synced, mut committed, mut retained) =
            (Instant::now(), Instant::now(), Instant::now());
        let mut code = None;
        loop {
            let goes_on = self.receive(LOOK)?;
            if code.is_none()
                && let Some(asked) = asked_to_end()
            {
                code = Some(asked);
                self.listener.stop();
            }
            if !goes_on {
                break;
            }
            if synced.elapsed() >= SYNC {
                synced = Instant::now();
                self.sync()?;
            }
            if committed.elapsed() >= COMMIT || self.writer.journal_octets() >= JOURNAL {
                committed = Instant::now();
                self.commit()?;
            }
            if let Some(span) = self.retain.filter(|_| retained.elapsed() >= RETAIN) {
                retained = Instant::now();
                self.writer.retain_from(now() - span)?;
            }
        }
        self.sync()?;
        self.commit()?;
        Ok(code.unwrap_or(FINE))
    }

    /// Takes what comes within so long. `false`: nothing more will.
    fn receive(&mut self, wait: Duration) -> Result<bool, StoreError> {
        let Self { listener, writer, names, noted, live, .. } = self;
        let (mut failure, mut clocks) = (None, Vec::new());
        let goes_on = listener.receive(
            wait,
            names,
            noted,
            |event, at| clocks.push((event.device, event.at, at)),
            |event, names| {
                if failure.is_none() {
                    failure = writer.take(&event, names).err();
                }
            },
        );
        for (device, told, came) in clocks {
            let ahead = told - came;
            if ahead.abs() <= OFF {
                writer.compare_clock(names.get(device), ahead);
                live.entry(device).or_insert(told);
            } else {
                live.remove(&device);
            }
        }
        failure.map_or(Ok(goes_on), Err)
    }

    /// Makes all that came last, and says so.
    fn sync(&mut self) -> Result<(), Failure> {
        let until = now();
        for (device, since) in &mut self.live {
            self.writer.hear(self.names.get(*device), *since, until);
            *since = until;
        }
        for missing in std::mem::take(&mut self.noted.missing) {
            self.writer.lose(&missing, &self.names);
        }
        self.writer.sync(&self.names)?;
        let received = self.listener.received();
        let dropped = received.dropped - self.dropped;
        self.dropped = received.dropped;
        if dropped > 0 && !self.common.quiet {
            let message = format!("{dropped} datagrams were thrown away: they came too fast");
            let help = "send over TCP, or with fewer events a second";
            diagnostic::warn("datagrams-dropped", &message, Some(help));
        }
        let events = self.writer.recorded().events;
        if events == self.told {
            return Ok(());
        }
        self.told = events;
        let kept = Kept {
            events,
            open: self.writer.open_count(),
            lost: self.noted.lost,
            dropped: received.dropped,
            bad: self.noted.bad_messages + self.noted.bad_sets + self.noted.bad_records,
        };
        match self.common.format {
            Format::Json => output::json(|out| {
                let Kept { events, open, lost, dropped, bad } = kept;
                let line = json!({ "kept": events, "open": open, "lost": lost,
                    "dropped": dropped, "bad": bad });
                writeln!(out, "{line}")
            })?,
            _ if self.common.verbose => output::answer(|out| kept_text(out, &kept))?,
            _ => {}
        }
        Ok(())
    }

    /// Puts all that came into files.
    fn commit(&mut self) -> Result<(), StoreError> {
        self.writer.commit(&self.names)
    }
}
