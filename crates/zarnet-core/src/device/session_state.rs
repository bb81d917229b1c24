//! The state of a session, and what a packet does to it. Read first: RFC 5382 §5, RFC 7857 §2 and
//! figure 1.
//!
//! Contract: §T2 and §T3 of docs/semantics.md.

use crate::net::Signal;

/// State of a session, by the names of a table; RFC 7857 figure 1 has them as INIT, ESTABLISHED,
/// CLIENT-FIN and SERVER-FIN, BOTH-FIN, TRANS.
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
    pub(super) const ALL: [Self; 7] = [
        Self::Open,
        Self::Opening,
        Self::Established,
        Self::ClientFin,
        Self::ServerFin,
        Self::Closing,
        Self::Reset,
    ];

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
    pub(super) fn is_refreshable(self) -> bool {
        !matches!(self, Self::Opening | Self::Closing | Self::Reset)
    }
}

/// The state behind the last packet of a flow, by its ending and the state before.
pub(super) const AFTER: [[State; 7]; 3] = {
    use State::{ClientFin, Closing, Established, Open, Opening, Reset, ServerFin};
    [
        [Open, Opening, Closing, Closing, Closing, Closing, Closing],
        [Open, Opening, Reset, Reset, Reset, Reset, Reset],
        [Open, Opening, Established, ClientFin, ServerFin, Closing, Reset],
    ]
};

/// What a packet does to a session.
#[derive(Debug, Clone, Copy)]
pub(super) struct Step {
    pub state: State,
    /// Whether it keeps the session alive for longer.
    pub refreshes: bool,
    /// Whose connection is over: a new one begins, and its client may be the other end.
    pub begins: bool,
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
            // only the SYN of the client keeps an opening session; anything else leaves its timer
            // alone
            Opening => matches!(signal, Signal::Syn),
            Closing | Reset => before as u8 != state as u8,
        };
        Self { state, refreshes, begins }
    }
}

/// By the state before, the packet, and whether the client sent it. Looked up rather than decided,
/// for packets come in no order.
pub(super) const STEPS: [[[Step; 2]; Signal::ALL.len()]; State::ALL.len()] = {
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
