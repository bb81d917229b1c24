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

/// As [`super::predict`], with the translation log of every device: of each rule what the plan
/// says is logged, or of all `all_as`. `take` gets the plan as it is then, a device and entries of
/// its log, over and over until the traffic ends; all of them in the order of their time. Where the
/// senders of the traffic turn out to be needed, the next run logs the same again from its
/// beginning.
///
/// # Errors
/// As [`super::predict`].
pub fn log<B: Batches>(
    plan: Arc<Plan>,
    items: B,
    events: Vec<Event>,
    options: Options,
    all_as: Option<Log>,
    mut take: impl FnMut(&Arc<Plan>, DeviceId, &[LogEntry]),
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
    let end = run.end_all();
    taken.take(&mut run, end, &mut take);
    run.finish().ok_or(Halt::SourcesNeeded)
}

/// So many entries wait before they are taken: few enough to be still at hand.
const WAITING: usize = 2048;

/// Entries as they are taken from devices.
#[derive(Default)]
pub(super) struct Taken {
    /// Of each device that has some.
    logs: Vec<(DeviceId, Vec<LogEntry>)>,
    /// Where they stand, in the order of their time: which log, and which entry.
    order: Vec<(Instant, usize, usize)>,
    /// Room for more.
    rooms: Vec<Vec<LogEntry>>,
}

impl Taken {
    /// Takes what was logged up to an instant, which no later entry can come before.
    pub(super) fn take(
        &mut self,
        run: &mut Run,
        now: Instant,
        into: &mut impl FnMut(&Arc<Plan>, DeviceId, &[LogEntry]),
    ) {
        run.expire_all(now);
        for i in 0..run.network.devices().len() {
            let device = DeviceId(i as u16);
            if run.network.devices()[i].logged() > 0 {
                let room = self.rooms.pop().unwrap_or_default();
                self.logs.push((device, run.network.device_mut(device).take_log(room)));
            }
        }
        let plan = run.network.plan();
        match &self.logs[..] {
            [] => {}
            [(device, log)] if log.is_sorted_by_key(|entry| entry.at) => into(plan, *device, log),
            _ => self.merge(|device, entries| into(plan, device, entries)),
        }
        self.rooms.extend(self.logs.drain(..).map(|(_, mut log)| {
            log.clear();
            log
        }));
    }

    /// Hands over entries in the order of their time, and of devices at one time, as many at once as
    /// follow each other in one log.
    fn merge(&mut self, mut into: impl FnMut(DeviceId, &[LogEntry])) {
        self.order.clear();
        for (n, (_, log)) in self.logs.iter().enumerate() {
            self.order.extend(log.iter().enumerate().map(|(i, entry)| (entry.at, n, i)));
        }
        self.order.sort_unstable();
        for stretch in self.order.chunk_by(|a, b| (a.1, a.2 + 1) == (b.1, b.2)) {
            let (Some(first), Some(last)) = (stretch.first(), stretch.last()) else { continue };
            let (device, log) = &self.logs[first.1];
            into(*device, &log[first.2..=last.2]);
        }
    }
}
