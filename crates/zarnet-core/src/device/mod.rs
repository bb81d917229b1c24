//! One device at work: what it does with a packet, and the table that this leaves behind.
//!
//! [`Device::receive`] and [`Device::originate`] take a packet and the time; nothing here reads a
//! clock. A device is tied together of layers, each of which knows only those before it:
//!
//! - `key`: what state is keyed by; `compiled`: the plan as packets are looked up in it, which
//!   never changes;
//! - `bindings`: mappings, sessions and their timers, changed by four doors only, which report to
//!   `sinks`;
//! - `allocation`: which external end a new mapping gets; `pipeline`: the steps of the contract, a
//!   file each;
//! - `fast_path`: what can be decided beforehand, through the same doors.

mod allocation;
mod ask;
mod bindings;
mod commands;
mod compiled;
mod fast_path;
mod key;
mod logging;
mod outcome;
mod pipeline;
mod replace_plan;
mod run;
mod session_state;
mod short_ways;
mod sinks;
#[cfg(test)]
mod testing;
mod view;

use std::sync::Arc;

use crate::net::{AddressSet, Instant};
use crate::plan;
use bindings::{Bindings, Context, Engine};
use compiled::{ActiveRules, Compiled};
use sinks::Recorder;

pub use bindings::Cause as EndCause;
pub use compiled::PrefixPair;
pub(crate) use fast_path::{FastOutcome, FastPacket, FastPath, FlowKey};
pub(crate) use key::{Key, tuple_of};
pub(crate) use outcome::FlowSchedule;
pub use outcome::{Forwarded, Outcome, Refusal, SessionRef, Taken};
pub use pipeline::{Condition, ForwardedError, Judged, OwnSource, Verdicts};
pub(crate) use pipeline::{DecidedHop, Prepared, Probe, UsualFlow};
pub use session_state::State;
pub use sinks::{
    AddressUse, Counters, EndedMapping, History, HostBlock, Lengths, LogEntry, LogEvent, Peak,
    PoolUse, Quota, RuleCounters, Series, Span, Supply, Translated,
};
pub use view::{MappingRow, SessionRow};

/// A device and its state.
#[derive(Debug, Clone)]
pub struct Device {
    compiled: Arc<Compiled>,
    active: ActiveRules,
    bindings: Bindings,
    recorder: Recorder,
}

impl Device {
    /// A device with nothing in its table. `taken`: addresses of the plan's interfaces, hosts and
    /// next hops, which no pool hands out. The same `seed` gives the same choices on every machine.
    pub fn new(plan: &Arc<plan::DevicePlan>, taken: &Arc<AddressSet>, seed: u64) -> Self {
        let enabled = plan.rules.iter().map(|r| r.enabled).collect();
        let compiled =
            Compiled::new(plan.clone(), taken, &AddressSet::default(), std::iter::empty());
        let active = ActiveRules::new(&compiled, enabled);
        let (bindings, recorder) = (Bindings::new(&compiled, seed), Recorder::new(&compiled));
        Self { compiled: Arc::new(compiled), active, bindings, recorder }
    }

    /// Lets the table be as it is in another state of the same device, before packets came. What
    /// was counted of these stays counted.
    pub(crate) fn restore(&mut self, from: &Self) {
        self.bindings.restore(&from.bindings);
    }

    /// The device as it is.
    #[inline(always)]
    fn context(&self) -> Context<'_> {
        Context { compiled: &self.compiled, active: &self.active, bindings: &self.bindings }
    }

    /// The device at work.
    #[inline(always)]
    fn engine(&mut self) -> Engine<'_, Recorder> {
        let Self { compiled, active, bindings, recorder } = self;
        Engine { compiled, active, bindings, sink: recorder }
    }

    /// Ends everything whose time is up at `now`, in the order of expiry.
    #[inline(always)]
    pub fn expire(&mut self, now: Instant) {
        self.engine().expire(now);
    }

    /// How many addresses each pool can hand out; `None` for a pool that no rule uses.
    pub fn usable_by_pool(&self) -> Vec<Option<u32>> {
        let mut sizes = vec![None; self.compiled.plan.pools.len()];
        for whole in [false, true] {
            for target in self.compiled.targets.list.iter().filter(|t| t.whole == whole) {
                if let Some(pool) = target.pool {
                    sizes[pool.index()] = Some(target.space.count());
                }
            }
        }
        sizes
    }

    /// Before this instant nothing becomes due; `None` if nothing ever does as things are.
    pub(crate) fn next_due(&self) -> Option<Instant> {
        Some(self.bindings.next_expiry()).filter(|due| *due < u64::MAX).map(Instant)
    }
}
