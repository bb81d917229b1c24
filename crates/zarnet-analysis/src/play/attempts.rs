//! Traffic played to an answer: what turns out to need another reading of it gets one.

use std::sync::Arc;
use std::sync::mpsc::sync_channel;

use zarnet_core::net::Instant;
use zarnet_core::plan::Plan;
use zarnet_core::predict::{Halt, Options, predict};
use zarnet_core::traffic::{Batches, Item};
use zarnet_formats::traffic::{Attempt, Fault, Items, Skipped, Traffic, TrafficError};

use super::ahead::Ahead;
use crate::AnalysisError;

/// Somebody who wants to know how far a run has come.
pub trait Watch {
    /// So many more flows and packets were read.
    fn step(&self, more: u64);
}

/// Nobody watches how far it is.
pub struct Silent;

impl Watch for Silent {
    fn step(&self, _: u64) {}
}

/// Traffic that tells how far it was read.
pub struct Watched<'a, 'b, W> {
    from: Reading<'a, 'b>,
    watch: &'a W,
}

/// Where items come from.
enum Reading<'a, 'b> {
    /// They are read when they are asked for.
    Here(&'a mut Items<'b>),
    /// They were read ahead.
    Ahead(&'a mut Ahead),
}

impl<W: Watch> Batches for Watched<'_, '_, W> {
    type Error = TrafficError;

    fn fill(&mut self, batch: &mut Vec<Item>, most: usize) -> Option<TrafficError> {
        let error = match &mut self.from {
            Reading::Here(items) => items.fill(batch, most),
            Reading::Ahead(ahead) => ahead.fill(batch, most),
        };
        self.watch.step(batch.len() as u64);
        error
    }
}

/// One run over the traffic: its outcome, what was passed over, and the items behind those that it
/// wanted.
fn run_once<'b, T, W: Watch>(
    traffic: &'b Traffic,
    attempt: Attempt,
    watch: &W,
    run: impl FnOnce(Watched<'_, '_, W>) -> T,
) -> (T, Skipped, Option<Items<'b>>) {
    let mut items = traffic.items(attempt);
    if traffic.threads() < 2 {
        let outcome = run(Watched { from: Reading::Here(&mut items), watch });
        return (outcome, items.skipped(), Some(items));
    }
    let (give_back, given_back) = sync_channel(1);
    let (outcome, skipped) = std::thread::scope(|scope| {
        let mut ahead = Ahead::new(scope, items, give_back);
        let outcome = run(Watched { from: Reading::Ahead(&mut ahead), watch });
        (outcome, ahead.skipped())
    });
    (outcome, skipped, given_back.recv().ok())
}

/// Plays traffic by `run`, and again if that needs it in order or needs to know its senders.
///
/// # Errors
/// The traffic is wrong.
pub fn play<T, W: Watch>(
    traffic: &Traffic,
    options: Options,
    watch: &W,
    run: impl Fn(Watched<'_, '_, W>, Options) -> Result<T, Halt<TrafficError>>,
) -> Result<(T, Skipped), AnalysisError> {
    let (mut attempt, mut options) = (Attempt::Streaming, options);
    options.sources = options.sources.or(traffic.known_sources());
    loop {
        let again = options.clone();
        let (outcome, skipped, items) =
            run_once(traffic, attempt, watch, |items| run(items, again));
        match outcome {
            Ok(answer) => return Ok((answer, skipped)),
            Err(Halt::OutOfOrder { .. }) if attempt == Attempt::Streaming => {
                items.into_iter().for_each(|items| traffic.learn(items));
                attempt = Attempt::Sorted;
            }
            Err(Halt::SourcesNeeded) if options.sources.is_none() => {
                options.sources = Some(traffic.sources());
            }
            Err(Halt::Traffic(error)) if before_origin(&error) && attempt == Attempt::Streaming => {
                items.into_iter().for_each(|items| traffic.learn(items));
                attempt = Attempt::Sorted;
            }
            Err(Halt::Traffic(_)) => {
                let (errors, count) = traffic.errors();
                return Err(AnalysisError::Traffic(errors, count));
            }
            Err(Halt::OutOfOrder { .. }) => {
                return Err(AnalysisError::Internal(
                    "the traffic goes back in time although it was sorted",
                ));
            }
            Err(Halt::SourcesNeeded) => {
                return Err(AnalysisError::Internal("the senders of the traffic are unknown"));
            }
        }
    }
}

/// A time of day before the first that was read is no error of the list: the list is not in order.
fn before_origin(error: &TrafficError) -> bool {
    matches!(&error.fault, Fault::NegativeTime(text) if !text.starts_with('-'))
}

/// When the most mappings are alive: a run of its own finds it.
///
/// # Errors
/// The traffic is wrong.
pub fn at_peak<W: Watch>(
    plan: &Arc<Plan>,
    traffic: &Traffic,
    seed: u64,
    watch: &W,
) -> Result<Instant, AnalysisError> {
    let options = Options { seed, mappings: false, sessions: false, ..Options::default() };
    let whole = play(traffic, options, watch, |items, options| {
        predict(plan.clone(), items, traffic.events(), options)
    })?;
    Ok(whole.0.peak_at)
}
