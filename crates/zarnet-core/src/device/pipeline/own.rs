//! Step 5 and what the device sends itself: what is for it, its answers to that, and packets of its
//! own.
//!
//! Contract: §D5 and §D13 of docs/semantics.md.

use std::net::IpAddr;

use super::destination::Entry;
use super::report::{drop_step, report_refusal, step};
use super::source::{Source, Untranslated};
use crate::device::bindings::{Context, Engine, Sink};
use crate::device::compiled::Query;
use crate::device::outcome::{Forwarded, Outcome, Refusal, Taken};
use crate::net::{Instant, Packet, Signal};
use crate::observe::{By, Observer, Stage, StageResult, Step};
use crate::plan::InterfaceId;
use crate::reason::Reason;

/// How the source of a packet of the device's own was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OwnSource {
    /// The sender named the source itself.
    Given,
    /// It is the address of the interface that the route leads out by: the route then stands,
    /// whatever others say of that source.
    ByRoute,
}

impl<S: Sink> Engine<'_, S> {
    /// The device sends a packet of its own: it is routed and filtered on its way out. Rules look
    /// at it only where the device is told so.
    pub(in crate::device) fn originate<O: Observer>(
        &mut self,
        now: Instant,
        packet: Packet,
        source: OwnSource,
        observer: &mut O,
    ) -> Outcome {
        self.expire(now);
        if let Some(hit) = self.context().find(packet, None) {
            return self.pass_known(now, None, packet, hit, observer);
        }
        let outcome = match self.context().sends_itself(packet, observer) {
            Some(outcome) => outcome,
            None => self.send_first(now, packet, source, observer),
        };
        let outcome = outcome.unwrap_or_else(Outcome::Dropped);
        self.note_refusal(now, packet, outcome);
        outcome
    }

    /// Steps 6 to 10 for a packet that begins a conversation.
    fn send_first<O: Observer>(
        &mut self,
        now: Instant,
        packet: Packet,
        source: OwnSource,
        observer: &mut O,
    ) -> Result<Outcome, Refusal> {
        let (from, to) = (packet.source().address, packet.destination());
        let given = Some(from).filter(|_| source == OwnSource::Given);
        let way =
            self.context().route(Query { source: given, ..Query::to(to.address) }, observer)?;
        let known =
            self.compiled.own.get(&from).filter(|_| self.compiled.plan.behaviour.translates_own);
        let source = match known {
            Some(&as_if_in_by) if packet.may_begin() => self
                .context()
                .translate_source(as_if_in_by, way.0, packet, (None, to))
                .inspect_err(|r| report_refusal(observer, Stage::Source, *r))?,
            _ => Source::Keep(Untranslated::NoRule),
        };
        let out = Packet { ends: source.ends(packet), ..packet };
        observer.step(|| match source.rule() {
            None => step(Stage::Source, StageResult::Unchanged(Reason::FromDevice)),
            rule => {
                let (from, to) = (packet.source(), out.source());
                self.context().step_by_rule(
                    Stage::Source,
                    StageResult::Translated { from, to },
                    rule,
                )
            }
        });
        self.context().filter(Stage::EgressAcl, way.0, out, false, observer)?;
        let unchanged = (out.ends == packet.ends).then_some((Reason::FromDevice, None));
        let mut forwarded = Forwarded::first(out, way, unchanged);
        if packet.may_begin() {
            self.begin(now, None, packet, (&Entry::default(), source), &mut forwarded, observer)?;
        }
        Ok(Outcome::Forwarded(forwarded))
    }
}

impl Context<'_> {
    /// A packet to one of its own addresses, or to an external end of its own rules, does not
    /// leave: step 5 decides.
    fn sends_itself<O: Observer>(
        &self,
        packet: Packet,
        observer: &mut O,
    ) -> Option<Result<Outcome, Refusal>> {
        let to = packet.destination().address;
        if !self.compiled.concerns(to) {
            return None;
        }
        let entry = self.translate_destination(None, packet).unwrap_or_default();
        if let Some(&own) = self.compiled.own.get(&to) {
            let taken = Taken { packet, session: None, refreshes: false };
            return Some(
                self.accepts_own(own, packet, &entry, observer).map(|()| Outcome::Consumed(taken)),
            );
        }
        self.unless_claimed(to, &entry, observer).err().map(Err)
    }

    /// Whether it answers a packet for one of its own addresses itself.
    fn accepts_own<O: Observer>(
        &self,
        own: InterfaceId,
        packet: Packet,
        entry: &Entry,
        observer: &mut O,
    ) -> Result<(), Refusal> {
        let interface = &self.compiled.plan.interfaces[own.index()];
        let to = packet.destination();
        let answers = (packet.signal == Signal::Query && interface.ping)
            || (packet.may_begin() && interface.services.holds(packet.protocol, to.port));
        let by = By::Interface(own);
        if answers {
            let (result, place) = (StageResult::Answered, Some(interface.place));
            observer.step(|| Step { stage: Stage::Own, result, by, place });
            return Ok(());
        }
        let refusal = match entry.blocked {
            true => Refusal { reason: Reason::Filtered, rule: None, place: entry.place },
            false => Refusal::new(Reason::NoListener, interface.place),
        };
        observer.step(|| Step { by, ..drop_step(Stage::Own, refusal) });
        Err(refusal)
    }

    /// Step 5: a packet for one of its own addresses.
    pub(super) fn for_itself<O: Observer>(
        &self,
        (ingress, own): (InterfaceId, InterfaceId),
        packet: Packet,
        entry: &Entry,
        observer: &mut O,
    ) -> Result<Outcome, Refusal> {
        self.accepts_own(own, packet, entry, observer)?;
        Ok(self
            .answer_own(ingress, packet.answer(), observer)
            .map_or_else(Outcome::Dropped, Outcome::Answered))
    }

    /// The source of a packet of its own to `destination`: the address of the interface that the
    /// route leads out by.
    pub(in crate::device) fn own_source(&self, destination: IpAddr) -> Option<IpAddr> {
        let way = self.compiled.routes.find(Query::to(destination))?;
        let interface = &self.compiled.plan.interfaces[way.interface.index()];
        interface.address_for(destination)
    }

    /// Its answer to a packet that came in by an interface. It makes no session, so that no filter
    /// takes it for the answer in one, and no rule looks at it.
    fn answer_own<O: Observer>(
        &self,
        ingress: InterfaceId,
        packet: Packet,
        observer: &mut O,
    ) -> Result<Forwarded, Refusal> {
        let over = self.compiled.plan.behaviour.answers_leave_as_came.then_some(ingress);
        let source = Some(packet.source().address);
        let query = Query { source, over, ..Query::to(packet.destination().address) };
        let (interface, next_hop) = self.route(query, observer)?;
        self.filter(Stage::EgressAcl, interface, packet, false, observer)?;
        let (session, refreshes, contested, unchanged) = (None, false, false, None);
        Ok(Forwarded { packet, interface, next_hop, session, refreshes, contested, unchanged })
    }
}
