//! The translation log that devices write while traffic runs through them.

use std::sync::Arc;

use super::play::play_while;
use super::run::Run;
use super::{Halt, Options, Prediction};
use crate::device::LogEntry;
use crate::event::Event;
use crate::net::Instant;
use crate::plan::{DeviceId, Log, Plan};
use crate::traffic::Batches;

/// A device, and an entry of its log.
pub type LoggedBy = (DeviceId, LogEntry);

/// As [`super::predict`], with the translation log of every device: of each rule what the plan
/// says is logged, or of all `all_as`. `take` gets the plan as it is then and the entries up to an
/// instant, in the order of their time, over and over until the traffic ends. Where the senders of
/// the traffic turn out to be needed, the next run logs the same again from its beginning.
///
/// # Errors
/// As [`super::predict`].
pub fn log<B: Batches>(
    plan: Arc<Plan>,
    items: B,
    events: Vec<Event>,
    options: Options,
    all_as: Option<Log>,
    mut take: impl FnMut(&Arc<Plan>, &[LoggedBy]),
) -> Result<Prediction, Halt<B::Error>> {
    let mut run = Run::new(plan, events, options);
    run.network.keep_log(all_as);
    let mut taken = Taken::default();
    play_while(&mut run, items, |run| {
        if run.network.logged() >= WAITING {
            let now = run.now;
            taken.take(run, now, &mut take);
        }
        true
    })?;
    let end = run.reach_end();
    taken.take(&mut run, end, &mut take);
    run.finish().ok_or(Halt::SourcesNeeded)
}

/// So many entries wait before they are taken: few enough to be still at hand.
const WAITING: usize = 2048;

/// Entries as they are taken from devices.
#[derive(Default)]
pub(super) struct Taken {
    of_device: Vec<LogEntry>,
    all: Vec<LoggedBy>,
}

impl Taken {
    /// Takes what was logged up to an instant, which no later entry can come before.
    pub(super) fn take(
        &mut self,
        run: &mut Run,
        now: Instant,
        into: &mut impl FnMut(&Arc<Plan>, &[LoggedBy]),
    ) {
        run.expire_all(now);
        for i in 0..run.network.devices().len() {
            let device = DeviceId(i as u16);
            run.network.device_mut(device).take_log(&mut self.of_device);
            self.all.extend(self.of_device.drain(..).map(|entry| (device, entry)));
        }
        self.all.sort_by_key(|(_, entry)| entry.at);
        into(run.network.plan(), &self.all);
        self.all.clear();
    }
}
