//! A packet of a known session: translated as the session says.
//!
//! Contract: §D3 of docs/semantics.md.

use std::net::IpAddr;

use super::report::step;
use crate::device::bindings::{Context, Engine, KnownSession, Sink};
use crate::device::compiled::Query;
use crate::device::outcome::{Forwarded, Outcome, SessionRef, Taken};
use crate::net::{Instant, Packet};
use crate::observe::{By, Observer, Stage, StageResult, Step};
use crate::plan::{self, InterfaceId, RuleId};
use crate::reason::Reason;

/// The interfaces that tell the way of a session's packet.
#[derive(Debug, Default)]
pub(super) struct Sides {
    /// Where several interfaces have one prefix, the one that the session has.
    preferred: plan::InterfaceSet,
    /// The one that answers leave by as they came.
    over: Option<InterfaceId>,
}

impl Sides {
    /// What the way of a packet of the session is looked for by.
    pub(super) fn query(&self, destination: IpAddr) -> Query<'_> {
        let preferred = Some(&self.preferred).filter(|p| !p.is_empty());
        Query { preferred, over: self.over, ..Query::to(destination) }
    }
}

impl<S: Sink> Engine<'_, S> {
    /// A packet of a known session: translated as the session says.
    pub(super) fn pass_known<O: Observer>(
        &mut self,
        now: Instant,
        ingress: Option<InterfaceId>,
        packet: Packet,
        hit: KnownSession,
        observer: &mut O,
    ) -> Outcome {
        let (original, translated) = self.bindings.tuples(hit.id);
        let ends = if hit.heading.from_initiator { translated } else { original.reversed() };
        let out = Packet { ends, ..packet };
        self.context().report_known(packet, out, hit, observer);
        let session =
            Some(SessionRef { id: hit.id, created: self.bindings.table.session(hit.id).created });
        let destination = out.destination().address;
        if self.compiled.concerns(destination)
            && let Some(own) = self.compiled.own.get(&destination)
        {
            observer
                .step(|| Step { by: By::Interface(*own), ..step(Stage::Own, StageResult::Taken) });
            let refreshes = self.refresh(now, hit, packet.signal);
            return Outcome::Consumed(Taken { packet: out, session, refreshes });
        }
        if ingress.is_some()
            && let Err(refusal) = self.context().forwards(observer)
        {
            return Outcome::Dropped(refusal);
        }
        let is_answer = !hit.heading.from_initiator;
        let sides = self.context().sides(hit);
        let query =
            Query { source: Some(packet.source().address), ingress, ..sides.query(destination) };
        let way = self.context().route(query, observer).and_then(|way| {
            self.context().filter(Stage::EgressAcl, way.0, out, is_answer, observer)?;
            Ok(way)
        });
        let (interface, next_hop) = match way {
            Ok(way) => way,
            Err(refusal) => return Outcome::Dropped(refusal),
        };
        let refreshes = self.refresh(now, hit, packet.signal);
        let unchanged = (original == translated).then(|| self.context().unchanged_reason(hit.id));
        let contested = false;
        Outcome::Forwarded(Forwarded {
            packet: out,
            interface,
            next_hop,
            session,
            refreshes,
            contested,
            unchanged,
        })
    }
}

impl Context<'_> {
    /// What the rules of a session make of a packet of it.
    fn report_known<O: Observer>(
        &self,
        packet: Packet,
        out: Packet,
        hit: KnownSession,
        observer: &mut O,
    ) {
        let rules = || {
            let (inbound, outbound) = self.bindings.rules_of(self.bindings.table.session(hit.id));
            [inbound, outbound]
        };
        let from_initiator = hit.heading.from_initiator;
        let known = StageResult::Known { from_initiator };
        observer.step(|| {
            let rules = rules();
            let by = if rules == [None, None] { By::Nothing } else { By::Rules(rules) };
            let place = rules.iter().flatten().next().map(|r| self.rule(r.0).place);
            Step { stage: Stage::Session, result: known, by, place }
        });
        // an answer comes from the end that the destination was translated to
        let sides = [
            (
                Stage::Destination,
                packet.destination(),
                out.destination(),
                usize::from(!from_initiator),
            ),
            (Stage::Source, packet.source(), out.source(), usize::from(from_initiator)),
        ];
        for (stage, from, to, rule) in sides {
            if from != to {
                observer.step(|| {
                    self.step_by_rule(stage, StageResult::Translated { from, to }, rules()[rule])
                });
            }
        }
    }

    /// The interfaces that the first packet of a session passed, where the way of its packets
    /// depends on them.
    pub(super) fn sides(&self, hit: KnownSession) -> Sides {
        if !self.compiled.remembers_interfaces() {
            return Sides::default();
        }
        let Some(explicit) = self.bindings.table.explicit(self.bindings.table.session(hit.id))
        else {
            return Sides::default();
        };
        let (ingress, egress) = explicit.interfaces;
        let out = InterfaceId(if hit.heading.from_initiator { egress } else { ingress });
        // of the device's own session there is no way in
        let came = Some(out).filter(|i| !hit.heading.from_initiator && i.0 != u16::MAX);
        let mut preferred = plan::InterfaceSet::default();
        if self.compiled.routes.ambiguous && out.0 != u16::MAX {
            preferred.insert(out);
        }
        Sides {
            preferred,
            over: came.filter(|_| self.compiled.plan.behaviour.answers_leave_as_came),
        }
    }

    /// Why the ends of a session's packets are not changed.
    fn unchanged_reason(&self, id: u32) -> (Reason, Option<RuleId>) {
        let table = &self.bindings.table;
        let own = table.explicit(table.session(id)).is_some_and(|w| w.interfaces.0 == u16::MAX);
        (if own { Reason::FromDevice } else { Reason::NoRule }, None)
    }
}
