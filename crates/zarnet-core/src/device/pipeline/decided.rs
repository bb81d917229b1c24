//! A first packet whose rules are known: what the steps come to, without looking for rules, routes
//! and receivers again. What depends on the table, and what filters and policies say of this
//! packet, is asked as the steps ask it.

use super::destination::Entry;
use super::hop::{DecidedHop, Gives};
use super::source::{Source, Untranslated};
use crate::device::bindings::{Context, Engine, HAIRPIN, KnownSession, NONE, Session, Sink};
use crate::device::key::Key;
use crate::device::outcome::{FlowSchedule, SessionRef};
use crate::net::{Instant, Packet};
use crate::plan::{InterfaceId, Verdict};

/// A first packet that is about to pass a device.
#[derive(Debug, Clone)]
pub(crate) struct Prepared {
    /// It as it leaves.
    pub out: Packet,
    what: What,
}

/// What there is to be entered.
#[derive(Debug, Clone)]
enum What {
    /// The session is there.
    Known(KnownSession),
    /// It begins.
    First(Entry, Source),
}

impl Context<'_> {
    /// What a session that was just made tells of packets like its first one; `None` where others
    /// may fare otherwise.
    pub(in crate::device) fn decided_hop(
        &self,
        session: SessionRef,
        ingress: InterfaceId,
        egress: InterfaceId,
    ) -> Option<DecidedHop> {
        let s = self.bindings.table.session(session.id);
        let (entry, source) = self.bindings.rules_of(s);
        // who came in through a dynamic mapping did so because that was there
        let entered_by_mapping = match self.bindings.table.explicit(s) {
            Some(explicit) => explicit.entered != NONE,
            None => entry.is_some() && !s.has(HAIRPIN),
        };
        // where a rule lets pass what it has nothing left for, a source may stay as it is by chance
        let by_chance = source.is_none() && self.compiled.may_let_pass;
        let gives = match (entry, source) {
            (None, Some(rule)) => self.gives(rule),
            (Some(entry), Some(rule)) if s.has(HAIRPIN) => self.gives_in_hairpin(entry, rule),
            _ => Gives::Any,
        };
        let to = self.bindings.tuples(session.id).0.destination.address;
        let passes_on = s.has(HAIRPIN) || !self.compiled.concerns(to);
        let open = self.compiled.is_open(ingress, egress) && passes_on;
        let hop = DecidedHop { ingress, egress, entry, source, gives, open };
        (!entered_by_mapping && !by_chance).then_some(hop)
    }

    /// What becomes of a first packet on a hop, and of its answer at `answer`; `None` where that is
    /// not certain without all the steps. Nothing is changed by it.
    pub(in crate::device) fn prepare(
        &self,
        now: Instant,
        hop: &DecidedHop,
        packet: Packet,
        answer: Instant,
    ) -> Option<Prepared> {
        let prepared = match self.find(packet, Some(hop.ingress)) {
            Some(hit) => self.prepare_known(hop, hit, packet, answer)?,
            None => self.prepare_first(now, hop, packet, answer)?,
        };
        let passes =
            self.passes_in(hop.ingress, packet) && self.passes_out(hop.egress, prepared.out);
        passes.then_some(prepared)
    }

    fn prepare_known(
        &self,
        hop: &DecidedHop,
        hit: KnownSession,
        packet: Packet,
        answer: Instant,
    ) -> Option<Prepared> {
        let session = self.bindings.table.session(hit.id);
        let as_decided = self.bindings.rules_of(session) == (hop.entry, hop.source);
        let known = SessionRef { id: hit.id, created: session.created };
        let lives = session.expires > answer.0;
        if !(hit.heading.from_initiator && as_decided && lives) || self.is_contested(known) {
            return None;
        }
        let out = Packet { ends: self.bindings.tuples(hit.id).1, ..packet };
        Some(Prepared { out, what: What::Known(hit) })
    }

    fn prepare_first(
        &self,
        now: Instant,
        hop: &DecidedHop,
        packet: Packet,
        answer: Instant,
    ) -> Option<Prepared> {
        self.check_sessions().ok()?;
        let timing = self.compiled.timing(packet.protocol, packet.destination().port);
        if Session::new(now.0, timing, 0, 0).expires <= answer.0 {
            return None;
        }
        let entry = match hop.entry {
            Some(id) => self.fixed_entry(id.0, packet)?.ok()?,
            None => Entry::default(),
        };
        let inside = Packet { ends: entry.ends(packet), ..packet };
        let way = (hop.ingress, hop.egress);
        let open = self.compiled.is_open(hop.ingress, hop.egress);
        if !open && self.policy_verdict(way, packet, inside) != Verdict::Accept {
            return None;
        }
        let source = match hop.source {
            Some(id) => {
                let inner = (hop.entry, inside.destination());
                self.source_by(id.0, hop.ingress, packet, inner).ok()??
            }
            None => Source::Keep(Untranslated::NoRule),
        };
        if source.rule() != hop.source {
            return None;
        }
        let out = Packet { ends: source.ends(inside), ..inside };
        let back = Packet { ends: out.ends.reversed(), ..packet };
        let contested = self.may_answer_compact(&source, back)
            || self.find_explicit(back, Some(hop.egress)).is_some();
        (!contested).then_some(Prepared { out, what: What::First(entry, source) })
    }

    /// Whether a session under an endpoint mapping may have the answers to a packet. Whoever has an
    /// external end to himself has no other such session there with the same far end, it would have
    /// been found, but for hairpinned ones.
    fn may_answer_compact(&self, source: &Source, back: Packet) -> bool {
        let to_himself = matches!(source, Source::New(..) | Source::Mapped(..))
            && !self.compiled.plan.behaviour.port_overloading
            && self.bindings.hairpins.is_empty();
        let inside = |from| self.bindings.table.may_be_inside(from);
        let may_be = !to_himself || Key::of(back.source().address).is_some_and(inside);
        may_be && self.find_compact(back).is_some()
    }
}

impl<S: Sink> Engine<'_, S> {
    /// Enters a flow that was prepared, from its first packet to its last, and tells its session.
    pub(in crate::device) fn enter_prepared(
        &mut self,
        now: Instant,
        hop: &DecidedHop,
        packet: Packet,
        prepared: &Prepared,
        schedule: FlowSchedule,
    ) -> SessionRef {
        let passed = (Some(hop.ingress), hop.egress);
        match &prepared.what {
            What::Known(hit) => {
                self.go_on(now, *hit, packet, schedule);
                let created = self.bindings.table.session(hit.id).created;
                SessionRef { id: hit.id, created }
            }
            What::First(entry, source) => {
                let ends = (packet, prepared.out);
                self.commit_flow(now, passed, ends, (entry, source), schedule)
            }
        }
    }

    /// Another flow on a living session.
    pub(in crate::device) fn go_on(
        &mut self,
        now: Instant,
        hit: KnownSession,
        packet: Packet,
        schedule: FlowSchedule,
    ) {
        let mut session = *self.bindings.table.session(hit.id);
        let timing = self.context().timing(&session);
        session.on_packet(now.0, packet.signal, hit.heading, timing);
        session.on_packet(now.0, packet.answer().signal, hit.heading.back(), timing);
        self.run_on(now, hit.id, session, (schedule.end.0, schedule.ending));
    }
}
