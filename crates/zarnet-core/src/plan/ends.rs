//! The external ends of rules: asked by the engine and by every question about a plan, told once.

use std::net::IpAddr;

use super::{DevicePlan, External, Fallback, Parties, Rule, RuleKind, Server, Target};
use crate::net::{AddressRange, AddressSet, Endpoint, Protocol};

impl RuleKind {
    /// The external end of a fixed rule as it is written; `None` for rules that choose theirs.
    pub fn external(&self) -> Option<External> {
        match self {
            Self::Static(s) => Some(s.external),
            Self::Forward(f) => Some(f.external),
            Self::Exempt | Self::Pool { .. } | Self::Overload { .. } => None,
        }
    }

    /// What a rule that chooses its ends translates senders to; `None` for fixed rules and exempt
    /// ones.
    pub fn target(&self) -> Option<Target> {
        match self {
            Self::Pool { pool, .. } => Some(Target::Pool(*pool)),
            Self::Overload { target, .. } => Some(*target),
            Self::Exempt | Self::Static(_) | Self::Forward(_) => None,
        }
    }

    /// What it overloads when that is used up, if anything.
    pub fn fallback(&self) -> Option<Target> {
        match self {
            Self::Pool { fallback: Fallback::Overload(target), .. }
            | Self::Overload { fallback: Fallback::Overload(target), .. } => Some(*target),
            Self::Pool { .. }
            | Self::Overload { .. }
            | Self::Exempt
            | Self::Static(_)
            | Self::Forward(_) => None,
        }
    }

    /// Whether it translates connections of an internal address, as far as its own lists tell.
    fn is_for_internal(&self, parties: &Parties, internal: IpAddr) -> bool {
        match self {
            Self::Static(s) => s.internal.contains(internal),
            Self::Forward(f) => f.servers.iter().any(|s| s.address == internal),
            Self::Exempt => false,
            Self::Pool { .. } | Self::Overload { .. } => parties.source.contains(internal),
        }
    }
}

impl DevicePlan {
    /// The addresses of an external end as they are now: of an interface its first IPv4 address, if
    /// it has one.
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
            Target::Interface(i) => {
                self.interfaces[i.index()].primary().map(AddressRange::one).into_iter().collect()
            }
            Target::Address(address) => AddressRange::one(address).into(),
            Target::Pool(pool) => self.pools[pool.index()].listed(),
        }
    }

    /// Every external address that a rule may give, its fallback's among them.
    pub fn external_addresses(&self, rule: &Rule) -> AddressSet {
        let targets = rule.kind.target().into_iter().chain(rule.kind.fallback());
        let mut set: AddressSet = self.external_end(rule).into_iter().collect();
        targets.for_each(|target| set.extend(&self.listed_by(target)));
        set
    }

    /// Whether a rule may have made a mapping of these ends. A protocol that is not known, and port
    /// 0, may be any.
    pub fn may_have_made(
        &self,
        rule: &Rule,
        protocol: Option<Protocol>,
        internal: Endpoint,
        external: Endpoint,
    ) -> bool {
        let forwarded = match &rule.kind {
            RuleKind::Forward(f) => {
                let at = external.port.checked_sub(f.ports.first);
                let is_server = |s: &Server| {
                    s.address == internal.address
                        && (internal.port == 0 || at.is_some_and(|n| s.port + n == internal.port))
                };
                protocol.is_none_or(|p| p == f.protocol)
                    && (external.port == 0
                        || f.ports.contains(external.port) && f.servers.iter().any(is_server))
            }
            RuleKind::Exempt
            | RuleKind::Static(_)
            | RuleKind::Pool { .. }
            | RuleKind::Overload { .. } => true,
        };
        forwarded
            && rule.kind.is_for_internal(&rule.parties, internal.address)
            && self.external_addresses(rule).contains(external.address)
    }
}
