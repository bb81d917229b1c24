//! Steps 4 to 9: what is to become of a packet that belongs to no session.
//!
//! Contract: §D4 to §D9 of docs/semantics.md.

use std::net::IpAddr;

use super::destination::Entry;
use super::report::{report_refusal, step};
use super::source::{Source, Untranslated};
use crate::device::bindings::Context;
use crate::device::compiled::Query;
use crate::device::key::Key;
use crate::device::outcome::{Outcome, Refusal};
use crate::net::Packet;
use crate::observe::{Observer, Stage, StageResult, Step};
use crate::plan::{InterfaceId, RuleId};
use crate::reason::Reason;

/// What is to become of a packet that belongs to no session.
pub(super) enum Decision {
    /// It is for the device itself.
    Own(Outcome),
    /// It leaves, by an interface to a next hop.
    Out { entry: Entry, way: (InterfaceId, IpAddr), source: Source, out: Packet },
}

/// What becomes of a first packet.
#[derive(Debug, Clone, Copy)]
pub enum Judged {
    /// It goes no further.
    Dropped(Refusal),
    /// The device itself answers, or wants it.
    ToDevice,
    /// The packet would leave the device.
    Forwarded(Verdicts),
}

/// What was decided about a first packet that leaves.
#[derive(Debug, Clone, Copy)]
pub struct Verdicts {
    /// The interface it leaves by.
    pub egress: InterfaceId,
    /// The next hop; `None` where that is the destination itself.
    pub next_hop: Option<IpAddr>,
    /// The rule that translates its destination.
    pub entry: Option<RuleId>,
    /// The rule that decides about its source, exempt ones too.
    pub source: Option<RuleId>,
    /// Why its source stays; `None` if it does not.
    pub untranslated: Option<Reason>,
    /// What its source is handed out of, where that is chosen: a position among the device's
    /// targets.
    pub target: Option<u16>,
    /// The packet as it leaves.
    pub out: Packet,
}

impl Context<'_> {
    /// Steps 4 to 9: what is to become of a packet that belongs to no session. Nothing is changed
    /// by it.
    #[inline(always)]
    pub(super) fn decide<O: Observer>(
        &self,
        ingress: InterfaceId,
        packet: Packet,
        observer: &mut O,
    ) -> Result<Decision, Refusal> {
        let ours = self.compiled.concerns(packet.destination().address);
        let entry = match ours {
            true => {
                let entry = self.translate_destination(Some(ingress), packet);
                entry.inspect_err(|r| report_refusal(observer, Stage::Destination, *r))?
            }
            false => Entry::default(),
        };
        let inside = Packet { ends: entry.ends(packet), ..packet };
        let destination = inside.destination().address;
        let own = || self.compiled.own.get(&destination);
        if let Some(&own) = self.compiled.concerns(destination).then(own).flatten() {
            observer.step(|| self.destination_step(&entry, packet));
            return self.for_itself((ingress, own), inside, &entry, observer).map(Decision::Own);
        }
        if ours && entry.rule.is_none() {
            self.unless_claimed(destination, &entry, observer)?;
        }
        observer.step(|| self.destination_step(&entry, packet));
        observer.step(|| step(Stage::Own, StageResult::NotOwn));
        self.forwards(observer)?;
        let preferred = entry.rule.map(|r| &self.compiled.plan.rules[r.index()].from.interfaces);
        let source = Some(packet.source().address);
        let query = Query { source, ingress: Some(ingress), preferred, ..Query::to(destination) };
        let way = self.route(query, observer)?;
        self.policy(ingress, way.0, packet, inside, observer)?;
        let source =
            self.translate_source(ingress, way.0, packet, (entry.rule, inside.destination()));
        let source = source.inspect_err(|r| report_refusal(observer, Stage::Source, *r))?;
        let untranslated = source.untranslated();
        if !packet.may_begin() {
            let rule = entry.rule.or(source.rule());
            if entry.rule.is_some() || untranslated.is_none() {
                let place = rule.map(|r| self.compiled.plan.rules[r.index()].place);
                let refusal = Refusal { reason: Reason::NoSession, rule, place };
                report_refusal(observer, Stage::Source, refusal);
                return Err(refusal);
            }
        }
        let out = Packet { ends: source.ends(inside), ..inside };
        observer.step(|| match untranslated.map(Untranslated::reason) {
            Some((reason, rule)) => {
                self.step_by_rule(Stage::Source, StageResult::Unchanged(reason), rule)
            }
            None => {
                let (from, to) = (inside.source(), out.source());
                self.step_by_rule(
                    Stage::Source,
                    StageResult::Translated { from, to },
                    source.rule(),
                )
            }
        });
        self.filter(Stage::EgressAcl, way.0, out, false, observer)?;
        Ok(Decision::Out { entry, way, source, out })
    }

    /// What becomes of a first packet as things are, without anything coming of it.
    pub(in crate::device) fn judge<O: Observer>(
        &self,
        ingress: InterfaceId,
        packet: Packet,
        observer: &mut O,
    ) -> Judged {
        let judged = |refusal: Refusal| Judged::Dropped(refusal);
        if let Err(refusal) = self.filter(Stage::IngressAcl, ingress, packet, false, observer) {
            return judged(refusal);
        }
        match self.decide(ingress, packet, observer) {
            Err(refusal) => judged(refusal),
            Ok(Decision::Own(Outcome::Dropped(refusal))) => judged(refusal),
            Ok(Decision::Own(_)) => Judged::ToDevice,
            Ok(Decision::Out { entry, way, source, out }) => {
                let untranslated = source.untranslated().map(Untranslated::reason);
                let target = match &source {
                    Source::New(_, choice, _) => Some(choice.target),
                    Source::Mapped(_, mapping, _) => {
                        Some(self.bindings.table.mapping(*mapping).target)
                    }
                    Source::Keep(_) | Source::Fixed(..) => None,
                };
                Judged::Forwarded(Verdicts {
                    egress: way.0,
                    next_hop: (way.1 != out.destination().address).then_some(way.1),
                    entry: entry.rule,
                    source: source.rule().or(untranslated.and_then(|k| k.1)),
                    untranslated: untranslated.map(|k| k.0),
                    target,
                    out,
                })
            }
        }
    }

    /// The interface that a packet that comes in by another leaves by, by the routes as they are.
    pub(in crate::device) fn way_of(
        &self,
        ingress: InterfaceId,
        packet: Packet,
    ) -> Option<InterfaceId> {
        let query = Query {
            source: Some(packet.source().address),
            ingress: Some(ingress),
            ..Query::to(packet.destination().address)
        };
        self.compiled.routes.find(query).map(|w| w.interface)
    }

    fn destination_step(&self, entry: &Entry, packet: Packet) -> Step {
        let (from, to) = (packet.destination(), entry.ends(packet).destination);
        let result = match entry.rule {
            Some(_) => StageResult::Translated { from, to },
            None => StageResult::Unchanged(Reason::NoRule),
        };
        self.step_by_rule(Stage::Destination, result, entry.rule)
    }

    /// Step 5: an external address of its own rules, or one that it answers ARP for, is never
    /// routed.
    pub(super) fn unless_claimed<O: Observer>(
        &self,
        destination: IpAddr,
        entry: &Entry,
        observer: &mut O,
    ) -> Result<(), Refusal> {
        if !self.compiled.claimed.contains(destination)
            && !Key::of(destination).is_some_and(|key| self.bindings.holds(key))
        {
            return Ok(());
        }
        let reason = if entry.blocked { Reason::Filtered } else { Reason::NoMapping };
        let refusal = Refusal { reason, rule: None, place: entry.place };
        report_refusal(observer, Stage::Destination, refusal);
        Err(refusal)
    }
}
