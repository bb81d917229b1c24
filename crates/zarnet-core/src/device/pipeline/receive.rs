//! A packet comes in: the steps one after the other.

use super::decide::Decision;
use super::report::step;
use super::source::Untranslated;
use crate::device::bindings::{Engine, Sink, TableEvent};
use crate::device::outcome::{Forwarded, Outcome, Refusal};
use crate::net::{Instant, Packet};
use crate::observe::{Observer, Stage, StageResult};
use crate::plan::InterfaceId;
use crate::reason::Reason;

impl<S: Sink> Engine<'_, S> {
    /// A packet comes in on an interface.
    pub(in crate::device) fn receive<O: Observer>(
        &mut self,
        now: Instant,
        ingress: InterfaceId,
        packet: Packet,
        observer: &mut O,
    ) -> Outcome {
        self.expire(now);
        let outcome = self.handle(now, ingress, packet, observer);
        self.note_refusal(now, packet, outcome);
        outcome
    }

    /// Reports a packet that was dropped, and notes what follows from it for others.
    pub(super) fn note_refusal(&mut self, now: Instant, packet: Packet, outcome: Outcome) {
        let Outcome::Dropped(refusal) = outcome else { return };
        let reason = refusal.reason;
        let exhausted = matches!(reason, Reason::PoolExhausted | Reason::PortsExhausted);
        let tried = refusal.rule.filter(|_| exhausted);
        let targets =
            tried.map_or([None; 2], |r| self.context().tried_targets(r.0, packet.source().address));
        let (rule, protocol, source) = (refusal.rule, packet.protocol, packet.source().address);
        self.report(now.0, TableEvent::Refused { rule, reason, targets, protocol, source });
        let unsettles = matches!(reason, Reason::PortsExhausted | Reason::UnsupportedProtocol);
        if let Some(rule) = refusal.rule.filter(|_| unsettles) {
            let of = self.compiled.targets.of(rule.0);
            of.main.into_iter().chain(of.fallback).for_each(|target| self.keep_pairs(target));
        }
    }

    fn handle<O: Observer>(
        &mut self,
        now: Instant,
        ingress: InterfaceId,
        packet: Packet,
        observer: &mut O,
    ) -> Outcome {
        let hit = self.context().find(packet, Some(ingress));
        let is_answer = hit.is_some_and(|h| !h.heading.from_initiator);
        if let Err(refusal) =
            self.context().filter(Stage::IngressAcl, ingress, packet, is_answer, observer)
        {
            return Outcome::Dropped(refusal);
        }
        match hit {
            Some(hit) => self.pass_known(now, Some(ingress), packet, hit, observer),
            None => {
                observer.step(|| step(Stage::Session, StageResult::New));
                self.pass_first(now, ingress, packet, observer).unwrap_or_else(Outcome::Dropped)
            }
        }
    }

    /// A packet that belongs to no session: steps 4 to 10.
    fn pass_first<O: Observer>(
        &mut self,
        now: Instant,
        ingress: InterfaceId,
        packet: Packet,
        observer: &mut O,
    ) -> Result<Outcome, Refusal> {
        let (entry, way, source, out) = match self.context().decide(ingress, packet, observer)? {
            Decision::Own(outcome) => return Ok(outcome),
            Decision::Out { entry, way, source, out } => (entry, way, source, out),
        };
        let unchanged =
            source.untranslated().filter(|_| out.ends == packet.ends).map(Untranslated::reason);
        let mut forwarded = Forwarded::first(out, way, unchanged);
        if packet.may_begin() {
            self.begin(now, Some(ingress), packet, (&entry, source), &mut forwarded, observer)?;
        }
        Ok(Outcome::Forwarded(forwarded))
    }
}
