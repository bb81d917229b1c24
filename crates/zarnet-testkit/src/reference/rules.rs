//! What is declared: rules and behaviour.

use std::net::Ipv4Addr;

use zarnet_core::net::Protocol;

/// What a rule does.
#[derive(Debug, Clone)]
pub enum Kind {
    Static {
        internal: Ipv4Addr,
        external: Ipv4Addr,
        direction: &'static str,
    },
    /// Of a port of an interface; whether the sender is translated too, to 10.0.0.1.
    Forward {
        on: usize,
        protocol: Protocol,
        port: u16,
        servers: Vec<(Ipv4Addr, u16)>,
        in_turn: bool,
        both: bool,
    },
    Exempt {
        destination: Ipv4Addr,
    },
    Pool,
    Overload(To),
}

/// What a source is overloaded to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum To {
    /// The pool of two lines.
    Lines,
    /// The address of an interface.
    Interface(usize),
}

#[derive(Debug, Clone)]
pub struct Rule {
    pub name: &'static str,
    pub kind: Kind,
    pub source: Option<Ipv4Addr>,
    /// The one outer interface that it is for; both if `None`.
    pub into: Option<usize>,
    /// Of a dynamic rule.
    pub destination: Option<Ipv4Addr>,
    /// Protocol, first and last port.
    pub service: Option<(Protocol, u16, u16)>,
    pub hairpin: bool,
    pub limit: Option<usize>,
    pub when_exhausted: Exhausted,
    pub enabled: bool,
    /// Of a plan that is no more: it stands for the sessions that it made.
    pub retired: bool,
}

impl Rule {
    /// Whether its services hold a protocol and port.
    pub fn serves(&self, protocol: Protocol, port: u16) -> bool {
        self.service.is_none_or(|(p, first, last)| p == protocol && (first..=last).contains(&port))
    }

    /// Whether it is for what passes an interface outside.
    pub fn is_into(&self, interface: usize) -> bool {
        interface != FLOOR && self.into.is_none_or(|i| i == interface)
    }

    /// Whether a rule of another plan is the same one, as it is there.
    pub fn is(&self, other: &Self) -> bool {
        self.name == other.name
            && std::mem::discriminant(&self.kind) == std::mem::discriminant(&other.kind)
    }
}

/// What a rule does when its addresses are used up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exhausted {
    Drop,
    Pass,
    /// Overload of the uplink's address.
    Uplink,
}

/// Which of the peers that were not addressed before a mapping or a filter tells apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dependence {
    None,
    Address,
    Port,
}

#[derive(Debug, Clone)]
pub struct Behaviour {
    pub mapping: Dependence,
    pub filtering: Dependence,
    pub paired: bool,
    pub sequential: bool,
    pub parity: bool,
    pub pick: Pick,
    /// Four ports for all instead of the usual classes.
    pub few_ports: bool,
    pub fixed_first: bool,
    pub keep: bool,
    pub refresh_both: bool,
    pub ports_per_host: Option<usize>,
    pub max_mappings: Option<usize>,
    pub max_sessions: Option<usize>,
    pub binding: u64,
    /// How long a freed port rests; not of TCP.
    pub hold_down: u64,
    pub block_size: Option<u16>,
    /// One external end for several peers.
    pub overloading: bool,
    /// Whether the pool is written as four addresses of a /30 instead of its two usable ones.
    pub prefixed: bool,
    /// Whether it has no rules for ICMP queries.
    pub lacks_icmp: bool,
    /// Whether answers leave as they came.
    pub as_came: bool,
    pub translates_own: bool,
    pub ways: Ways,
    /// Whether the providers look at sources.
    pub checks: bool,
}

/// Default routes over the lane besides the one over the uplink, which is listed first.
#[derive(Debug, Clone)]
pub struct Ways {
    /// A rule for one sender only.
    pub of_source: Option<Ipv4Addr>,
    /// For what comes in by an interface.
    pub from: Option<usize>,
    /// A rule for all of them.
    pub plain: bool,
}

/// Interfaces by their numbers.
pub const FLOOR: usize = 0;
pub const UPLINK: usize = 1;
pub const LANE: usize = 2;

/// Which address of a pool comes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pick {
    Lowest,
    Highest,
    InTurn,
    BySource,
}
