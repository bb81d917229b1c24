//! The translation log of a device: kept where it is wanted, and taken as it grows.

use super::Device;
use super::sinks::{LogEntry, TranslationLog};
use crate::net::Instant;
use crate::plan::Log;

impl Device {
    /// From now on keeps the translation log: of each rule what the plan says, or of all the same.
    pub(crate) fn keep_log(&mut self, all_as: Option<Log>) {
        self.recorder.log = Some(Box::new(TranslationLog::new(self.compiled.clone(), all_as)));
    }

    /// Logs which mappings of fixed rules began or ended since this was asked last.
    pub(crate) fn log_fixed(&mut self, now: Instant) {
        if let Some(mut log) = self.recorder.log.take() {
            log.update_fixed(now, &self.fixed_mappings(now));
            self.recorder.log = Some(log);
        }
    }

    /// How many entries of the log wait to be taken.
    pub(crate) fn logged(&self) -> usize {
        self.recorder.log.as_ref().map_or(0, |log| log.len())
    }

    /// Takes what was logged since the last time, in the order of its time.
    pub(crate) fn take_log(&mut self, into: &mut Vec<LogEntry>) {
        if let Some(log) = &mut self.recorder.log {
            log.take(into);
        }
    }
}
