//! Step 8: which rule or mapping translates the source.
//!
//! Contract: §D8 of docs/semantics.md.

use std::net::IpAddr;

use super::conditions::{Condition, Path, serves_outbound};
use crate::device::bindings::{Context, ExternalEnd};
use crate::device::key::Key;
use crate::device::outcome::Refusal;
use crate::net::{Endpoint, Packet, Tuple};
use crate::plan::{Direction, Fallback, HairpinSource, InterfaceId, RuleId, RuleKind};
use crate::reason::Reason;

/// Why a source stays as it is.
#[derive(Debug, Clone, Copy)]
pub(in crate::device) enum Untranslated {
    /// No rule matches, or no rule is looked at.
    NoRule,
    /// An exempt rule matches.
    Exempt(RuleId),
    /// The rule's addresses are used up, and it lets packets pass.
    Passed(RuleId),
}

impl Untranslated {
    /// The reason, and the rule that is to blame, if one is.
    pub(super) fn reason(self) -> (Reason, Option<RuleId>) {
        match self {
            Self::NoRule => (Reason::NoRule, None),
            Self::Exempt(rule) => (Reason::Exempt, Some(rule)),
            Self::Passed(rule) => (Reason::PassedExhausted, Some(rule)),
        }
    }
}

/// What step 8 found. Nothing is committed yet.
#[derive(Debug, Clone)]
pub(in crate::device) enum Source {
    /// The source stays as it is.
    Keep(Untranslated),
    /// A fixed rule gives it its external end.
    Fixed(RuleId, Endpoint),
    /// A mapping that lives translates it.
    Mapped(RuleId, u32, Endpoint),
    /// A mapping that is to be opened translates it.
    New(RuleId, ExternalEnd, Endpoint),
}

impl Source {
    pub(super) fn untranslated(&self) -> Option<Untranslated> {
        if let Self::Keep(untranslated) = self { Some(*untranslated) } else { None }
    }

    /// The rule that translates.
    pub(super) fn rule(&self) -> Option<RuleId> {
        match self {
            Self::Keep(_) => None,
            Self::Fixed(rule, _) | Self::Mapped(rule, ..) | Self::New(rule, ..) => Some(*rule),
        }
    }

    pub(super) fn endpoint(&self) -> Option<Endpoint> {
        match self {
            Self::Keep(_) => None,
            Self::Fixed(_, end) | Self::Mapped(_, _, end) | Self::New(_, _, end) => Some(*end),
        }
    }

    /// A packet's ends with the source as translated.
    pub(super) fn ends(&self, packet: Packet) -> Tuple {
        Tuple { source: self.endpoint().unwrap_or(packet.source()), ..packet.ends }
    }
}

impl Context<'_> {
    /// Step 8: the first enabled rule that matches decides. What counts as the peer, for mapping,
    /// filtering and port overloading alike, is the destination as sent in a hairpin, otherwise as
    /// forwarded. `entered`: the rule of step 4, and the
    /// destination as it made it.
    pub(in crate::device) fn translate_source(
        &self,
        ingress: InterfaceId,
        egress: InterfaceId,
        sent: Packet,
        (entered, destination): (Option<RuleId>, Endpoint),
    ) -> Result<Source, Refusal> {
        if self.compiled.is_beyond_rules(sent.protocol) {
            return Ok(Source::Keep(Untranslated::NoRule));
        }
        let entered_rule = entered.map(|r| self.rule(r.0));
        let hairpin = entered_rule.is_some_and(|r| r.hairpin.interfaces.contains(ingress));
        let external = self.compiled.plan.behaviour.hairpin_source == HairpinSource::External;
        if hairpin && !external {
            return Ok(Source::Keep(Untranslated::NoRule));
        }
        let peer = if hairpin { sent.destination() } else { destination };
        if let Some(id) = entered.filter(|id| self.translates_both(id.0)) {
            return self.overload(id.0, sent, peer);
        }
        let path = Path {
            ingress,
            egress,
            hairpin: entered_rule.filter(|_| hairpin).map(|e| &e.into.interfaces),
        };
        for id in self.compiled.sources.of_packet(sent) {
            // that its sender is in the list is known already
            let asked =
                [Condition::Enabled, Condition::Into, Condition::From, Condition::Destination];
            if !asked.into_iter().all(|c| self.meets_outbound(c, id, path, sent)) {
                continue;
            }
            if let Some(source) = self.apply(id, sent, peer)? {
                return Ok(source);
            }
        }
        Ok(Source::Keep(Untranslated::NoRule))
    }

    /// Whether a fixed rule translates both ends.
    fn translates_both(&self, id: u16) -> bool {
        match &self.rule(id).kind {
            RuleKind::Static(s) => s.translate_as.is_some(),
            RuleKind::Forward(f) => f.translate_as.is_some(),
            RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => false,
        }
    }

    /// Step 8 for a packet of which it is known which rule translates its source: see
    /// [`Self::translate_source`].
    pub(super) fn source_by(
        &self,
        id: u16,
        ingress: InterfaceId,
        sent: Packet,
        (entered, destination): (Option<RuleId>, Endpoint),
    ) -> Result<Option<Source>, Refusal> {
        let entered_rule = entered.map(|r| self.rule(r.0));
        let hairpin = entered_rule.is_some_and(|r| r.hairpin.interfaces.contains(ingress));
        let peer = if hairpin { sent.destination() } else { destination };
        match entered.filter(|e| e.0 == id && self.translates_both(id)) {
            Some(_) => self.overload(id, sent, peer).map(Some),
            None => self.apply(id, sent, peer),
        }
    }

    /// What a rule whose realms, sender and destination match makes of a source; `None` if it does
    /// not match after all.
    fn apply(&self, id: u16, sent: Packet, peer: Endpoint) -> Result<Option<Source>, Refusal> {
        let rule = self.rule(id);
        let from = sent.source();
        if !serves_outbound(rule, sent) {
            return Ok(None);
        }
        match &rule.kind {
            RuleKind::Static(s) => {
                let position =
                    s.internal.position(from.address).filter(|_| s.direction != Direction::Inbound);
                let Some((external, position)) =
                    self.compiled.plan.external(s.external).zip(position)
                else {
                    return Ok(None);
                };
                let address = match from.address {
                    IpAddr::V4(_) => external.nth(position),
                    IpAddr::V6(_) => {
                        self.compiled.prefixes(id).and_then(|p| p.outward(from.address))
                    }
                };
                let address = address.ok_or_else(|| self.refusal(Reason::UnsupportedFamily, id))?;
                self.check_session_limit(id)?;
                Ok(Some(Source::Fixed(RuleId(id), Endpoint { address, port: from.port })))
            }
            RuleKind::Forward(f) => {
                let offset = |port: u16| {
                    from.port.checked_sub(port).filter(|o| u32::from(*o) < f.ports.count())
                };
                let server = f
                    .servers
                    .iter()
                    .filter(|s| s.address == from.address)
                    .find_map(|s| offset(s.port));
                let Some(offset) = server else { return Ok(None) };
                let Some(external) = self.compiled.plan.external(f.external) else {
                    return Ok(None);
                };
                self.check_session_limit(id)?;
                let end = Endpoint { address: external.first(), port: f.ports.first + offset };
                Ok(Some(Source::Fixed(RuleId(id), end)))
            }
            RuleKind::Exempt => Ok(Some(Source::Keep(Untranslated::Exempt(RuleId(id))))),
            RuleKind::Pool { .. } | RuleKind::Overload { .. } if from.address.is_ipv6() => {
                Err(self.refusal(Reason::UnsupportedFamily, id))
            }
            RuleKind::Pool { .. } => self.borrow(id, sent, peer).map(Some),
            RuleKind::Overload { .. } => self.overload(id, sent, peer).map(Some),
        }
    }

    /// A pool rule: a whole address for the sender.
    fn borrow(&self, id: u16, sent: Packet, peer: Endpoint) -> Result<Source, Refusal> {
        let RuleKind::Pool { fallback, .. } = self.rule(id).kind else {
            return Ok(Source::Keep(Untranslated::NoRule));
        };
        let (Some(host), Some(target)) =
            (Key::of(sent.source().address), self.compiled.targets.of(id).main)
        else {
            return Ok(Source::Keep(Untranslated::NoRule));
        };
        let port = sent.source().port;
        if let Some(mapping) = self.bindings.address_mapping(host, target) {
            let address =
                self.bindings.externals.get(self.bindings.table.mapping(mapping).place()).address;
            return Ok(Source::Mapped(RuleId(id), mapping, address.with_port(port)));
        }
        // on its fallback, or on that of an earlier plan
        if let Some(known) = self.known_endpoint(id, sent, peer) {
            return Ok(known);
        }
        self.check_rule_limit(id)?;
        if self.stays_on_fallback(Key::of(sent.source().address), id) {
            return self.new_on_fallback(id, (sent, peer), fallback, Reason::PoolExhausted);
        }
        let Some(end) = self.address_on(target, host) else {
            return self.new_on_fallback(id, (sent, peer), fallback, Reason::PoolExhausted);
        };
        self.check_room(id)?;
        Ok(Source::New(RuleId(id), end, end.address.with_port(port)))
    }

    /// An overload rule, or the `as` of a fixed one: an endpoint for the sender.
    pub(in crate::device) fn overload(
        &self,
        id: u16,
        sent: Packet,
        peer: Endpoint,
    ) -> Result<Source, Refusal> {
        if let Some(known) = self.known_endpoint(id, sent, peer) {
            return Ok(known);
        }
        let fallback = match self.rule(id).kind {
            RuleKind::Overload { fallback, .. } => fallback,
            RuleKind::Exempt
            | RuleKind::Static(_)
            | RuleKind::Pool { .. }
            | RuleKind::Forward(_) => Fallback::Drop,
        };
        self.check_rule_limit(id)?;
        self.check_host_limit(id, sent)?;
        let targets = self.compiled.targets.of(id);
        let Some(main) = targets.main else { return Ok(Source::Keep(Untranslated::NoRule)) };
        if self.stays_on_fallback(Key::of(sent.source().address), id) {
            return self.new_on_fallback(id, (sent, peer), fallback, Reason::PortsExhausted);
        }
        match self.endpoint_on(main, sent, peer) {
            Ok(end) => self.new_source(id, end),
            Err(Reason::PortsExhausted) => {
                self.new_on_fallback(id, (sent, peer), fallback, Reason::PortsExhausted)
            }
            Err(reason) => Err(self.exhausted(reason, id)),
        }
    }

    /// The living mapping that a rule made for a sender, as far as mappings are reused.
    fn known_endpoint(&self, id: u16, sent: Packet, to: Endpoint) -> Option<Source> {
        let from = sent.source();
        let (host, peer) = (Key::of(from.address)?, Key::of(to.address)?);
        if sent.protocol.is_multiplexed() {
            let mut known =
                self.bindings.mappings_of(sent.protocol, (host, from.port), (peer, to.port));
            let mapping = known.find(|m| self.bindings.table.mapping(*m).rule == id)?;
            let m = self.bindings.table.mapping(mapping);
            let address =
                self.bindings.externals.get(self.bindings.external_under(mapping)).address;
            return Some(Source::Mapped(RuleId(id), mapping, address.with_port(m.external_port)));
        }
        let mapping = self.bindings.portless_mapping(id, sent.protocol, host, peer)?;
        let address =
            self.bindings.externals.get(self.bindings.table.mapping(mapping).place()).address;
        Some(Source::Mapped(RuleId(id), mapping, address.with_port(0)))
    }

    fn new_source(&self, id: u16, end: ExternalEnd) -> Result<Source, Refusal> {
        self.check_room(id)?;
        Ok(Source::New(RuleId(id), end, end.address.with_port(end.port)))
    }

    fn new_on_fallback(
        &self,
        id: u16,
        (sent, peer): (Packet, Endpoint),
        fallback: Fallback,
        reason: Reason,
    ) -> Result<Source, Refusal> {
        match (fallback, self.compiled.targets.of(id).fallback) {
            (Fallback::Pass, _) => Ok(Source::Keep(Untranslated::Passed(RuleId(id)))),
            (Fallback::Overload(_), Some(target)) => {
                self.check_host_limit(id, sent)?;
                let end = self
                    .endpoint_on(target, sent, peer)
                    .map_err(|reason| self.exhausted(reason, id))?;
                self.new_source(id, end)
            }
            _ => Err(self.exhausted(reason, id)),
        }
    }
}
