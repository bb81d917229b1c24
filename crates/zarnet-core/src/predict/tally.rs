//! Flows by class: every flow is in exactly one.

use crate::reason::Class;

/// How many flows ended how.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Tally {
    /// Changed by some device, and answered.
    pub translated: u64,
    /// Answered as they were sent.
    pub untranslated: u64,
    /// Flows that a device refused to translate or to pass.
    pub refused: u64,
    /// Flows whose first packet was lost elsewhere.
    pub undelivered: u64,
}

impl Tally {
    /// Flows of all classes together.
    pub fn total(&self) -> u64 {
        self.translated + self.untranslated + self.refused + self.undelivered
    }

    pub(super) fn count(&mut self, class: Class) {
        *match class {
            Class::Translated => &mut self.translated,
            Class::Untranslated => &mut self.untranslated,
            Class::Refused => &mut self.refused,
            Class::Undelivered => &mut self.undelivered,
        } += 1;
    }
}
