//! The translation log of a device: kept where it is wanted, and taken as it grows.

use super::Device;
use super::sinks::{LogEntry, LogEvent, Translated, TranslationLog};
use super::view::MappingRow;
use crate::net::Instant;
use crate::plan::{Log, RuleId};

impl Device {
    /// From now on keeps the translation log: of each rule what the plan says, or of all the same.
    pub(crate) fn keep_log(&mut self, all_as: Option<Log>) {
        let log = TranslationLog::new(self.compiled.clone(), all_as);
        self.recorder.want().log = Some(Box::new(log));
    }

    /// Logs which mappings of fixed rules began or ended since this was asked last.
    pub(crate) fn log_fixed(&mut self, now: Instant) {
        if let Some(mut log) = self.recorder.wanted_mut().and_then(|wanted| wanted.log.take()) {
            let permanent = |row: &MappingRow| row.fixed && row.expires.is_none();
            let rows = self.fixed_mappings(now);
            log.update_fixed(now, rows.iter().filter(|r| permanent(r)).map(of_row).collect());
            self.recorder.want().log = Some(log);
        }
    }

    /// How many entries of the log wait to be taken.
    pub(crate) fn logged(&self) -> usize {
        let log = self.recorder.wanted().and_then(|wanted| wanted.log.as_ref());
        log.map_or(0, |log| log.len())
    }

    /// Takes what was logged since the last time, in the order of its time, and leaves room for
    /// more.
    pub(crate) fn take_log(&mut self, room: Vec<LogEntry>) -> Vec<LogEntry> {
        match self.recorder.log_mut() {
            Some(log) => log.take(room),
            None => room,
        }
    }
}

/// The mapping of a fixed rule as it is logged when it begins.
fn of_row(row: &MappingRow) -> (RuleId, LogEvent) {
    let MappingRow { protocol, internal, external, .. } = *row;
    let translated = Translated { protocol, internal, external, peer: None };
    let event = match external.port {
        0 => LogEvent::Address(translated, None),
        _ => LogEvent::Mapping(translated, None),
    };
    (row.rule, event)
}
