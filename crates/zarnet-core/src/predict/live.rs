//! A network that is looked at, and changed, while traffic runs on it.

use std::collections::VecDeque;
use std::sync::Arc;

use super::log::Taken;
use super::run::Run;
use super::{DeviceTable, Halt, Moment, NotTranslated, Options, Tally};
use crate::device::LogEntry;
use crate::event::Event;
use crate::net::Instant;
use crate::network::Network;
use crate::plan::{DeviceId, Log, Plan};
use crate::traffic::{Batches, Item};

/// A network on which time goes on as far as it is told to.
pub struct Live {
    run: Run,
    /// What was read and starts later than time has come.
    waiting: VecDeque<Item>,
    /// Whether the traffic has come to its end.
    ended: bool,
}

impl Live {
    /// A network at rest, with what will be done to it. The moment of the options does not matter.
    pub fn new(plan: Arc<Plan>, events: Vec<Event>, options: Options) -> Self {
        // what will be done to it is not known beforehand: nothing is entered ahead of its time
        let options = Options { stepwise: true, moment: Moment::End, ..options };
        Self { run: Run::new(plan, events, options), waiting: VecDeque::new(), ended: false }
    }

    /// Lets time come to an instant: plays all that starts until then, and all that is due.
    ///
    /// # Errors
    /// As [`super::predict`].
    pub fn play<B: Batches>(&mut self, items: &mut B, to: Instant) -> Result<(), Halt<B::Error>> {
        loop {
            let due = self.waiting.iter().take_while(|i| i.at() <= to).count();
            let batch: Vec<Item> = self.waiting.drain(..due).collect();
            self.run.play_batch(&batch)?;
            if !self.waiting.is_empty() || self.ended {
                break;
            }
            let mut more = Vec::with_capacity(READ_AHEAD);
            if let Some(error) = items.fill(&mut more, READ_AHEAD) {
                return Err(Halt::Traffic(error));
            }
            self.ended = more.len() < READ_AHEAD;
            self.waiting.extend(more);
        }
        self.run.advance(to.max(self.run.now));
        self.run.expire_all(self.run.now);
        if self.run.network.missed_source() { Err(Halt::SourcesNeeded) } else { Ok(()) }
    }

    /// From now on keeps the translation log of every device: of each rule what the plan says, or of
    /// all the same.
    pub fn keep_log(&mut self, all_as: Option<Log>) {
        self.run.network.keep_log(all_as);
    }

    /// Takes what was logged since the last time, in the order of its time.
    pub fn take_log(&mut self, mut take: impl FnMut(&Arc<Plan>, DeviceId, &[LogEntry])) {
        let now = self.run.now;
        Taken::default().take(&mut self.run, now, &mut take);
    }

    /// Does something to a device, now.
    pub fn act(&mut self, event: Event) {
        let at = self.run.now;
        self.run.events.push_front(Event { at, ..event });
        self.run.advance(at);
    }

    /// How far time has come.
    pub fn now(&self) -> Instant {
        self.run.now
    }

    /// Whether nothing more will start.
    pub fn has_ended(&self) -> bool {
        self.ended && self.waiting.is_empty()
    }

    /// The tables as they are now.
    pub fn tables(&mut self) -> Vec<DeviceTable> {
        self.run.tables(self.run.now)
    }

    /// The network as it is now.
    pub fn network(&self) -> &Network {
        &self.run.network
    }

    /// What became of the flows so far.
    pub fn tally(&self) -> Tally {
        self.run.tally
    }

    /// Flows that were not translated so far.
    pub fn not_translated(&self) -> &[NotTranslated] {
        &self.run.not_translated
    }
}

/// So many items are read at once.
const READ_AHEAD: usize = 64;
