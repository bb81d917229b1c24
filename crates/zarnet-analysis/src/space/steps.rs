//! How much work may still be done on sets of packets.

use zarnet_core::limits;

/// How much work going through all packets may still be ([`limits::CLASS_STEPS`]): conditions on
/// several fields multiply.
#[derive(Debug, Clone)]
pub struct Steps(u64);

impl Default for Steps {
    fn default() -> Self {
        Self(limits::CLASS_STEPS)
    }
}

impl Steps {
    /// How many may still be taken.
    pub fn left(&self) -> u64 {
        self.0
    }

    /// Takes so many steps; `None` if there are no more.
    pub(super) fn take(&mut self, steps: usize) -> Option<()> {
        self.0 = self.0.checked_sub(steps as u64)?;
        Some(())
    }
}
