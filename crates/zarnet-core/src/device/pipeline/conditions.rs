//! What a rule asks of a packet, condition by condition: the pipeline goes by these, and so does
//! whoever wants to know which one kept a rule from matching.
//!
//! Contract: §D4.1, §D8.1 and §D8.2 of docs/semantics.md.

use crate::device::bindings::Context;
use crate::net::Packet;
use crate::plan::{Direction, InterfaceId, InterfaceSet, Rule, RuleId, RuleKind};

/// Something that a rule asks of a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Condition {
    /// The rule takes part.
    Enabled,
    /// The packet comes in from one of its realms.
    From,
    /// The packet leaves into one of its realms; of one from outside, it comes in from one.
    Into,
    /// The sender is in its list.
    Source,
    /// The receiver is in its list; of one from outside, it is the rule's external address.
    Destination,
    /// The service is in its list; of one from outside, it is one of the rule's external ports.
    Service,
    /// It is good in this direction.
    Direction,
}

impl Condition {
    /// Every condition, in the order in which they are asked.
    pub const ALL: [Self; 7] = [
        Self::Enabled,
        Self::From,
        Self::Into,
        Self::Source,
        Self::Destination,
        Self::Service,
        Self::Direction,
    ];

    /// The stable name, as JSON and CSV have it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Enabled => "enabled",
            Self::From => "from",
            Self::Into => "into",
            Self::Source => "source",
            Self::Destination => "destination",
            Self::Service => "service",
            Self::Direction => "direction",
        }
    }
}

/// Where a packet goes through a device, as rules look at it.
#[derive(Debug, Clone, Copy)]
pub(super) struct Path<'a> {
    pub ingress: InterfaceId,
    pub egress: InterfaceId,
    /// In a hairpin, the realms of the rule that leads it in.
    pub hairpin: Option<&'a InterfaceSet>,
}

impl Context<'_> {
    /// Which conditions of a rule a first packet on its way out does not meet, with its ends as its
    /// initiator sent them.
    pub(in crate::device) fn unmet_outbound(
        &self,
        rule: RuleId,
        ingress: InterfaceId,
        egress: InterfaceId,
        sent: Packet,
    ) -> Vec<Condition> {
        let path = Path { ingress, egress, hairpin: None };
        Condition::ALL
            .into_iter()
            .filter(|c| !self.meets_outbound(*c, rule.0, path, sent))
            .collect()
    }

    /// Which conditions of a fixed rule a first packet from its external side does not meet; `None`
    /// for other rules.
    pub(in crate::device) fn unmet_inbound(
        &self,
        rule: RuleId,
        ingress: InterfaceId,
        packet: Packet,
    ) -> Option<Vec<Condition>> {
        let fixed = self.rule(rule.0).kind.is_fixed();
        let unmet = || {
            Condition::ALL
                .into_iter()
                .filter(|c| !self.meets_inbound(*c, rule.0, ingress, packet))
                .collect()
        };
        fixed.then(unmet)
    }

    /// The rules of step 8 that match a first packet, in the order in which they are looked at: the
    /// first is applied.
    pub(in crate::device) fn outbound_matches(
        &self,
        ingress: InterfaceId,
        egress: InterfaceId,
        sent: Packet,
    ) -> Vec<RuleId> {
        let path = Path { ingress, egress, hairpin: None };
        let meets =
            |id: &u16| Condition::ALL.into_iter().all(|c| self.meets_outbound(c, *id, path, sent));
        self.compiled.sources.of_packet(sent).filter(meets).map(RuleId).collect()
    }

    /// The fixed rules of step 4 that let a first packet in, in the order in which they are looked
    /// at.
    pub(in crate::device) fn inbound_matches(
        &self,
        ingress: InterfaceId,
        packet: Packet,
    ) -> Vec<RuleId> {
        let to = packet.destination();
        let forwards = self.compiled.destinations.forwards(packet.protocol, to.address, to.port);
        let statics = self.compiled.destinations.statics(to.address);
        let meets = |id: &u16| {
            let asked = [
                Condition::Enabled,
                Condition::Into,
                Condition::Source,
                Condition::Destination,
                Condition::Service,
                Condition::Direction,
            ];
            asked.into_iter().all(|c| self.meets_inbound(c, *id, ingress, packet))
        };
        forwards.iter().chain(statics).copied().filter(meets).map(RuleId).collect()
    }

    /// Whether a packet meets a condition of a rule for sources (step 8).
    #[inline]
    pub(super) fn meets_outbound(
        &self,
        condition: Condition,
        id: u16,
        path: Path<'_>,
        sent: Packet,
    ) -> bool {
        let rule = self.rule(id);
        match condition {
            Condition::Enabled => self.active.has(id),
            Condition::From => rule.from.interfaces.contains(path.ingress),
            Condition::Into => {
                rule.into.interfaces.contains(path.egress)
                    || path.hairpin.is_some_and(|into| into.intersects(&rule.into.interfaces))
            }
            Condition::Source => rule.is_for_sender(sent.source().address),
            Condition::Destination => rule.parties.destination.contains(sent.destination().address),
            Condition::Service => serves_outbound(rule, sent),
            Condition::Direction => {
                !matches!(&rule.kind, RuleKind::Static(s) if s.direction == Direction::Inbound)
            }
        }
    }

    /// Step 4, for fixed rules.
    #[inline]
    pub(super) fn meets_inbound(
        &self,
        condition: Condition,
        id: u16,
        ingress: InterfaceId,
        packet: Packet,
    ) -> bool {
        let rule = self.rule(id);
        let to = packet.destination();
        match condition {
            Condition::Enabled => self.active.has(id),
            Condition::From => true,
            Condition::Into => {
                rule.into.interfaces.contains(ingress) || rule.hairpin.interfaces.contains(ingress)
            }
            Condition::Source => rule.parties.source.contains(packet.source().address),
            Condition::Destination => {
                self.compiled.plan.external_end(rule).is_some_and(|end| end.contains(to.address))
            }
            Condition::Service => match &rule.kind {
                RuleKind::Forward(f) => f.protocol == packet.protocol && f.ports.contains(to.port),
                RuleKind::Exempt
                | RuleKind::Static(_)
                | RuleKind::Pool { .. }
                | RuleKind::Overload { .. } => rule.service.holds(packet.protocol, to.port),
            },
            Condition::Direction => {
                !matches!(&rule.kind, RuleKind::Static(s) if s.direction == Direction::Outbound)
            }
        }
    }
}

/// Of a static rule the service is that of the internal end: on the way out, the source port. A
/// forward is for packets from one of its servers' ports.
pub(super) fn serves_outbound(rule: &Rule, sent: Packet) -> bool {
    match &rule.kind {
        RuleKind::Static(_) => rule.service.holds(sent.protocol, sent.source().port),
        RuleKind::Forward(f) => {
            let port = sent.source().port;
            let of = |s: &crate::plan::Server| {
                port.checked_sub(s.port).is_some_and(|o| u32::from(o) < f.ports.count())
            };
            f.protocol == sent.protocol
                && f.servers.iter().any(|s| s.address == sent.source().address && of(s))
        }
        RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => {
            rule.service.holds(sent.protocol, sent.destination().port)
        }
    }
}
