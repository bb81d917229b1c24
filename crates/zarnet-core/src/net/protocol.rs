//! Protocols above IP, by number and by name.

use std::fmt;
use std::str::FromStr;

use super::NotationError;

/// An IP protocol number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Protocol(pub u8);

/// Names of the protocols that the trade meets daily; any other is written by its number.
const NAMES: [(&str, Protocol); 9] = [
    ("tcp", Protocol::TCP),
    ("udp", Protocol::UDP),
    ("icmp", Protocol::ICMP),
    ("icmpv6", Protocol::ICMPV6),
    ("gre", Protocol(47)),
    ("esp", Protocol(50)),
    ("ah", Protocol(51)),
    ("sctp", Protocol::SCTP),
    ("dccp", Protocol::DCCP),
];

const PORTS: u8 = 1;
const QUERY_ID: u8 = 2;

/// What packets of a protocol carry: looked up, not decided, for which protocol comes next is hard
/// to guess.
const CARRIED: [u8; 256] = {
    let mut carried = [0; 256];
    let mut i = 0;
    while i < 256 {
        carried[i] = match Protocol(i as u8) {
            Protocol::TCP | Protocol::UDP | Protocol::DCCP | Protocol::SCTP => PORTS,
            Protocol::ICMP | Protocol::ICMPV6 => QUERY_ID,
            _ => 0,
        };
        i += 1;
    }
    carried
};

impl Protocol {
    /// ICMP for IPv4 (RFC 792).
    pub const ICMP: Self = Self(1);
    /// TCP, protocol number 6 (RFC 9293).
    pub const TCP: Self = Self(6);
    /// UDP, protocol number 17 (RFC 768).
    pub const UDP: Self = Self(17);
    /// DCCP, protocol number 33 (RFC 4340).
    pub const DCCP: Self = Self(33);
    /// ICMP for IPv6 (RFC 4443).
    pub const ICMPV6: Self = Self(58);
    /// SCTP, protocol number 132 (RFC 9260).
    pub const SCTP: Self = Self(132);

    /// Whether its packets carry ports.
    #[inline(always)]
    pub fn has_ports(self) -> bool {
        CARRIED[usize::from(self.0)] & PORTS != 0
    }

    /// Whether its queries carry an identifier that takes the place of a port (RFC 5508 §3.1).
    #[inline(always)]
    pub fn has_query_id(self) -> bool {
        CARRIED[usize::from(self.0)] & QUERY_ID != 0
    }

    /// Whether it can be translated by port or query id.
    #[inline(always)]
    pub fn is_multiplexed(self) -> bool {
        CARRIED[usize::from(self.0)] != 0
    }

    /// Its name, if it has one here.
    pub fn name(self) -> Option<&'static str> {
        NAMES.iter().find(|(_, p)| *p == self).map(|(n, _)| *n)
    }

    /// All names that parse.
    pub fn names() -> impl Iterator<Item = &'static str> {
        NAMES.iter().map(|(n, _)| *n)
    }
}

impl fmt::Display for Protocol {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.name() {
            Some(name) => f.pad(name),
            None => self.0.fmt(f),
        }
    }
}

impl FromStr for Protocol {
    type Err = NotationError;

    fn from_str(text: &str) -> Result<Self, NotationError> {
        let wrong = || NotationError::Protocol(text.into());
        if let Some((_, p)) = NAMES.iter().find(|(n, _)| n.eq_ignore_ascii_case(text)) {
            return Ok(*p);
        }
        if text.is_empty() || !text.bytes().all(|c| c.is_ascii_digit()) {
            return Err(wrong());
        }
        text.parse().map(Self).map_err(|_| wrong())
    }
}
