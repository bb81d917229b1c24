//! The external ends of rules: asked by the engine and by every question about a plan, told once.

use super::{DevicePlan, External, Rule, RuleKind, Target};
use crate::net::{AddressRange, AddressSet};

impl RuleKind {
    /// The external end of a fixed rule as it is written; `None` for rules that choose theirs.
    pub fn external(&self) -> Option<External> {
        match self {
            Self::Static(s) => Some(s.external),
            Self::Forward(f) => Some(f.external),
            Self::Exempt | Self::Pool { .. } | Self::Overload { .. } => None,
        }
    }
}

impl DevicePlan {
    /// The addresses of an external end as they are now: of an interface its first IPv4 address, if it has one.
    pub fn external(&self, external: External) -> Option<AddressRange> {
        match external {
            External::Range(range) => Some(range),
            External::Interface(i) => self.interfaces[i.index()].primary().map(AddressRange::one),
        }
    }

    /// The external addresses of a fixed rule as they are now; `None` for rules that choose theirs.
    pub fn external_end(&self, rule: &Rule) -> Option<AddressRange> {
        rule.kind.external().and_then(|e| self.external(e))
    }

    /// Everything that a target lists, whether or not it can be handed out.
    pub fn listed_by(&self, target: Target) -> AddressSet {
        match target {
            Target::Interface(i) => self.interfaces[i.index()].primary().map(AddressRange::one).into_iter().collect(),
            Target::Address(address) => AddressRange::one(address).into(),
            Target::Pool(pool) => self.pools[pool.index()].listed(),
        }
    }
}
