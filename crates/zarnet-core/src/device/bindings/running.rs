//! What packets and flows do to a session that is there: it lasts longer, or less long; none is
//! opened or closed.

use super::session::{EXPLICIT, HAIRPIN, INBOUND, SHARED, Session};
use super::{Bindings, Context, Engine, Kind, KnownSession, Sink};
use crate::device::outcome::SessionRef;
use crate::net::{Instant, Packet, Signal};
use crate::traffic::Ending;

impl Bindings {
    /// Puts a changed session back.
    fn put_session(&mut self, id: u32, session: Session) {
        *self.table.session_mut(id) = session;
        self.bring_forward(id, session.expires);
    }

    /// A session was changed so that it may expire earlier than before. One that expires later
    /// needs nothing: it is looked at when it would have expired.
    fn bring_forward(&mut self, id: u32, expires: u64) {
        self.due_by(expires);
        self.table.bring_forward(id);
    }

    /// A packet that was entered ahead of its time, at `entered`, passes at `at`.
    pub(in crate::device) fn put_off(
        &mut self,
        passed: SessionRef,
        refreshed: bool,
        entered: Instant,
        at: Instant,
    ) {
        let mut session = *self.table.session(passed.id);
        // of a flow that runs on it, other packets pass later still
        if self.is_alive(passed) && session.last == entered.0 {
            session.last = at.0;
            if refreshed {
                session.expires = session.expires.saturating_add(at.0 - entered.0);
            }
            self.put_session(passed.id, session);
        }
    }
}

impl Context<'_> {
    /// Whether the answers of a session belong to an older one.
    pub(in crate::device) fn is_contested(&self, session: SessionRef) -> bool {
        if self.has_answers_alone(self.bindings.table.session(session.id)) {
            return false;
        }
        let (_, translated) = self.bindings.tuples(session.id);
        let protocol = self.bindings.protocol_of(self.bindings.table.session(session.id));
        let answer = Packet { protocol, signal: Signal::Plain, ends: translated.reversed() };
        self.find(answer, None).is_some_and(|hit| hit.id != session.id)
    }

    /// Whether it is certain, without a look at its external end, that nobody else has a session's
    /// answers: it has its port to itself, and they are neither found by their ends nor come from
    /// inside; or it is hairpinned without tuples.
    fn has_answers_alone(&self, session: &Session) -> bool {
        let (table, bindings) = (&self.bindings.table, self.bindings);
        if session.has(HAIRPIN) {
            return true;
        }
        !session.has(EXPLICIT | INBOUND)
            && table.mapping(session.owner).kind() == Kind::Endpoint
            && !bindings.by_port.shares()
            && !table.has_found_by_ends()
            && bindings.hairpins.is_empty()
            && !table.may_be_inside(session.remote)
    }
}

impl<S: Sink> Engine<'_, S> {
    /// Enters an accepted packet of a session. Tells whether it keeps it alive for longer.
    pub(in crate::device) fn refresh(
        &mut self,
        now: Instant,
        hit: KnownSession,
        signal: Signal,
    ) -> bool {
        let mut session = *self.bindings.table.session(hit.id);
        let refreshes =
            session.on_packet(now.0, signal, hit.heading, self.context().timing(&session));
        self.bindings.put_session(hit.id, session);
        refreshes
    }

    /// Enters a packet of a session where it stands. `change` tells of what it does.
    #[inline(always)]
    pub(in crate::device) fn change_in_place(
        &mut self,
        id: u32,
        change: impl FnOnce(&mut Session),
    ) {
        let session = self.bindings.table.session_mut(id);
        let before = session.expires;
        change(session);
        let expires = session.expires;
        if expires < before {
            self.bindings.bring_forward(id, expires);
        }
    }

    /// A flow runs on a session until `end`, both ways without a pause. Entered at once instead of
    /// packet by packet: the session's state at any moment in between follows from it.
    pub(in crate::device) fn run_until(
        &mut self,
        now: Instant,
        session: SessionRef,
        end: Instant,
        ending: Ending,
    ) {
        if self.bindings.is_alive(session) {
            self.run_on(now, session.id, *self.bindings.table.session(session.id), (end.0, ending));
        }
    }

    /// A flow that runs on a session is over: nothing more is sent on it.
    pub(in crate::device) fn stop(&mut self, now: Instant, session: SessionRef) {
        if !self.bindings.is_alive(session) {
            return;
        }
        let s = *self.bindings.table.session(session.id);
        // of several flows, the others go on
        if s.running(now.0).is_some() && !s.has(SHARED) {
            let stopped = s.stopped(now.0, self.context().timing(&s));
            self.bindings.put_session(session.id, stopped);
        }
    }

    /// The same as [`Self::run_until`] for a living session as it has become meanwhile.
    pub(in crate::device) fn run_on(
        &mut self,
        now: Instant,
        id: u32,
        mut s: Session,
        flow: (u64, Ending),
    ) {
        let running = s.running(now.0);
        let (mut end, mut ending) = flow;
        if let (Some(other), false) = (running, s.has(SHARED) || ending == Ending::Close)
            && other.1 != Ending::Close
        {
            // neither ends the session for the other: it lasts as long as the longer one, and the
            // shorter is of no account
            if other.0 > end {
                (end, ending) = other;
            }
        } else if running.is_some() || s.has(SHARED) {
            let overlap = self.bindings.table.overlaps.entry(id).or_default();
            overlap.add(now.0, running.filter(|_| !s.has(SHARED)).into_iter().chain([flow]));
            s.flags |= SHARED;
            (end, ending) = overlap.end().unwrap_or(flow);
        }
        s.run_until(end, ending, self.context().timing(&s));
        self.bindings.put_session(id, s);
    }
}
