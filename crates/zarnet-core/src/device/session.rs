//! One conversation: its state and how long it lasts. Read first: RFC 5382 §5, RFC 7857 §2 and figure 1, RFC 4787 §4.3.

use std::collections::HashMap;
use std::time::Duration;

use foldhash::fast::RandomState;

use super::config::Config;
use crate::net::{Protocol, Signal};
use crate::plan::Timers;

/// Nothing: no mapping, no next session.
pub(super) const NONE: u32 = u32::MAX;

/// How long a session is kept after a RST (RFC 7857 §2.2).
const AFTER_RESET: Duration = Duration::from_secs(240);

/// State of a session, by the names of a table; RFC 7857 figure 1 has them as INIT, ESTABLISHED, CLIENT-FIN and
/// SERVER-FIN, BOTH-FIN, TRANS.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum State {
    /// A protocol without connections.
    Open,
    /// TCP: the client's SYN was seen.
    Opening,
    /// TCP: the server's SYN was seen.
    Established,
    /// TCP: the client's FIN was seen.
    ClientFin,
    /// TCP: the server's FIN was seen.
    ServerFin,
    /// TCP: FIN was seen both ways.
    Closing,
    /// TCP: a RST was seen.
    Reset,
}

impl State {
    /// All of them, in order.
    const ALL: [Self; 7] =
        [Self::Open, Self::Opening, Self::Established, Self::ClientFin, Self::ServerFin, Self::Closing, Self::Reset];

    /// The word for it in a table.
    pub fn name(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Opening => "opening",
            Self::Established | Self::ClientFin | Self::ServerFin => "established",
            Self::Closing => "closing",
            Self::Reset => "reset",
        }
    }

    /// Whether any packet of a flow that runs keeps it alive.
    fn is_refreshable(self) -> bool {
        !matches!(self, Self::Opening | Self::Closing | Self::Reset)
    }
}

/// The state behind the last packet of a flow, by its ending and the state before.
const AFTER: [[State; 7]; 3] = {
    use State::{ClientFin, Closing, Established, Open, Opening, Reset, ServerFin};
    [
        [Open, Opening, Closing, Closing, Closing, Closing, Closing],
        [Open, Opening, Reset, Reset, Reset, Reset, Reset],
        [Open, Opening, Established, ClientFin, ServerFin, Closing, Reset],
    ]
};

/// How a flow ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Ending {
    /// TCP: FIN both ways with the last packet.
    Close,
    /// TCP: RST with the last packet.
    Reset,
    /// Nothing more.
    Silent,
}

/// A conversation. 40 octets: a device holds millions.
#[derive(Debug, Clone, Copy)]
pub(super) struct Session {
    /// Nanoseconds.
    pub created: u64,
    /// The last packet; in the future while a flow is running that will end then.
    pub last: u64,
    /// When it ends if nothing more comes; while a flow is running, counted from the flow's end.
    pub expires: u64,
    /// The far end, as the mapping sees it.
    pub remote: u32,
    pub remote_port: u16,
    pub state: State,
    pub flags: u8,
    /// The mapping that it uses; for a wide session its wide record.
    pub owner: u32,
    /// The next among the sessions of the mapping, or its position there.
    pub next: u32,
}

/// Both tuples are in a wide record.
pub(super) const WIDE: u8 = 1;
/// The far end started it.
pub(super) const INBOUND: u8 = 2;
/// An answer was seen.
pub(super) const ANSWERED: u8 = 4;
/// TCP: the client is not the one who started it.
pub(super) const SWAPPED: u8 = 8;
/// Another flow runs on it too.
pub(super) const SHARED: u8 = 16;
/// A flow is running: it closes, resets or just ends at `last`. A bit for each ending, in their order.
const RUNNING: u8 = 32 + 64 + 128;
const RUNS_TO_CLOSE: u8 = 32 << Ending::Close as u8;
const RUNS_TO_RESET: u8 = 32 << Ending::Reset as u8;

/// The timers of a device in nanoseconds, as the table needs them.
#[derive(Debug, Clone)]
pub(super) struct Spans {
    /// By kind of protocol and state: looked up rather than decided, for protocols come in no order.
    states: [[u64; 7]; 4],
    /// How long an address mapping outlives its last session.
    pub binding: u64,
    /// How long a freed port rests.
    pub hold_down: u64,
    per_port: HashMap<(Protocol, u16), u64, RandomState>,
}

impl Spans {
    pub(super) fn new(timers: &Timers, hold_down: Duration) -> Self {
        let ns = |span: Duration| u64::try_from(span.as_nanos()).unwrap_or(u64::MAX);
        let idle = ns(timers.tcp_idle);
        let of = |open| [open, ns(timers.tcp_open), idle, idle, idle, ns(timers.tcp_close), ns(AFTER_RESET)];
        Self {
            states: [ns(timers.other), ns(timers.udp), ns(timers.icmp), ns(timers.icmp)].map(of),
            binding: ns(timers.binding),
            hold_down: ns(hold_down),
            per_port: timers.per_port.iter().map(|(k, v)| (*k, ns(*v))).collect(),
        }
    }
}

/// What of the world around it a session's life depends on.
#[derive(Clone, Copy)]
pub(super) struct Terms<'a> {
    pub spans: &'a Spans,
    pub protocol: Protocol,
    /// Destination port as the initiator sent it.
    pub port: u16,
    pub refresh_both: bool,
}

impl<'a> Terms<'a> {
    /// On a device. `port`: the destination's as the initiator sent it.
    #[inline(always)]
    pub(super) fn new(config: &'a Config, protocol: Protocol, port: u16) -> Self {
        Self { spans: &config.spans, protocol, port, refresh_both: config.plan.behaviour.refresh_both }
    }

    /// How long a state lasts without traffic.
    #[inline(always)]
    fn span(&self, state: State) -> u64 {
        let by_port = matches!(state, State::Open | State::Established | State::ClientFin | State::ServerFin);
        if !self.spans.per_port.is_empty()
            && by_port
            && let Some(span) = self.spans.per_port.get(&(self.protocol, self.port))
        {
            return *span;
        }
        let protocol = self.protocol;
        let kind = usize::from(protocol == Protocol::UDP) | usize::from(protocol.has_query_id()) << 1;
        self.spans.states[kind][state as usize]
    }
}

/// Which way a packet of a session goes.
#[derive(Debug, Clone, Copy)]
pub(super) struct Heading {
    /// From the one who started the session.
    pub from_initiator: bool,
    /// From the end that has the internal side.
    pub outbound: bool,
}

impl Session {
    /// None at all.
    pub(super) const NONE: Self = Self {
        created: 0,
        last: 0,
        expires: 0,
        remote: 0,
        remote_port: 0,
        state: State::Open,
        flags: 0,
        owner: NONE,
        next: NONE,
    };

    /// A session that its first packet makes.
    #[inline(always)]
    pub(super) fn new(now: u64, terms: Terms<'_>, owner: u32, flags: u8) -> Self {
        // looked up, not decided: protocols come in no order
        let state = [State::Open, State::Opening][usize::from(terms.protocol == Protocol::TCP)];
        Self {
            created: now,
            last: now,
            expires: now.saturating_add(terms.span(state)),
            remote: 0,
            remote_port: 0,
            state,
            flags,
            owner,
            next: NONE,
        }
    }

    pub(super) fn has(&self, flag: u8) -> bool {
        self.flags & flag != 0
    }

    /// Whether a flow is running on it at `now`.
    fn is_running(&self, now: u64) -> bool {
        self.flags & RUNNING != 0 && now < self.last
    }

    /// The session as it is at `now`, with what a running flow did meanwhile.
    pub(super) fn at(mut self, now: u64, terms: Terms<'_>) -> Self {
        if self.is_running(now) {
            self.last = now;
            if self.state.is_refreshable() {
                self.expires = now.saturating_add(terms.span(self.state));
            }
        } else {
            self.settle();
        }
        self
    }

    /// The session as it is from `now` on, when a running flow is broken off.
    pub(super) fn stopped(self, now: u64, terms: Terms<'_>) -> Self {
        let mut session = self.at(now, terms);
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

    /// A flow runs on it from now until `end`, both ways without a pause. RFC 7857 §2.2 and figure 1 for what the last
    /// packet does.
    #[inline(always)]
    pub(super) fn run_until(&mut self, end: u64, ending: Ending, terms: Terms<'_>) {
        if !self.state.is_refreshable() && self.run_beside(end, ending) {
            return;
        }
        let last_state = AFTER[ending as usize][self.state as usize];
        self.flags = self.flags & !RUNNING | 32 << ending as u8;
        self.last = end;
        self.expires = end.saturating_add(terms.span(last_state));
    }

    /// A flow runs on a session that its packets do not keep: one that is not answered on it, or closed by another flow. Tells
    /// whether that is so; a session that was reset its next packet revives at once.
    #[cold]
    #[inline(never)]
    fn run_beside(&mut self, end: u64, ending: Ending) -> bool {
        if self.state == State::Reset {
            self.state = State::Established;
            return false;
        }
        self.flags = self.flags & !RUNNING | 32 << ending as u8;
        self.last = end;
        true
    }

    /// A packet on such a session.
    #[cold]
    #[inline(never)]
    fn on_packet_beside(&mut self, now: u64, step: Step, terms: Terms<'_>) -> bool {
        let Step { state, refreshes, begins } = step;
        let established = self.state == State::Opening && state != State::Opening;
        if established || begins || self.state == State::Opening && refreshes {
            // from now on the flow that runs keeps it
            let from = if established { self.last } else { now };
            self.expires = from.saturating_add(terms.span(state));
            self.state = state;
        }
        begins
    }

    /// When and how the running flow ends.
    pub(super) fn running(&self, now: u64) -> Option<(u64, Ending)> {
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
    /// RFC 5382 §5 REQ-5, RFC 7857 §2.2 (RST), RFC 4787 §4.3 REQ-6 (refresh), RFC 5508 §3.2 REQ-2 (queries).
    #[inline(always)]
    pub(super) fn on_packet(&mut self, now: u64, signal: Signal, heading: Heading, terms: Terms<'_>) -> bool {
        let running = self.is_running(now);
        if !running && self.flags & RUNNING != 0 {
            self.settle();
        }
        self.flags |= ANSWERED * u8::from(!heading.from_initiator);
        let before = self.state;
        let from_client = heading.from_initiator != self.has(SWAPPED);
        let Step { mut state, refreshes, begins } = STEPS[before as usize][signal as usize][usize::from(from_client)];
        if begins {
            self.flags = self.flags & !SWAPPED | if heading.from_initiator { 0 } else { SWAPPED };
        }
        if running && matches!(before, State::Opening | State::Closing) {
            return self.on_packet_beside(now, Step { state, refreshes, begins }, terms);
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
        // without connections a refresh is outbound, where there are ports and the device is not told otherwise
        let open = heading.outbound | terms.refresh_both | !terms.protocol.has_ports();
        let expires = now.saturating_add(terms.span(state));
        let refreshes = refreshes & (open | (state != State::Open));
        self.expires = if refreshes { expires } else { self.expires };
        refreshes
    }
}

/// What a packet does to a session.
#[derive(Debug, Clone, Copy)]
struct Step {
    state: State,
    refreshes: bool,
    /// Whose connection is over: a new one begins, and its client may be the other end.
    begins: bool,
}

impl Step {
    /// RFC 7857 §2 figure 1, as the contract decides where it is silent.
    const fn of(before: State, signal: Signal, from_client: bool) -> Self {
        use State::{ClientFin, Closing, Established, Open, Opening, Reset, ServerFin};
        let begins = matches!((before, signal), (Closing | Reset, Signal::Syn));
        let state = match (before, signal) {
            (Closing | Reset, Signal::Syn) => Opening,
            (Opening, Signal::Syn | Signal::SynAck) if !from_client => Established,
            (Established | ClientFin | ServerFin, Signal::Rst) => Reset,
            (Established, Signal::Fin) if from_client => ClientFin,
            (Established, Signal::Fin) => ServerFin,
            (ClientFin, Signal::Fin) if !from_client => Closing,
            (ServerFin, Signal::Fin) if from_client => Closing,
            (Reset, Signal::Rst) => Reset,
            (Reset, _) => Established,
            (state, _) => state,
        };
        let refreshes = match state {
            Open | Established | ClientFin | ServerFin => true,
            // only the SYN of the client keeps an opening session; anything else leaves its timer alone
            Opening => matches!(signal, Signal::Syn),
            Closing | Reset => before as u8 != state as u8,
        };
        Self { state, refreshes, begins }
    }
}

/// By the state before, the packet, and whether the client sent it. Looked up rather than decided, for packets come in no
/// order.
const STEPS: [[[Step; 2]; Signal::ALL.len()]; State::ALL.len()] = {
    let none = Step { state: State::Open, refreshes: false, begins: false };
    let mut steps = [[[none; 2]; Signal::ALL.len()]; State::ALL.len()];
    let mut state = 0;
    while state < State::ALL.len() {
        let mut signal = 0;
        while signal < Signal::ALL.len() {
            let of = (State::ALL[state], Signal::ALL[signal]);
            steps[state][signal] = [Step::of(of.0, of.1, false), Step::of(of.0, of.1, true)];
            signal += 1;
        }
        state += 1;
    }
    steps
};

#[cfg(test)]
mod tests {
    use super::*;

    const S: u64 = 1_000_000_000;

    fn spans(timers: &Timers) -> Spans {
        Spans::new(timers, Duration::ZERO)
    }

    fn terms(spans: &Spans, protocol: Protocol) -> Terms<'_> {
        Terms { spans, protocol, port: 53, refresh_both: false }
    }

    const CLIENT: Heading = Heading { from_initiator: true, outbound: true };
    const SERVER: Heading = Heading { from_initiator: false, outbound: false };

    /// Every state against every packet: RFC 7857 figure 1 as decided in the contract.
    #[test]
    fn rfc7857_s2_state_table() {
        use Signal::{Fin, Plain, Rst, Syn, SynAck};
        use State::{ClientFin, Closing, Established, Opening, Reset, ServerFin};
        let spans = spans(&Timers::default());
        let t = terms(&spans, Protocol::TCP);
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
            assert_eq!((session.state, session.expires), (next, expires), "{state:?} {signal:?} {heading:?}");
        }
    }

    /// RFC 4787 §4.3 REQ-6: outbound packets refresh, inbound ones only where the device is told so.
    #[test]
    fn rfc4787_req6_udp_refresh() {
        let spans = spans(&Timers::default());
        let mut session = Session::new(0, terms(&spans, Protocol::UDP), 0, 0);
        session.on_packet(200 * S, Signal::Plain, CLIENT, terms(&spans, Protocol::UDP));
        assert_eq!(session.expires, 500 * S);
        session.on_packet(250 * S, Signal::Plain, SERVER, terms(&spans, Protocol::UDP));
        assert_eq!(session.expires, 500 * S);
        let both = Terms { refresh_both: true, ..terms(&spans, Protocol::UDP) };
        session.on_packet(250 * S, Signal::Plain, SERVER, both);
        assert_eq!(session.expires, 550 * S);
    }

    /// RFC 4787 §4.3 REQ-5a: a shorter timer for the destination port of a known short protocol.
    #[test]
    fn rfc4787_req5a_per_port() {
        let mut timers = Timers::default();
        timers.per_port.insert((Protocol::UDP, 53), Duration::from_secs(10));
        let spans = spans(&timers);
        assert_eq!(Session::new(0, terms(&spans, Protocol::UDP), 0, 0).expires, 10 * S);
    }

    /// A running flow keeps its session alive, and its end is entered when somebody looks.
    #[test]
    fn a_running_flow_ends_as_it_should() {
        let spans = spans(&Timers::default());
        let t = terms(&spans, Protocol::TCP);
        for (ending, state, seconds) in [
            (Ending::Close, State::Closing, 240),
            (Ending::Reset, State::Reset, 240),
            (Ending::Silent, State::Established, 7440),
        ] {
            let mut session = Session::new(0, t, 0, 0);
            session.on_packet(0, Signal::SynAck, SERVER, t);
            session.run_until(30 * S, ending, t);
            let during = session.at(10 * S, t);
            assert_eq!((during.state, during.last, during.expires), (State::Established, 10 * S, 7450 * S));
            let after = session.at(31 * S, t);
            assert_eq!((after.state, after.last, after.expires), (state, 30 * S, (30 + seconds) * S));
        }
    }
}
