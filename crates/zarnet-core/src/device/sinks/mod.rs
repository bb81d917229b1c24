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
    /// What is only kept where it is wanted; nothing most of the time, which is seen at one look.
    wanted: Option<Box<Wanted>>,
}

/// What is only kept where it is wanted.
#[derive(Debug, Clone, Default)]
pub(super) struct Wanted {
    /// What was in use over time.
    pub history: Option<Box<History>>,
    /// Mappings that have ended.
    pub ended: Option<Box<EndedMappings>>,
    /// The translation log.
    pub log: Option<Box<TranslationLog>>,
}

impl Recorder {
    /// Counters that stand at nothing, and no history.
    pub(super) fn new(compiled: &Compiled) -> Self {
        let events = EventCounters::new(compiled.plan.rules.len());
        let uses = UseCounters::new(compiled.targets.list.len());
        Self { events, uses, wanted: None }
    }

    /// What is wanted besides counters, if anything is.
    pub(super) fn wanted(&self) -> Option<&Wanted> {
        self.wanted.as_deref()
    }

    /// The same, to be changed.
    pub(super) fn wanted_mut(&mut self) -> Option<&mut Wanted> {
        self.wanted.as_deref_mut()
    }

    /// What was in use over time, where that is wanted.
    pub(super) fn history_mut(&mut self) -> Option<&mut History> {
        self.wanted_mut()?.history.as_deref_mut()
    }

    /// The translation log, where that is wanted.
    pub(super) fn log_mut(&mut self) -> Option<&mut TranslationLog> {
        self.wanted_mut()?.log.as_deref_mut()
    }

    /// Whether anybody is told of events in their order.
    pub(super) fn is_told_in_order(&self) -> bool {
        let in_order = |history: &History| !history.drains();
        self.wanted().is_some_and(|wanted| {
            wanted.history.as_deref().is_some_and(in_order) || wanted.log.is_some()
        })
    }

    /// What is wanted besides counters, now that something is.
    pub(super) fn want(&mut self) -> &mut Wanted {
        self.wanted.get_or_insert_default()
    }

    /// The device is described anew: what is counted by rule, pool or target has other numbers.
    pub(super) fn rename(
        &mut self,
        compiled: &Arc<Compiled>,
        renaming: &Renaming,
        targets: &[u16],
        old: &plan::DevicePlan,
    ) {
        if let Some(wanted) = self.wanted_mut() {
            wanted.rename(compiled, renaming, old);
        }
        self.events.rename(renaming, compiled.plan.rules.len());
        self.uses.renumber(targets, compiled.targets.list.len());
    }
}

impl Wanted {
    fn rename(&mut self, compiled: &Arc<Compiled>, renaming: &Renaming, old: &plan::DevicePlan) {
        if let Some(history) = &mut self.history {
            history.rename(compiled, renaming, old);
        }
        if let Some(ended) = &mut self.ended {
            ended.rename(renaming);
        }
        if let Some(log) = &mut self.log {
            log.rename(compiled, renaming);
        }
    }
}

impl Sink for Wanted {
    #[inline]
    fn note(&mut self, at: u64, event: TableEvent, bindings: &Bindings) {
        self.history.note(at, event, bindings);
        self.ended.note(at, event, bindings);
        self.log.note(at, event, bindings);
    }
}

impl Sink for Recorder {
    #[inline(always)]
    fn touch_rule(&self, rule: u16) -> u32 {
        self.events.touch_rule(rule)
    }

    #[inline(always)]
    fn note(&mut self, at: u64, event: TableEvent, bindings: &Bindings) {
        self.wanted.note(at, event, bindings);
        self.events.note(at, event, bindings);
        self.uses.note(at, event, bindings);
    }
}

#[cfg(test)]
mod tests;
