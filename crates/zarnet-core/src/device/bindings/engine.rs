//! What the steps of the pipeline write to.

use super::{Bindings, Context, Sink, TableEvent};
use crate::device::compiled::{ActiveRules, Compiled};

/// A device at work: its plan, which of its rules take part, its table, and who is told of what
/// happens to that.
pub(in crate::device) struct Engine<'a, S> {
    pub compiled: &'a Compiled,
    pub active: &'a ActiveRules,
    pub bindings: &'a mut Bindings,
    pub sink: &'a mut S,
}

impl<S: Sink> Engine<'_, S> {
    /// The device as it is.
    #[inline(always)]
    pub(in crate::device) fn context(&self) -> Context<'_> {
        Context { compiled: self.compiled, active: self.active, bindings: self.bindings }
    }

    #[inline(always)]
    pub(in crate::device) fn report(&mut self, at: u64, event: TableEvent) {
        self.sink.note(at, event, self.bindings);
    }
}
