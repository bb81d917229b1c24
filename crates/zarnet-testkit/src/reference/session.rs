//! One conversation: its state and its timers.

use zarnet_core::net::{Endpoint, Protocol, Signal, Tuple};

/// One second in nanoseconds.
pub const S: u64 = 1_000_000_000;

/// `udp-timeout`, `icmp-timeout`, `other-timeout`, `tcp-trans-open-timeout`, `tcp-idle-timeout`,
/// and the others of TCP.
pub const UDP: u64 = 30;
pub const ICMP: u64 = 10;
pub const OTHER: u64 = 20;
pub const OPEN: u64 = 40;
pub const IDLE: u64 = 90;
pub const AFTER: u64 = 240;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum State {
    Plain,
    Opening,
    Established,
    OneFin { of_client: bool },
    Closing,
    Reset,
}

#[derive(Debug, Clone)]
pub(super) struct Session {
    pub protocol: Protocol,
    pub original: Tuple,
    pub forwarded: Tuple,
    /// The dynamic mappings of source and destination.
    pub mappings: [Option<u32>; 2],
    /// Rules that translated source and destination.
    pub rules: [Option<usize>; 2],
    /// How many sessions were made before.
    pub serial: u64,
    pub client_is_initiator: bool,
    pub answered: bool,
    /// Where its first packet came in; nowhere if the device sent it.
    pub ingress: Option<usize>,
    pub state: State,
    pub created: u64,
    /// When the last packet came.
    pub last: u64,
    pub expires: u64,
    /// External ends that it has by rules of an earlier plan.
    pub holds: Vec<Endpoint>,
}

impl Session {
    /// Whether a packet comes from the internal end of one of its mappings, fixed ones included; of
    /// a session that nothing translates, from who began it.
    fn is_outbound(&self, forth: bool) -> bool {
        match (forth, self.rules) {
            (forth, [None, None]) => forth,
            (true, [source, _]) => source.is_some(),
            (false, [_, destination]) => destination.is_some(),
        }
    }

    /// A packet of the session: RFC 7857 figure 1 as decided in the contract, and what refreshes.
    pub(super) fn take(&mut self, now: u64, forth: bool, signal: Signal, refresh_both: bool) {
        self.answered |= !forth;
        self.last = now;
        let of_client = forth == self.client_is_initiator;
        let before = self.state;
        match (before, signal) {
            (State::Closing | State::Reset, Signal::Syn) => {
                (self.state, self.client_is_initiator) = (State::Opening, forth);
                self.expires = now + OPEN * S;
                return;
            }
            (State::Opening, Signal::Syn) if of_client => self.expires = now + OPEN * S,
            (State::Opening, Signal::Syn | Signal::SynAck) if !of_client => {
                self.state = State::Established
            }
            (State::Opening | State::Closing, _) => {}
            (State::Established | State::OneFin { .. }, Signal::Rst) => {
                (self.state, self.expires) = (State::Reset, now + AFTER * S);
            }
            (State::Established, Signal::Fin) => self.state = State::OneFin { of_client },
            (State::OneFin { of_client: first }, Signal::Fin) if first != of_client => {
                (self.state, self.expires) = (State::Closing, now + AFTER * S);
            }
            (State::Reset, Signal::Rst) => {}
            (State::Reset, _) => self.state = State::Established,
            _ => {}
        }
        match self.state {
            State::Established | State::OneFin { .. } => self.expires = now + IDLE * S,
            State::Plain => match self.protocol {
                Protocol::UDP if self.is_outbound(forth) || refresh_both => {
                    self.expires = now + UDP * S
                }
                Protocol::UDP => {}
                Protocol::ICMP => self.expires = now + ICMP * S,
                _ => self.expires = now + OTHER * S,
            },
            _ => {}
        }
    }
}
