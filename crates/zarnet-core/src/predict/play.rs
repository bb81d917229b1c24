//! Plays items in batches: what can be read of each beforehand is read for all at once.

use std::sync::Arc;

use super::run::Run;
use super::{Halt, Moment, Options, Prediction};
use crate::event::Event;
use crate::net::{Endpoint, Instant, Packet};
use crate::network::{Network, ShortWay};
use crate::plan::Plan;
use crate::traffic::{Batches, Flow, Item, Party};

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
    let (mut batch, mut short_ways) = (Vec::with_capacity(BATCH), Vec::with_capacity(BATCH));
    loop {
        batch.clear();
        let error = items.fill(&mut batch, BATCH);
        run.find_short_ways(&batch, &mut short_ways);
        run.play(&batch, &short_ways)?;
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
    fn find_short_ways(&mut self, batch: &[Item], short_ways: &mut Vec<ShortWay>) {
        self.network.prepare_fast_paths();
        short_ways.clear();
        short_ways.extend(batch.iter().map(|item| match item {
            Item::Flow(flow) => self.short_way(flow),
            Item::Seen(seen) => {
                self.network.fast_packet(seen).map_or(ShortWay::None, ShortWay::Fast)
            }
            Item::Error(_) => ShortWay::None,
        }));
        self.network.prefetch(short_ways);
    }

    /// A shorter way for a flow, if there is one.
    #[inline(always)]
    fn short_way(&self, flow: &Flow) -> ShortWay {
        match self.network.fast_flow(flow) {
            Some(fast) => ShortWay::Fast(fast),
            None => self.longer_way(flow),
        }
    }

    /// The same for a flow that names no addresses or no port, or is on no fast path.
    #[inline(never)]
    fn longer_way(&self, flow: &Flow) -> ShortWay {
        if let Some(packet) = first_between(flow) {
            return self.known_way(packet);
        }
        let Some(flow) = self.between_addresses(flow) else { return ShortWay::None };
        // now that what it leaves open is filled in
        match self.network.fast_flow(&flow) {
            Some(fast) => ShortWay::Fast(fast),
            None => first_between(&flow).map_or(ShortWay::None, |packet| self.known_way(packet)),
        }
    }

    #[inline(always)]
    fn known_way(&self, packet: Packet) -> ShortWay {
        self.network.known_way(packet).map_or(ShortWay::None, ShortWay::Known)
    }

    /// Plays items that were read elsewhere.
    pub(super) fn play_batch<E>(&mut self, batch: &[Item]) -> Result<(), Halt<E>> {
        let mut short_ways = Vec::with_capacity(batch.len());
        self.find_short_ways(batch, &mut short_ways);
        self.play(batch, &short_ways)
    }

    fn play<E>(&mut self, batch: &[Item], short_ways: &[ShortWay]) -> Result<(), Halt<E>> {
        for (item, short) in batch.iter().zip(short_ways) {
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
                // which port its sender chooses may have changed since, and ways are learnt
                Item::Flow(flow)
                    if flow.source_port.is_none() || matches!(short, ShortWay::None) =>
                {
                    let short = self.short_way(flow);
                    self.flow(flow, &short);
                }
                Item::Flow(flow) => self.flow(flow, short),
                Item::Seen(seen) => self.seen(seen, short),
                Item::Error(seen) => self.seen_error(*seen),
            }
            if self.network.missed_source() {
                return Err(Halt::SourcesNeeded);
            }
        }
        Ok(())
    }
}

/// The first packet of a flow that leaves neither its addresses nor its source port open.
#[inline(always)]
fn first_between(flow: &Flow) -> Option<Packet> {
    let (Party::Address(from), Party::Address(to), Some(port)) =
        (flow.source, flow.destination, flow.source_port)
    else {
        return None;
    };
    let to = Endpoint::new(to, flow.destination_port.unwrap_or(0));
    Some(Packet::first(flow.protocol, Endpoint::new(from, port), to))
}
