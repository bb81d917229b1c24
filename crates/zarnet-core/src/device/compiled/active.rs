//! Which rules take part at present, and what the device answers for because of it.

use super::{Compiled, external_addresses, in_force};
use crate::net::AddressSet;

/// The rules that take part.
#[derive(Debug, Clone)]
pub(in crate::device) struct ActiveRules {
    enabled: Vec<bool>,
    /// External addresses of enabled rules, for which the device answers ARP.
    pub arp: AddressSet,
}

impl ActiveRules {
    /// By position in the plan: whether each takes part.
    pub(in crate::device) fn new(compiled: &Compiled, enabled: Vec<bool>) -> Self {
        let mut active = Self { enabled, arp: AddressSet::default() };
        active.find_claims(compiled);
        active
    }

    /// Lets a rule take part, or not.
    pub(in crate::device) fn set(&mut self, compiled: &Compiled, rule: u16, on: bool) {
        self.enabled[usize::from(rule)] = on;
        self.find_claims(compiled);
    }

    fn find_claims(&mut self, compiled: &Compiled) {
        self.arp = AddressSet::default();
        for (id, rule) in in_force(&compiled.plan).filter(|r| self.enabled[usize::from(r.0)]) {
            self.arp.extend(&external_addresses(&compiled.plan, &compiled.targets, id, rule));
        }
    }

    /// Whether a rule takes part.
    #[inline(always)]
    pub(in crate::device) fn has(&self, rule: u16) -> bool {
        self.enabled[usize::from(rule)]
    }

    /// By position in the plan: whether each takes part.
    pub(in crate::device) fn all(&self) -> &[bool] {
        &self.enabled
    }
}
