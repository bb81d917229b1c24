//! The next port for a host on the address that it has: what most new mappings need, where ports
//! are not shared.

use super::port::{any_free, block_span, drawn, first_tried};
use crate::device::bindings::{Context, NewPort, OwnPorts, PortSpan};
use crate::device::key::{EndKey, Key};
use crate::plan::{Fallback, PortAssignment, RuleKind};

impl Context<'_> {
    /// Whether a mapping on an address in use needs nothing but the next port.
    fn takes_next_port(&self) -> bool {
        let b = &self.compiled.plan.behaviour;
        self.compiled.mappings_are_plain
            && b.max_mappings.is_none()
            && b.max_sessions.is_none()
            && !b.port_parity
    }

    /// The target on which a rule gives a host that has mappings the next port, whatever there is
    /// besides, and whether the device could as well choose another; `None` for a rule that has
    /// more to ask.
    pub(in crate::device) fn next_port_on(&self, id: u16) -> Option<(u16, bool)> {
        let rule = self.rule(id);
        let target = self.compiled.targets.of(id).main?;
        let drops = matches!(rule.kind, RuleKind::Overload { fallback: Fallback::Drop, .. });
        let by_chance = self.compiled.plan.behaviour.port_assignment == PortAssignment::Random;
        let freely = by_chance || self.picks_freely(self.compiled.targets.get(target));
        (drops && rule.limit.is_none() && self.takes_next_port()).then_some((target, freely))
    }

    /// The external address that a host has or would get on a target, if it has been used, and
    /// where that is noted.
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

    /// The port that an internal one will get, if others get so many before: a guess, to read its
    /// place beforehand.
    #[inline(always)]
    pub(in crate::device) fn likely_port(&self, port_table: u32, port: u16, ahead: u16) -> u16 {
        let behaviour = &self.compiled.plan.behaviour;
        match behaviour.port_assignment {
            PortAssignment::Preserve => port,
            PortAssignment::Sequential | PortAssignment::Random => {
                let class = behaviour.port_class(port);
                self.bindings.externals.last(port_table, class).wrapping_add(ahead)
            }
        }
    }

    /// The next port of some that are in use, for an internal end; `None` if none is left, or more
    /// has to be asked.
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
        let ((port, random), block) = if self.compiled.mappings_are_simple {
            (self.port_in(range, class, port_table, internal.1)?, None)
        } else if self.has_all_ports(internal.0) {
            return None;
        } else {
            let own = self.bindings.externals.own_ports(port_table, internal.0);
            let (span, block) = self.own_span(own, class)?;
            (self.port_of_host(span, class, port_table, (own, internal.1))?, block)
        };
        Some(NewPort {
            rule,
            target,
            internal,
            hash,
            port_table,
            class,
            port,
            block,
            pair,
            freely,
            random,
        })
    }

    /// A free port of a span, and where the random stream stands then.
    #[inline(always)]
    fn port_in(
        &self,
        span: PortSpan,
        class: usize,
        port_table: u32,
        port: u16,
    ) -> Option<(u16, Option<u64>)> {
        let behaviour = &self.compiled.plan.behaviour;
        let ports = &self.bindings.externals.port_table(port_table).ports;
        if behaviour.port_assignment == PortAssignment::Random {
            let mut draw = self.draw();
            return Some((any_free(ports, span, &mut draw)?, draw.position()));
        }
        let range = behaviour.port_classes[class].into;
        let from =
            first_tried(behaviour, range, self.bindings.externals.last(port_table, class), port);
        Some((ports.next_free(&[span], from, None)?, None))
    }

    /// The ports of a class that a host may have without being given a block first, by what it has,
    /// and the number of its block, where ports come in blocks and it has one; `None` where it has
    /// none or several.
    pub(in crate::device) fn own_span(
        &self,
        own: Option<&OwnPorts>,
        class: usize,
    ) -> Option<(PortSpan, Option<u16>)> {
        let behaviour = &self.compiled.plan.behaviour;
        let range: PortSpan = behaviour.port_classes[class].into;
        let Some(size) = behaviour.block_size else { return Some((range, None)) };
        let mut blocks = own?.blocks(class);
        let (Some(number), None) = (blocks.next(), blocks.next()) else { return None };
        Some((block_span(range, size, number), Some(number)))
    }

    /// The same as [`Self::port_in`] where ports rest: those that were the host's own are free to
    /// it. `None` where that takes more than a few draws.
    fn port_of_host(
        &self,
        span: PortSpan,
        class: usize,
        port_table: u32,
        (own, port): (Option<&OwnPorts>, u16),
    ) -> Option<(u16, Option<u64>)> {
        let externals = &self.bindings.externals;
        let rested = || externals.resting_for(port_table, own);
        if self.compiled.plan.behaviour.port_assignment != PortAssignment::Random {
            let rests = rested().next().is_some();
            return if rests { None } else { self.port_in(span, class, port_table, port) };
        }
        let ports = &externals.port_table(port_table).ports;
        let mut draw = self.draw();
        let usable = |port| ports.is_free(port) || rested().any(|p| p == port);
        Some((drawn(&[span], None, &mut draw, usable)?, draw.position()))
    }
}
