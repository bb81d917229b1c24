//! Timers, by the names of RFC 8512 (container `policy/timers`).

use std::collections::BTreeMap;
use std::time::Duration;

use crate::net::Protocol;

const fn s(seconds: u64) -> Duration {
    Duration::from_secs(seconds)
}

/// How long state lasts without traffic.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Timers {
    /// UDP mapping without traffic. RFC 4787 §4.3 REQ-5: at least 120 s, 300 s advised, which is
    /// the default.
    pub udp: Duration,
    /// Established TCP session without traffic. RFC 5382 §5 REQ-5: at least 2 h 4 min, which is the
    /// default.
    pub tcp_idle: Duration,
    /// TCP session not yet established. RFC 5382 §5 REQ-5: at least 4 min, which is the default.
    pub tcp_open: Duration,
    /// TCP session after FIN both ways, or after RST (RFC 7857 §2.2). At least 4 min, which is the
    /// default.
    pub tcp_close: Duration,
    /// An unsolicited inbound SYN is held so long (RFC 5382 §4.3 REQ-4); it does not change a
    /// prediction.
    pub tcp_in_syn: Duration,
    /// ICMP query session. RFC 5508 §3.2 REQ-2: at least 60 s, which is the default.
    pub icmp: Duration,
    /// Fragments that wait for their first one (RFC 6146 §4); it does not change a prediction of
    /// flows.
    pub fragment_min: Duration,
    /// Idle time of sessions of any other protocol.
    pub other: Duration,
    /// How long an address mapping of a pool outlives its last session.
    pub binding: Duration,
    /// By protocol and destination port as the initiator sent it, instead of the above (RFC 4787
    /// §4.3 REQ-5a).
    pub per_port: BTreeMap<(Protocol, u16), Duration>,
}

impl Default for Timers {
    fn default() -> Self {
        Self {
            udp: s(300),
            tcp_idle: s(7440),
            tcp_open: s(240),
            tcp_close: s(240),
            tcp_in_syn: s(6),
            icmp: s(60),
            fragment_min: s(2),
            other: s(120),
            binding: s(0),
            per_port: BTreeMap::new(),
        }
    }
}

impl Timers {
    /// Every timer that a plan may set, by name.
    pub const NAMES: [&'static str; 9] = [
        "udp-timeout",
        "tcp-idle-timeout",
        "tcp-trans-open-timeout",
        "tcp-trans-close-timeout",
        "tcp-in-syn-timeout",
        "icmp-timeout",
        "fragment-min-timeout",
        "other-timeout",
        "binding",
    ];

    /// The timer of this name.
    pub fn by_name(&mut self, name: &str) -> Option<&mut Duration> {
        Some(match name {
            "udp-timeout" => &mut self.udp,
            "tcp-idle-timeout" => &mut self.tcp_idle,
            "tcp-trans-open-timeout" => &mut self.tcp_open,
            "tcp-trans-close-timeout" => &mut self.tcp_close,
            "tcp-in-syn-timeout" => &mut self.tcp_in_syn,
            "icmp-timeout" => &mut self.icmp,
            "fragment-min-timeout" => &mut self.fragment_min,
            "other-timeout" => &mut self.other,
            "binding" => &mut self.binding,
            _ => return None,
        })
    }
}
