//! What the device sends itself: packets of its own, and answers to what was for it.

use std::net::IpAddr;

use super::pipeline::{step, tell};
use super::routes::Query;
use super::translate::{Entry, Kept, Source};
use super::{Device, Forwarded, Outcome, Refusal, Taken};
use crate::net::{Instant, Packet};
use crate::observe::{Observer, Stage, StageResult};
use crate::plan::InterfaceId;
use crate::reason::Reason;

/// How the source of a packet of the device's own was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OwnSource {
    /// It was given.
    Given,
    /// It is the address of the interface that the route leads out by: the route then stands, whatever others say of that
    /// source.
    ByRoute,
}

impl Device {
    /// The device sends a packet of its own: it is routed and filtered on its way out. Rules look at it only where the device
    /// is told so.
    pub fn originate(&mut self, now: Instant, packet: Packet) -> Outcome {
        self.originate_watched(now, packet, OwnSource::Given, &mut ())
    }

    /// The same, watched.
    pub fn originate_watched<O: Observer>(
        &mut self,
        now: Instant,
        packet: Packet,
        source: OwnSource,
        observer: &mut O,
    ) -> Outcome {
        self.expire(now);
        if let Some(hit) = self.find(packet, None) {
            return self.pass_known(now, None, packet, hit, observer);
        }
        let outcome = match self.sends_itself(packet, observer) {
            Some(outcome) => outcome,
            None => self.send_first(now, packet, source, observer),
        };
        let outcome = outcome.unwrap_or_else(Outcome::Dropped);
        self.count_refusal(packet, outcome);
        outcome
    }

    /// A packet to one of its own addresses, or to an external end of its own rules, does not leave: step 5 decides.
    fn sends_itself<O: Observer>(&self, packet: Packet, observer: &mut O) -> Option<Result<Outcome, Refusal>> {
        let to = packet.destination().address;
        if !self.config.concerns(to) {
            return None;
        }
        let entry = self.translate_destination(None, packet).unwrap_or_default();
        if let Some(&own) = self.config.own.get(&to) {
            let taken = Taken { packet, session: None, refreshes: false };
            return Some(self.accepts_own(own, packet, &entry, observer).map(|()| Outcome::Consumed(taken)));
        }
        self.unless_claimed(to, &entry, observer).err().map(Err)
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
        let way = self.route(Query { source: given, ..Query::to(to.address) }, observer)?;
        let known = self.config.own.get(&from).filter(|_| self.config.plan.behaviour.translates_own);
        let source = match known {
            Some(&as_if_in_by) if packet.may_begin() => self
                .translate_source(as_if_in_by, way.0, packet, (None, to))
                .inspect_err(|r| tell(observer, Stage::Source, *r))?,
            _ => Source::Keep(Kept::NoRule),
        };
        let out = Packet { ends: source.ends(packet), ..packet };
        observer.step(|| match source.rule() {
            None => step(Stage::Source, StageResult::Unchanged(Reason::FromDevice)),
            rule => {
                let (from, to) = (packet.source(), out.source());
                self.by_rule(Stage::Source, StageResult::Translated { from, to }, rule)
            }
        });
        self.filter(Stage::EgressAcl, way.0, out, false, observer)?;
        let unchanged = (out.ends == packet.ends).then_some((Reason::FromDevice, None));
        let mut forwarded = Forwarded::first(out, way, unchanged);
        if packet.may_begin() {
            self.begin(now, None, packet, (&Entry::default(), source), &mut forwarded, observer)?;
        }
        Ok(Outcome::Forwarded(forwarded))
    }

    /// The source of a packet of its own to `destination`: the address of the interface that the route leads out by.
    pub fn own_source(&self, destination: IpAddr) -> Option<IpAddr> {
        let way = self.config.routes.find(Query::to(destination))?;
        let interface = &self.config.plan.interfaces[way.interface.index()];
        interface.address_for(destination)
    }

    /// Its answer to a packet that came in by an interface. It makes no session, so that no filter takes it for the answer in
    /// one, and no rule looks at it.
    pub(super) fn answer_own<O: Observer>(
        &self,
        ingress: InterfaceId,
        packet: Packet,
        observer: &mut O,
    ) -> Result<Forwarded, Refusal> {
        let over = self.config.plan.behaviour.answers_leave_as_came.then_some(ingress);
        let source = Some(packet.source().address);
        let query = Query { source, over, ..Query::to(packet.destination().address) };
        let (interface, next_hop) = self.route(query, observer)?;
        self.filter(Stage::EgressAcl, interface, packet, false, observer)?;
        let (session, refreshes, contested, unchanged) = (None, false, false, None);
        Ok(Forwarded { packet, interface, next_hop, session, refreshes, contested, unchanged })
    }
}
