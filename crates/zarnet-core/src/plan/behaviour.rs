//! How a device behaves where devices may differ; named as RFC 4787 and its successors name it.

use std::time::Duration;

/// What of a peer matters: for reuse of a mapping (RFC 4787 §4.1) or for entering through it (§5).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dependence {
    /// Endpoint-independent: nothing of the far end counts.
    EndpointIndependent,
    /// Address-dependent: the address of the far end counts.
    AddressDependent,
    /// Its address and port.
    AddressAndPortDependent,
}

/// How an external port is found (RFC 4787 §4.2.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PortAssignment {
    /// The internal port if it is free, else the next free one upward.
    Preserve,
    /// The next free one after the last one handed out.
    Sequential,
    /// Any free one, seeded (RFC 6056).
    Random,
}

/// How an address of a pool is found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pick {
    /// The lowest free one.
    Lowest,
    /// The highest free one.
    Highest,
    /// The next free one after the last one handed out.
    InTurn,
    /// Any free one, seeded.
    Random,
    /// The one that the source address leads to, else the next free one upward.
    BySource,
}

impl Pick {
    /// All of them by their names in a plan.
    pub const NAMES: [(&str, Self); 5] = [
        ("lowest", Self::Lowest),
        ("highest", Self::Highest),
        ("in-turn", Self::InTurn),
        ("random", Self::Random),
        ("by-source", Self::BySource),
    ];

    /// Its name in a plan.
    pub fn name(self) -> &'static str {
        Self::NAMES.iter().find(|n| n.1 == self).map_or("", |n| n.0)
    }
}

/// In which order source rules are looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RuleOrder {
    /// Addresses in the order of the list.
    Listed,
    /// Exempt, static and forward before pool and overload, narrower before wider.
    FixedFirst,
}

/// What a hairpinned packet shows as its source (RFC 4787 §6 REQ-9a).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HairpinSource {
    /// The external end that the sender has.
    External,
    /// The internal end of the sender.
    Keep,
}

/// Internal ports of one range become external ports of another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PortClass {
    /// Lowest and highest internal port.
    pub from: (u16, u16),
    /// Lowest and highest external port.
    pub into: (u16, u16),
}

/// Every choice that a device makes for itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Behaviour {
    /// When a new peer reuses a mapping.
    pub mapping: Dependence,
    /// Which peers may enter through a dynamic mapping.
    pub filtering: Dependence,
    /// Whether a host keeps one external address (RFC 4787 §4.1 REQ-2).
    pub paired: bool,
    /// How an external port is found.
    pub port_assignment: PortAssignment,
    /// Which external ports an internal port may become; sorted, covering 1-65535.
    pub port_classes: Vec<PortClass>,
    /// Whether odd stays odd and even stays even.
    pub port_parity: bool,
    /// Whether one external end may serve several peers at once.
    pub port_overloading: bool,
    /// Endpoint mappings that one internal host may have (RFC 6888 §3 REQ-4).
    pub ports_per_host: Option<u32>,
    /// Ports are handed out in blocks of this size (RFC 7422).
    pub block_size: Option<u16>,
    /// Dynamic mappings on the whole device.
    pub max_mappings: Option<u64>,
    /// Sessions on the whole device.
    pub max_sessions: Option<u64>,
    /// What a hairpinned packet shows as its source.
    pub hairpin_source: HairpinSource,
    /// In which order source rules are looked at.
    pub rule_order: RuleOrder,
    /// Whether the policy looks at the destination as translated.
    pub policy_sees_translated: bool,
    /// Whether interfaces answer ARP for what rules and mappings need.
    pub answers_arp_for_translated: bool,
    /// How long a freed external port rests (RFC 6888 §3 REQ-8).
    pub hold_down: Duration,
    /// Whether inbound packets keep a UDP mapping alive too (RFC 4787 §4.3 REQ-6).
    pub refresh_both: bool,
    /// Whether answers leave by the interface that their session came in by, whatever the routes
    /// say.
    pub answers_leave_as_came: bool,
    /// Whether the device's own traffic is looked at by rules, as if it had come in by the
    /// interface that it is from.
    pub translates_own: bool,
    /// What this device lacks.
    pub cannot: Vec<Lack>,
}

impl Behaviour {
    /// The position of a port's class; 0 counts as in the class of 1. A built plan has a class for
    /// every port.
    pub fn port_class(&self, port: u16) -> usize {
        self.port_classes.iter().position(|c| port.max(1) <= c.from.1).unwrap_or(0)
    }
}

/// A name under which a set of choices is known here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Preset {
    /// What the best current practices ask for: the defaults.
    Bcp,
    /// Everything depends on the peer.
    Symmetric,
    /// Many subscribers behind few addresses (RFC 6888, 7422).
    Carrier,
}

impl Preset {
    /// Every preset with its name.
    pub const ALL: [(&'static str, Self); 3] =
        [("bcp", Self::Bcp), ("symmetric", Self::Symmetric), ("carrier", Self::Carrier)];

    /// What it stands for.
    pub fn behaviour(self) -> Behaviour {
        let class = |a, b| PortClass { from: (a, b), into: (a, b) };
        let bcp = Behaviour {
            mapping: Dependence::EndpointIndependent,
            filtering: Dependence::EndpointIndependent,
            paired: true,
            port_assignment: PortAssignment::Preserve,
            port_classes: vec![class(1, 1023), class(1024, u16::MAX)],
            port_parity: false,
            port_overloading: false,
            ports_per_host: None,
            block_size: None,
            max_mappings: None,
            max_sessions: None,
            hairpin_source: HairpinSource::External,
            rule_order: RuleOrder::Listed,
            policy_sees_translated: true,
            answers_arp_for_translated: true,
            hold_down: Duration::ZERO,
            refresh_both: false,
            answers_leave_as_came: false,
            translates_own: false,
            cannot: Vec::new(),
        };
        match self {
            Self::Bcp => bcp,
            Self::Symmetric => Behaviour {
                mapping: Dependence::AddressAndPortDependent,
                filtering: Dependence::AddressAndPortDependent,
                port_assignment: PortAssignment::Random,
                ..bcp
            },
            Self::Carrier => Behaviour {
                port_assignment: PortAssignment::Random,
                block_size: Some(256),
                ports_per_host: Some(1024),
                hold_down: Duration::from_secs(120),
                ..bcp
            },
        }
    }
}

/// Something that a device cannot do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lack {
    /// A forward to another port.
    PortChange,
    /// Hairpin traffic (RFC 4787 REQ-9).
    Hairpin,
    /// ICMP in a rule; no rule takes part for ICMP queries.
    Icmp,
    /// Ranges of addresses or ports in a fixed rule.
    Ranges,
    /// A forward to several servers.
    Spread,
    /// Source and destination in one rule.
    BothEnds,
}

impl Lack {
    /// Every lack with its name.
    pub const ALL: [(&'static str, Self); 6] = [
        ("port-change", Self::PortChange),
        ("hairpin", Self::Hairpin),
        ("icmp", Self::Icmp),
        ("ranges", Self::Ranges),
        ("spread", Self::Spread),
        ("both-ends", Self::BothEnds),
    ];

    /// The stable name, as plans have it.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(_, l)| *l == self).map_or("", |(n, _)| n)
    }
}
