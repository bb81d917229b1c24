//! What the steps of the pipeline read.

use std::net::IpAddr;

use super::table::Mapping;
use super::{Bindings, Kind, Session};
use crate::device::compiled::{ActiveRules, Compiled, Timing};
use crate::device::key::Key;
use crate::net::Endpoint;
use crate::plan::{Rule, RuleId};

/// A device as it is: its plan, which of its rules take part, and its table.
#[derive(Clone, Copy)]
pub(in crate::device) struct Context<'a> {
    pub compiled: &'a Compiled,
    pub active: &'a ActiveRules,
    pub bindings: &'a Bindings,
}

/// The end of a session that a fixed rule translated: the rule, the internal and the external end.
type FixedEnd = (RuleId, Endpoint, Endpoint);

impl<'a> Context<'a> {
    /// A rule by its position.
    #[inline(always)]
    pub(in crate::device) fn rule(&self, id: u16) -> &'a Rule {
        self.compiled.rule(id)
    }

    /// What a session is timed by.
    pub(in crate::device) fn timing(&self, session: &Session) -> Timing<'a> {
        let (protocol, port) = self.bindings.timed_by(session);
        self.compiled.timing(protocol, port)
    }

    /// The ends of a session that fixed rules translated, in steps 4 and 8.
    pub(in crate::device) fn fixed_ends(&self, id: u32) -> [Option<FixedEnd>; 2] {
        let (inbound, outbound) = self.bindings.rules_of(self.bindings.table.session(id));
        let fixed = |rule: Option<RuleId>| rule.filter(|r| self.rule(r.0).kind.is_fixed());
        let (inbound, outbound) = (fixed(inbound), fixed(outbound));
        if inbound.or(outbound).is_none() {
            return [None; 2];
        }
        let (original, translated) = self.bindings.tuples(id);
        [
            inbound.map(|r| (r, translated.destination, original.destination)),
            outbound.map(|r| (r, original.source, translated.source)),
        ]
    }

    /// How long a mapping outlasts its last session: an address mapping of a rule that takes part
    /// does.
    pub(in crate::device) fn binding_of(&self, m: &Mapping) -> u64 {
        let lingers = m.kind() == Kind::Address && self.active.has(m.rule);
        if lingers { self.compiled.timers.binding } else { 0 }
    }

    /// The external address that a host has on a target that pairs them; of one with stable
    /// addresses, the one that it has or gets, unless that has no room for it.
    #[inline]
    pub(in crate::device) fn paired_address(&self, host: Key, target: u16) -> Option<Key> {
        self.bindings.paired_address(&self.compiled.targets, host, target)
    }

    /// Whether a host has mappings of a rule on its fallback, and stays there while it has.
    pub(in crate::device) fn stays_on_fallback(&self, host: Option<Key>, rule: u16) -> bool {
        let stays = |host| self.bindings.hosts.is_on_fallback(host, rule);
        self.compiled.plan.behaviour.paired && host.is_some_and(stays)
    }

    /// The targets of a rule that a host is given something of: one that stays on the fallback gets
    /// nothing of the other.
    pub(in crate::device) fn tried_targets(&self, rule: u16, host: IpAddr) -> [Option<u16>; 2] {
        let targets = self.compiled.targets.of(rule);
        [targets.main.filter(|_| !self.stays_on_fallback(Key::of(host), rule)), targets.fallback]
    }

    /// The external address that a host has on a target with one address, or with stable ones, if
    /// it has been used.
    #[inline(always)]
    pub(in crate::device) fn fixed_external(&self, host: Key, target: u16) -> Option<u32> {
        let state = self.bindings.target(target);
        let space = &self.compiled.targets.get(target).space;
        let position = match space.count() {
            1 => 0,
            _ if state.is_stable() => space.first_for(host),
            _ => return None,
        };
        state.used_as.get(position as usize).copied().filter(|external| *external != super::NONE)
    }
}
