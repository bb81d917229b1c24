//! Who is told of what happens to a device's table: counters always, use over time where that is
//! wanted.

mod counters;
mod ended;
mod history;
mod peak;
mod rests;
mod series;
mod translation_log;

use std::sync::Arc;

use super::bindings::{Bindings, Sink, TableEvent};
use super::compiled::Compiled;
use crate::plan::{self, Renaming};

pub use counters::{AddressUse, Counters, PoolUse, RuleCounters};
pub use ended::EndedMapping;
pub use history::{History, Supply};
pub(super) use history::{RefusedFlow, usable_ports};
pub use peak::Peak;
pub use series::{Lengths, Series, Span};
pub(super) use translation_log::TranslationLog;
pub use translation_log::{HostBlock, LogEntry, LogEvent, Quota, Translated};

use counters::{EventCounters, UseCounters};
use ended::EndedMappings;

/// Everybody who is told.
#[derive(Debug, Clone)]
pub(super) struct Recorder {
    pub events: EventCounters,
    pub uses: UseCounters,
    /// What was in use over time, where that is wanted.
    pub history: Option<Box<History>>,
    /// Mappings that have ended, where they are wanted.
    pub ended: Option<Box<EndedMappings>>,
    /// The translation log, where it is wanted.
    pub log: Option<Box<TranslationLog>>,
}

impl Recorder {
    /// Counters that stand at nothing, and no history.
    pub(super) fn new(compiled: &Compiled) -> Self {
        let events = EventCounters::new(compiled.plan.rules.len());
        let uses = UseCounters::new(compiled.targets.list.len());
        Self { events, uses, history: None, ended: None, log: None }
    }

    /// The device is described anew: what is counted by rule, pool or target has other numbers.
    pub(super) fn rename(
        &mut self,
        compiled: &Arc<Compiled>,
        renaming: &Renaming,
        targets: &[u16],
        old: &plan::DevicePlan,
    ) {
        if let Some(history) = &mut self.history {
            history.rename(compiled, renaming, old);
        }
        if let Some(ended) = &mut self.ended {
            ended.rename(renaming);
        }
        if let Some(log) = &mut self.log {
            log.rename(compiled, renaming);
        }
        self.events.rename(renaming, compiled.plan.rules.len());
        self.uses.renumber(targets, compiled.targets.list.len());
    }
}

impl Sink for Recorder {
    #[inline(always)]
    fn note(&mut self, at: u64, event: TableEvent, bindings: &Bindings) {
        self.history.note(at, event, bindings);
        self.ended.note(at, event, bindings);
        self.log.note(at, event, bindings);
        self.events.note(at, event, bindings);
        self.uses.note(at, event, bindings);
    }
}

#[cfg(test)]
mod tests;
