//! One conversation: its state and how long it lasts. Read first: RFC 5382 §5, RFC 7857 §2 and
//! figure 1, RFC 4787 §4.3.

use super::arena::NONE;
use crate::device::compiled::Timing;
use crate::device::key::Key;
use crate::device::session_state::{AFTER, STEPS, State, Step};
use crate::net::{Protocol, Signal};
use crate::traffic::Ending;

/// A conversation. 40 octets: a device holds millions.
#[derive(Debug, Clone, Copy)]
pub(in crate::device) struct Session {
    /// When it was created, in nanoseconds.
    pub created: u64,
    /// The last packet; in the future while a flow is running that will end then.
    pub last: u64,
    /// When it ends if nothing more comes; while a flow is running, counted from the flow's end.
    pub expires: u64,
    /// The far end, as the mapping sees it.
    pub remote: Key,
    pub remote_port: u16,
    pub state: State,
    pub flags: u8,
    /// The mapping that it uses; for a explicit session its explicit record.
    pub owner: u32,
    /// The next among the sessions of the mapping, or its position there; under an address mapping
    /// the internal port and the protocol.
    pub next: u32,
}

/// Both tuples are in a explicit record.
pub(in crate::device) const EXPLICIT: u8 = 1;
/// The far end started it.
pub(in crate::device) const INBOUND: u8 = 2;
/// An answer was seen.
pub(in crate::device) const ANSWERED: u8 = 4;
/// TCP: the client is not the one who started it.
pub(in crate::device) const SWAPPED: u8 = 8;
/// Another flow runs on it too.
pub(in crate::device) const SHARED: u8 = 16;
/// A flow is running: it closes, resets or just ends at `last`.
const RUNNING: u8 = 32 + 64;
const RUNS_TO_CLOSE: u8 = running_to(Ending::Close);
const RUNS_TO_RESET: u8 = running_to(Ending::Reset);
/// Its first packet was for the external end of a fixed rule, which turned it back inside. The far
/// end is that external end, and the packet's destination as forwarded follows from it.
pub(in crate::device) const HAIRPIN: u8 = 128;

/// The mark of a flow that is running.
const fn running_to(ending: Ending) -> u8 {
    (ending as u8 + 1) << 5
}

/// Which way a packet of a session goes.
#[derive(Debug, Clone, Copy)]
pub(in crate::device) struct Heading {
    /// From the one who started the session.
    pub from_initiator: bool,
    /// From the end that has the internal side.
    pub outbound: bool,
}

impl Heading {
    /// The way of an answer.
    pub(in crate::device) fn back(self) -> Self {
        Self { from_initiator: !self.from_initiator, outbound: !self.outbound }
    }
}

impl Session {
    /// The session that stands where there is none.
    pub(in crate::device) const NONE: Self = Self {
        created: 0,
        last: 0,
        expires: 0,
        remote: Key::NONE,
        remote_port: 0,
        state: State::Open,
        flags: 0,
        owner: NONE,
        next: NONE,
    };

    /// A session that its first packet makes.
    #[inline(always)]
    pub(in crate::device) fn new(now: u64, timing: Timing<'_>, owner: u32, flags: u8) -> Self {
        // looked up, not decided: protocols come in no order
        let state = [State::Open, State::Opening][usize::from(timing.protocol == Protocol::TCP)];
        Self {
            created: now,
            last: now,
            expires: now.saturating_add(timing.span(state)),
            remote: Key::NONE,
            remote_port: 0,
            state,
            flags,
            owner,
            next: NONE,
        }
    }

    /// A session whose first packet is answered and that a flow runs on from then until it ends:
    /// as if all that had passed already.
    #[inline(always)]
    pub(in crate::device) fn run_from_start(
        &mut self,
        end: u64,
        ending: Ending,
        timing: Timing<'_>,
    ) {
        self.flags |= ANSWERED;
        // the server's SYN establishes it: RFC 7857 figure 1
        self.state =
            [State::Open, State::Established][usize::from(timing.protocol == Protocol::TCP)];
        self.run_until(end, ending, timing);
    }

    /// A session under an address mapping: such a one is not listed there.
    pub(in crate::device) fn with_internal(self, protocol: Protocol, port: u16) -> Self {
        Self { next: u32::from(protocol.0) << 16 | u32::from(port), ..self }
    }

    /// Protocol and internal port of a session under an address mapping.
    #[inline(always)]
    pub(super) fn internal(&self) -> (Protocol, u16) {
        (Protocol((self.next >> 16) as u8), self.next as u16)
    }

    pub(in crate::device) fn has(&self, flag: u8) -> bool {
        self.flags & flag != 0
    }

    /// Whether a flow is running on it at `now`.
    fn is_running(&self, now: u64) -> bool {
        self.flags & RUNNING != 0 && now < self.last
    }

    /// The session as it is at `now`, with what a running flow did meanwhile.
    pub(in crate::device) fn at(mut self, now: u64, timing: Timing<'_>) -> Self {
        if self.is_running(now) {
            self.last = now;
            if self.state.is_refreshable() {
                self.expires = now.saturating_add(timing.span(self.state));
            }
        } else {
            self.settle();
        }
        self
    }

    /// The session as it is from `now` on, when a running flow is broken off.
    pub(in crate::device) fn stopped(self, now: u64, timing: Timing<'_>) -> Self {
        let mut session = self.at(now, timing);
        session.flags &= !RUNNING;
        session
    }

    /// Enters what the last packet of a flow did that is over.
    fn settle(&mut self) {
        if self.state != State::Open && self.state.is_refreshable() {
            match self.flags & RUNNING {
                RUNS_TO_CLOSE => self.state = State::Closing,
                RUNS_TO_RESET => self.state = State::Reset,
                _ => {}
            }
        }
        self.flags &= !RUNNING;
    }

    /// A flow runs on it from now until `end`, both ways without a pause. RFC 7857 §2.2 and figure
    /// 1 for what the last packet does.
    #[inline(always)]
    pub(in crate::device) fn run_until(&mut self, end: u64, ending: Ending, timing: Timing<'_>) {
        if !self.state.is_refreshable() && self.run_beside(end, ending) {
            return;
        }
        let last_state = AFTER[ending as usize][self.state as usize];
        self.flags = self.flags & !RUNNING | running_to(ending);
        self.last = end;
        self.expires = end.saturating_add(timing.span(last_state));
    }

    /// A flow runs on a session that its packets do not keep: one that is not answered on it, or
    /// closed by another flow. Tells whether that is so; a session that was reset its next packet
    /// revives at once.
    #[cold]
    #[inline(never)]
    fn run_beside(&mut self, end: u64, ending: Ending) -> bool {
        if self.state == State::Reset {
            self.state = State::Established;
            return false;
        }
        self.flags = self.flags & !RUNNING | running_to(ending);
        self.last = end;
        true
    }

    /// A packet on such a session.
    #[cold]
    #[inline(never)]
    fn on_packet_beside(&mut self, now: u64, step: Step, timing: Timing<'_>) -> bool {
        let Step { state, refreshes, begins } = step;
        let established = self.state == State::Opening && state != State::Opening;
        if established || begins || self.state == State::Opening && refreshes {
            // from now on the flow that runs keeps it
            let from = if established { self.last } else { now };
            self.expires = from.saturating_add(timing.span(state));
            self.state = state;
        }
        begins
    }

    /// When and how the running flow ends.
    pub(in crate::device) fn running(&self, now: u64) -> Option<(u64, Ending)> {
        let ending = match self.flags & RUNNING {
            RUNS_TO_CLOSE => Ending::Close,
            RUNS_TO_RESET => Ending::Reset,
            _ => Ending::Silent,
        };
        self.is_running(now).then_some((self.last, ending))
    }

    /// A packet of the session that the device has accepted.
    ///
    /// Tells whether it keeps the session alive for longer.
    ///
    /// RFC 5382 §5 REQ-5, RFC 7857 §2.2 (RST), RFC 4787 §4.3 REQ-6 (refresh), RFC 5508 §3.2 REQ-2
    /// (queries).
    #[inline(always)]
    pub(in crate::device) fn on_packet(
        &mut self,
        now: u64,
        signal: Signal,
        heading: Heading,
        timing: Timing<'_>,
    ) -> bool {
        let running = self.is_running(now);
        if !running && self.flags & RUNNING != 0 {
            self.settle();
        }
        self.flags |= ANSWERED * u8::from(!heading.from_initiator);
        let before = self.state;
        let from_client = heading.from_initiator != self.has(SWAPPED);
        let Step { mut state, refreshes, begins } =
            STEPS[before as usize][signal as usize][usize::from(from_client)];
        if begins {
            self.flags = self.flags & !SWAPPED | if heading.from_initiator { 0 } else { SWAPPED };
        }
        if running && matches!(before, State::Opening | State::Closing) {
            return self.on_packet_beside(now, Step { state, refreshes, begins }, timing);
        }
        if running {
            if state == State::Reset {
                state = before; // the running flow's next packet revives it at once
            }
            if state != State::Closing {
                self.state = state;
                return false;
            }
        }
        if state == State::Closing && before != State::Closing {
            self.flags &= !RUNNING;
        }
        (self.state, self.last) = (state, now);
        // without connections a refresh is outbound, where there are ports and the device is not
        // told otherwise
        let open = heading.outbound | timing.refresh_both | !timing.protocol.has_ports();
        let expires = now.saturating_add(timing.span(state));
        let refreshes = refreshes & (open | (state != State::Open));
        self.expires = if refreshes { expires } else { self.expires };
        refreshes
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;
    use crate::device::compiled::Timers;
    use crate::plan;

    const S: u64 = 1_000_000_000;

    fn nanoseconds(timers: &plan::Timers) -> Timers {
        Timers::new(timers, Duration::ZERO)
    }

    fn timing(timers: &Timers, protocol: Protocol) -> Timing<'_> {
        Timing { timers, protocol, port: 53, refresh_both: false }
    }

    const CLIENT: Heading = Heading { from_initiator: true, outbound: true };
    const SERVER: Heading = Heading { from_initiator: false, outbound: false };

    /// Every state against every packet: RFC 7857 figure 1 as decided in the contract.
    #[test]
    fn rfc7857_s2_state_table() {
        use Signal::{Fin, Plain, Rst, Syn, SynAck};
        use State::{ClientFin, Closing, Established, Opening, Reset, ServerFin};
        let timers = nanoseconds(&plan::Timers::default());
        let t = timing(&timers, Protocol::TCP);
        // state, packet, whose; next state, seconds to live from now (`None`: its old expiry stays)
        let table = [
            (Opening, Syn, CLIENT, Opening, Some(240)),
            (Opening, SynAck, SERVER, Established, Some(7440)),
            (Opening, Syn, SERVER, Established, Some(7440)),
            (Opening, Rst, SERVER, Opening, None),
            (Opening, Fin, CLIENT, Opening, None),
            (Opening, Plain, CLIENT, Opening, None),
            (Established, Syn, CLIENT, Established, Some(7440)),
            (Established, Plain, SERVER, Established, Some(7440)),
            (Established, Fin, CLIENT, ClientFin, Some(7440)),
            (Established, Fin, SERVER, ServerFin, Some(7440)),
            (Established, Rst, SERVER, Reset, Some(240)),
            (ClientFin, Fin, CLIENT, ClientFin, Some(7440)),
            (ClientFin, Plain, SERVER, ClientFin, Some(7440)),
            (ClientFin, Fin, SERVER, Closing, Some(240)),
            (ClientFin, Rst, SERVER, Reset, Some(240)),
            (ServerFin, Fin, CLIENT, Closing, Some(240)),
            (ServerFin, Plain, CLIENT, ServerFin, Some(7440)),
            (Closing, Plain, CLIENT, Closing, None),
            (Closing, Rst, CLIENT, Closing, None),
            (Closing, Fin, SERVER, Closing, None),
            (Closing, Syn, CLIENT, Opening, Some(240)),
            (Closing, Syn, SERVER, Opening, Some(240)),
            (Reset, Rst, SERVER, Reset, None),
            (Reset, Plain, CLIENT, Established, Some(7440)),
            (Reset, Syn, CLIENT, Opening, Some(240)),
        ];
        for (state, signal, heading, next, seconds) in table {
            let mut session = Session::new(0, t, 0, 0);
            session.state = state;
            session.expires = 9999 * S;
            session.on_packet(10 * S, signal, heading, t);
            let expires = seconds.map_or(9999 * S, |s| (10 + s) * S);
            assert_eq!(
                (session.state, session.expires),
                (next, expires),
                "{state:?} {signal:?} {heading:?}"
            );
        }
    }

    /// RFC 4787 §4.3 REQ-6: outbound packets refresh, inbound ones only where the device is told
    /// so.
    #[test]
    fn rfc4787_req6_udp_refresh() {
        let timers = nanoseconds(&plan::Timers::default());
        let mut session = Session::new(0, timing(&timers, Protocol::UDP), 0, 0);
        session.on_packet(200 * S, Signal::Plain, CLIENT, timing(&timers, Protocol::UDP));
        assert_eq!(session.expires, 500 * S);
        session.on_packet(250 * S, Signal::Plain, SERVER, timing(&timers, Protocol::UDP));
        assert_eq!(session.expires, 500 * S);
        let both = Timing { refresh_both: true, ..timing(&timers, Protocol::UDP) };
        session.on_packet(250 * S, Signal::Plain, SERVER, both);
        assert_eq!(session.expires, 550 * S);
    }

    /// RFC 4787 §4.3 REQ-5a: a shorter timer for the destination port of a known short protocol.
    #[test]
    fn rfc4787_req5a_per_port() {
        let mut timers = plan::Timers::default();
        timers.per_port.insert((Protocol::UDP, 53), Duration::from_secs(10));
        let timers = nanoseconds(&timers);
        assert_eq!(Session::new(0, timing(&timers, Protocol::UDP), 0, 0).expires, 10 * S);
    }

    /// A running flow keeps its session alive, and its end is entered when somebody looks.
    #[test]
    fn a_running_flow_ends_as_it_should() {
        let timers = nanoseconds(&plan::Timers::default());
        let t = timing(&timers, Protocol::TCP);
        for (ending, state, seconds) in [
            (Ending::Close, State::Closing, 240),
            (Ending::Reset, State::Reset, 240),
            (Ending::Silent, State::Established, 7440),
        ] {
            let mut session = Session::new(0, t, 0, 0);
            session.on_packet(0, Signal::SynAck, SERVER, t);
            session.run_until(30 * S, ending, t);
            let during = session.at(10 * S, t);
            assert_eq!(
                (during.state, during.last, during.expires),
                (State::Established, 10 * S, 7450 * S)
            );
            let after = session.at(31 * S, t);
            assert_eq!(
                (after.state, after.last, after.expires),
                (state, 30 * S, (30 + seconds) * S)
            );
        }
    }
}
