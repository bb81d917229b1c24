//! The translation log of a stand-in, sent as it is made.

use std::io;

use jiff::Timestamp;
use zarnet_core::plan::Log;
use zarnet_core::predict::Live;
use zarnet_formats::nat_log::{LogNames, OfRun};

use crate::send_log::LogSender;

/// The translation log of a stand-in.
pub struct LogSetup {
    /// What of every rule is logged; what the plan says, if that is not given.
    pub all_as: Option<Log>,
    /// The collector.
    pub to: LogSender,
}

/// The same as it is sent.
pub(super) struct Sending {
    to: LogSender,
    of_run: OfRun,
    names: LogNames,
}

impl Sending {
    /// From now on the devices keep their log. `begins`: what the first instant is called.
    pub(super) fn begin(log: LogSetup, begins: Timestamp, live: &mut Live) -> Self {
        live.keep_log(log.all_as);
        let of_run = OfRun::new(begins.as_nanosecond(), false);
        Self { to: log.to, of_run, names: LogNames::default() }
    }

    /// Sends what was logged since the last time.
    ///
    /// # Errors
    /// The collector went away.
    pub(super) fn send(&mut self, live: &mut Live) -> io::Result<()> {
        let Self { to, of_run, names } = self;
        let mut sent = Ok(());
        live.take_log(|plan, device, entries| {
            of_run.events(plan, device, entries, names, |event, names| {
                if sent.is_ok() {
                    sent = to.send(event, names);
                }
            });
        });
        sent.and_then(|()| to.finish())
    }
}
