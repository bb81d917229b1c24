//! The timers of a device in nanoseconds, as sessions are timed by them. Read first: RFC 4787 §4.3,
//! RFC 5382 §5, RFC 7857 §2.

use std::collections::HashMap;
use std::time::Duration;

use foldhash::fast::RandomState;

use crate::device::session_state::State;
use crate::net::Protocol;
use crate::plan;

/// How long a session is kept after a RST (RFC 7857 §2.2).
const AFTER_RESET: Duration = Duration::from_secs(240);

/// How long what a device knows lasts, in nanoseconds.
#[derive(Debug, Clone)]
pub(in crate::device) struct Timers {
    /// By kind of protocol and state: looked up rather than decided, for protocols come in no
    /// order.
    states: [[u64; 7]; 4],
    /// How long an address mapping outlives its last session.
    pub binding: u64,
    /// How long a freed port rests (RFC 6888 §3 REQ-8).
    pub hold_down: u64,
    per_port: HashMap<(Protocol, u16), u64, RandomState>,
}

impl Timers {
    /// From the timers of a plan, and how long its freed ports rest.
    pub(in crate::device) fn new(timers: &plan::Timers, hold_down: Duration) -> Self {
        let ns = |span: Duration| u64::try_from(span.as_nanos()).unwrap_or(u64::MAX);
        let idle = ns(timers.tcp_idle);
        let of = |open| {
            [open, ns(timers.tcp_open), idle, idle, idle, ns(timers.tcp_close), ns(AFTER_RESET)]
        };
        Self {
            states: [ns(timers.other), ns(timers.udp), ns(timers.icmp), ns(timers.icmp)].map(of),
            binding: ns(timers.binding),
            hold_down: ns(hold_down),
            per_port: timers.per_port.iter().map(|(k, v)| (*k, ns(*v))).collect(),
        }
    }
}

/// What a session is timed by, besides its own state.
#[derive(Clone, Copy)]
pub(in crate::device) struct Timing<'a> {
    pub timers: &'a Timers,
    pub protocol: Protocol,
    /// Destination port as the initiator sent it.
    pub port: u16,
    /// Whether packets from outside keep a session alive, too (RFC 4787 §4.3 REQ-6).
    pub refresh_both: bool,
}

impl Timing<'_> {
    /// How long a state lasts without traffic.
    #[inline(always)]
    pub(in crate::device) fn span(&self, state: State) -> u64 {
        let by_port =
            matches!(state, State::Open | State::Established | State::ClientFin | State::ServerFin);
        if !self.timers.per_port.is_empty()
            && by_port
            && let Some(span) = self.timers.per_port.get(&(self.protocol, self.port))
        {
            return *span;
        }
        let protocol = self.protocol;
        let kind =
            usize::from(protocol == Protocol::UDP) | usize::from(protocol.has_query_id()) << 1;
        self.timers.states[kind][state as usize]
    }
}
