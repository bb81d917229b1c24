//! Plays items in batches: what can be read of each beforehand is read for all at once.

use std::sync::Arc;

use super::run::Run;
use super::{Halt, Moment, Options, Prediction};
use crate::event::Event;
use crate::net::Instant;
use crate::network::{FastFlow, Network};
use crate::plan::Plan;
use crate::traffic::{Batches, Item};

/// Predicts what `items` do to the devices of a plan. Items must come in the order of their start,
/// and events in the order of their time.
///
/// # Errors
/// When the items cannot be read or are out of order, or when their sources must be known
/// beforehand.
pub fn predict<B: Batches>(
    plan: Arc<Plan>,
    items: B,
    events: Vec<Event>,
    options: Options,
) -> Result<Prediction, Halt<B::Error>> {
    let mut run = Run::new(plan, events, options);
    play(&mut run, items)?;
    let prediction = run.finish();
    prediction.ok_or(Halt::SourcesNeeded)
}

/// The network as it is at an instant of the traffic, after everything that is due then. Items
/// behind it are not looked at, nor the moment of the options.
///
/// # Errors
/// As [`predict`].
pub fn network_at<B: Batches>(
    plan: Arc<Plan>,
    items: B,
    events: Vec<Event>,
    options: Options,
    at: Instant,
) -> Result<Network, Halt<B::Error>> {
    let mut run = Run::new(plan, events, Options { moment: Moment::At(at), ..options });
    run.until = at;
    play_while(&mut run, items, |run| run.read <= at)?;
    run.advance(at);
    run.expire_all(at);
    if run.network.missed_source() { Err(Halt::SourcesNeeded) } else { Ok(run.network) }
}

/// Plays items, up to the instant that the run is to come to.
pub(super) fn play<B: Batches>(run: &mut Run, items: B) -> Result<(), Halt<B::Error>> {
    play_while(run, items, |_| true)
}

/// The same, as long as more is wanted.
pub(super) fn play_while<B: Batches>(
    run: &mut Run,
    mut items: B,
    mut wants_more: impl FnMut(&mut Run) -> bool,
) -> Result<(), Halt<B::Error>> {
    let (mut batch, mut fast_flows) = (Vec::with_capacity(BATCH), Vec::with_capacity(BATCH));
    loop {
        batch.clear();
        let error = items.fill(&mut batch, BATCH);
        run.find_fast_flows(&batch, &mut fast_flows);
        run.play(&batch, &fast_flows)?;
        if !wants_more(run) {
            return Ok(());
        }
        if let Some(error) = error {
            return Err(Halt::Traffic(error));
        }
        if batch.len() < BATCH {
            return Ok(());
        }
    }
}

/// So many items are read ahead: enough for their look-ups to be under way at once.
const BATCH: usize = 64;

impl Run {
    /// Finds out what can be known of a batch before it is played: what this reads, it reads for
    /// all at once.
    fn find_fast_flows(&mut self, batch: &[Item], fast_flows: &mut Vec<Option<FastFlow>>) {
        self.network.prepare_fast_paths();
        fast_flows.clear();
        fast_flows.extend(batch.iter().map(|item| match item {
            Item::Flow(flow) => self.network.fast_flow(flow),
            Item::Seen(seen) => self.network.fast_packet(seen),
            Item::Error(_) => None,
        }));
        self.network.prefetch(fast_flows);
    }

    /// Plays items that were read elsewhere.
    pub(super) fn play_batch<E>(&mut self, batch: &[Item]) -> Result<(), Halt<E>> {
        let mut fast_flows = Vec::with_capacity(batch.len());
        self.find_fast_flows(batch, &mut fast_flows);
        self.play(batch, &fast_flows)
    }

    fn play<E>(&mut self, batch: &[Item], fast_flows: &[Option<FastFlow>]) -> Result<(), Halt<E>> {
        for (item, fast) in batch.iter().zip(fast_flows) {
            let at = item.at();
            if at < self.read {
                return Err(Halt::OutOfOrder { at, after: self.read });
            }
            self.read = at;
            if at > self.until {
                continue; // only to know whether it is in order
            }
            self.advance(at);
            self.sequence += 1;
            self.judged = self.sequence;
            match item {
                Item::Flow(flow) => self.flow(flow, fast.as_ref()),
                Item::Seen(seen) => self.seen(seen, fast.as_ref()),
                Item::Error(seen) => self.seen_error(*seen),
            }
            if self.network.missed_source() {
                return Err(Halt::SourcesNeeded);
            }
        }
        Ok(())
    }
}
