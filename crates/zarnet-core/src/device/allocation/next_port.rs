//! The next port for a host on the address that it has: what most new mappings need, where the device
//! neither limits nor shares ports.

use super::port::{any_free, first_tried};
use crate::device::bindings::{Context, NewPort};
use crate::device::key::{EndKey, Key};
use crate::plan::{Fallback, PortAssignment, RuleKind};

impl Context<'_> {
    /// Whether a mapping on an address in use needs nothing but the next port.
    fn takes_next_port(&self) -> bool {
        let b = &self.compiled.plan.behaviour;
        self.compiled.mappings_are_simple
            && b.max_mappings.is_none()
            && b.max_sessions.is_none()
            && !b.port_parity
    }

    /// The target on which a rule gives a host that has mappings the next port, whatever there is
    /// besides, and whether the device could as well choose another; `None` for a rule that has more
    /// to ask.
    pub(in crate::device) fn next_port_on(&self, id: u16) -> Option<(u16, bool)> {
        let rule = self.rule(id);
        let target = self.compiled.targets.of(id).main?;
        let drops = matches!(rule.kind, RuleKind::Overload { fallback: Fallback::Drop, .. });
        let by_chance = self.compiled.plan.behaviour.port_assignment == PortAssignment::Random;
        let freely = by_chance || self.picks_freely(self.compiled.targets.get(target));
        (drops && rule.limit.is_none() && self.takes_next_port()).then_some((target, freely))
    }

    /// The external address that a host has or would get on a target, if it has been used, and where
    /// that is noted.
    #[inline(always)]
    pub(in crate::device) fn external_of_host(
        &self,
        host: Key,
        target: u16,
    ) -> (Option<u32>, Option<usize>) {
        if !self.bindings.target(target).keeps_pairs() {
            return (self.fixed_external(host, target), None);
        }
        self.bindings.paired.find(host, target).unzip()
    }

    /// The next port of some that are in use, for an internal end; `None` if none is left.
    #[inline(always)]
    pub(in crate::device) fn new_port(
        &self,
        (rule, target, freely): (u16, u16, bool),
        (internal, hash): (EndKey, u32),
        port_table: u32,
        pair: Option<usize>,
    ) -> Option<NewPort> {
        let behaviour = &self.compiled.plan.behaviour;
        let class = behaviour.port_class(internal.1);
        let range = behaviour.port_classes[class].into;
        let ports = &self.bindings.externals.port_table(port_table).ports;
        let (port, random) = if behaviour.port_assignment == PortAssignment::Random {
            let mut draw = self.draw();
            (any_free(ports, range, &mut draw)?, draw.position())
        } else {
            let last = self.bindings.externals.last(port_table, class);
            let from = first_tried(behaviour, range, last, internal.1);
            (ports.next_free(&[range], from, None)?, None)
        };
        Some(NewPort {
            rule,
            target,
            internal,
            hash,
            port_table,
            class,
            port,
            pair,
            freely,
            random,
        })
    }
}
