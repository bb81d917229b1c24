//! What is limited: mappings and sessions of a rule, of a host, and of the device.
//!
//! Contract: §M10 of docs/semantics.md.

use crate::device::bindings::Context;
use crate::device::key::Key;
use crate::device::outcome::Refusal;
use crate::net::Packet;
use crate::plan::{RuleId, RuleKind};
use crate::reason::Reason;

impl Context<'_> {
    /// A packet that a rule does not translate. What no rule does for a family is no rule's fault.
    pub(super) fn refusal(&self, reason: Reason, id: u16) -> Refusal {
        let blamed = (reason != Reason::UnsupportedFamily).then_some(RuleId(id));
        Refusal { reason, rule: blamed, place: Some(self.rule(id).place) }
    }

    /// A packet for which a rule has nothing left. That the device is full is no rule's fault.
    pub(super) fn exhausted(&self, reason: Reason, id: u16) -> Refusal {
        let blamed = (reason != Reason::DeviceFull).then_some(RuleId(id));
        Refusal { reason, rule: blamed, place: Some(self.rule(id).place) }
    }

    /// A fixed rule makes another session.
    pub(super) fn check_session_limit(&self, id: u16) -> Result<(), Refusal> {
        let live = self.bindings.live[usize::from(id)].sessions;
        let full = self.rule(id).limit.is_some_and(|l| live >= u64::from(l));
        if full { Err(self.refusal(Reason::RuleLimit, id)) } else { Ok(()) }
    }

    /// The device makes another session.
    pub(in crate::device) fn check_sessions(&self) -> Result<(), Refusal> {
        let plan = &self.compiled.plan;
        let full =
            plan.behaviour.max_sessions.is_some_and(|m| self.bindings.table.session_count() >= m);
        if full { Err(Refusal::new(Reason::DeviceFull, plan.place)) } else { Ok(()) }
    }

    /// RFC 6888 §3 REQ-11: what exceeds a limit is dropped, and nothing is deleted to make room.
    pub(super) fn check_rule_limit(&self, id: u16) -> Result<(), Refusal> {
        let rule = self.rule(id);
        let dynamic = matches!(rule.kind, RuleKind::Pool { .. } | RuleKind::Overload { .. });
        let held = self.bindings.live[usize::from(id)].mappings;
        let full = dynamic && rule.limit.is_some_and(|l| held >= u64::from(l));
        if full { Err(self.exhausted(Reason::RuleLimit, id)) } else { Ok(()) }
    }

    /// Whether a host has as many ports as it may have.
    pub(in crate::device) fn has_all_ports(&self, host: Key) -> bool {
        let most = self.compiled.plan.behaviour.ports_per_host;
        most.is_some_and(|most| self.bindings.hosts.ports_of(host) >= most)
    }

    /// RFC 6888 §3 REQ-4: ports are limited by internal host.
    pub(super) fn check_host_limit(&self, id: u16, sent: Packet) -> Result<(), Refusal> {
        let full = Key::of(sent.source().address).is_some_and(|host| self.has_all_ports(host));
        if sent.protocol.is_multiplexed() && full {
            Err(self.exhausted(Reason::HostLimit, id))
        } else {
            Ok(())
        }
    }

    pub(super) fn check_room(&self, id: u16) -> Result<(), Refusal> {
        let full = self
            .compiled
            .plan
            .behaviour
            .max_mappings
            .is_some_and(|m| self.bindings.table.mapping_count() >= m);
        if full { Err(self.exhausted(Reason::DeviceFull, id)) } else { Ok(()) }
    }
}
