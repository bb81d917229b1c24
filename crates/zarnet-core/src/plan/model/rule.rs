//! Pools and translation rules.

use std::net::IpAddr;

use super::passage::{Parties, RealmSet};
use crate::ids::{InterfaceId, PoolId};
use crate::net::{AddressRange, AddressSet, PortRange, Prefix, Protocol, ServiceSet};
use crate::plan::{Pick, Place, Placed};

/// External addresses for sources to borrow.
#[derive(Debug, Clone)]
pub struct Pool {
    /// Its name; made up for a rule that names addresses itself.
    pub name: String,
    /// What it lists, and the prefix where it was written as one.
    pub parts: Vec<(AddressRange, Option<Prefix>)>,
    /// How an address is picked.
    pub pick: Pick,
    /// Whether network and broadcast addresses are used too.
    pub usable_all: bool,
    /// Whether it is of a plan that another has replaced.
    pub retired: bool,
    /// Where it stands in the plan's files.
    pub place: Place,
}

impl Pool {
    /// Everything that it lists.
    pub fn listed(&self) -> AddressSet {
        self.parts.iter().map(|p| p.0).collect()
    }

    /// What it lists and cannot hand out: network and broadcast addresses of its prefixes, unless
    /// `usable = "all"`.
    pub fn lost_to_prefixes(&self) -> impl Iterator<Item = IpAddr> {
        let prefixes = self
            .parts
            .iter()
            .filter(|_| !self.usable_all)
            .filter_map(|p| p.1.map(|prefix| (p.0, prefix)));
        prefixes.flat_map(|(range, prefix)| prefix.reserved().filter(move |a| range.contains(*a)))
    }
}

/// A translation rule of a device.
#[derive(Debug, Clone)]
pub struct Rule {
    /// Name of the rule, unique on its device.
    pub name: String,
    /// The type of the rule, with what only that type has.
    pub kind: RuleKind,
    /// Whether it takes part.
    pub enabled: bool,
    /// Whether it is of a plan that another has replaced: it stands for sessions that it made, and
    /// claims nothing.
    pub retired: bool,
    /// What it is for.
    pub note: Option<String>,
    /// What of its translations is logged.
    pub log: Log,
    /// Interfaces of the internal side.
    pub from: RealmSet,
    /// Interfaces of the external side.
    pub into: RealmSet,
    /// Senders: of a static or forward, those who may come in.
    pub parties: Parties,
    /// Services of the destination as the initiator sent it; of a static, those of its internal
    /// end.
    pub service: ServiceSet,
    /// Limit of dynamic mappings, or of sessions of a fixed rule.
    pub limit: Option<u32>,
    /// Interfaces of the realms whose hosts may use the external end.
    pub hairpin: RealmSet,
    /// Its lists as written.
    pub written: Written,
    /// Where it stands in the plan's files.
    pub place: Place,
}

/// The lists of a rule as written: notations and names of groups. Empty where a list is left out.
#[derive(Debug, Clone, Default)]
pub struct Written {
    /// Names of senders, as written.
    pub source: Vec<Placed<String>>,
    /// Names of receivers, as written.
    pub destination: Vec<Placed<String>>,
    /// Services of the rule, as written.
    pub service: Vec<Placed<String>>,
}

/// What of a rule's translations the device logs (RFC 8158 §5).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Log {
    /// Nothing.
    #[default]
    Nothing,
    /// Sessions made and ended.
    Sessions,
    /// Mappings made and ended.
    Mappings,
    /// Blocks of ports handed out and given back.
    Blocks,
}

/// What a rule does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RuleKind {
    /// Leaves matching traffic as it is.
    Exempt,
    /// The n-th internal address is the n-th external one.
    Static(Static),
    /// A whole address each.
    Pool {
        /// Where the addresses come from.
        pool: PoolId,
        /// What happens when they are used up.
        fallback: Fallback,
    },
    /// Many share an address, by port.
    Overload {
        /// The address or addresses.
        target: Target,
        /// What happens when they are used up.
        fallback: Fallback,
    },
    /// An external port leads to an internal endpoint.
    Forward(Forward),
}

impl RuleKind {
    /// Its name in a plan.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Exempt => "exempt",
            Self::Static(_) => "static",
            Self::Pool { .. } => "pool",
            Self::Overload { .. } => "overload",
            Self::Forward(_) => "forward",
        }
    }

    /// The single machines that it leads to: the internal ends of a forward, or of a static of one
    /// address.
    pub fn servers(&self) -> Vec<IpAddr> {
        match self {
            Self::Forward(f) => f.servers.iter().map(|s| s.address).collect(),
            Self::Static(s) if s.internal.count() == 1 => vec![s.internal.first()],
            Self::Static(_) | Self::Exempt | Self::Pool { .. } | Self::Overload { .. } => {
                Vec::new()
            }
        }
    }

    /// Whether its mappings are permanent: of a static or a forward.
    pub fn is_fixed(&self) -> bool {
        matches!(self, Self::Static(_) | Self::Forward(_))
    }
}

/// A permanent mapping of addresses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Static {
    /// Internal addresses, as many as external ones.
    pub internal: AddressRange,
    /// External addresses, as many.
    pub external: External,
    /// In which directions it is good.
    pub direction: Direction,
    /// What the sender of an arriving packet is overloaded to.
    pub translate_as: Option<Target>,
}

/// A permanent mapping of ports.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Forward {
    /// The external address, or the interface that has it.
    pub external: External,
    /// Number of the protocol above IP.
    pub protocol: Protocol,
    /// External ports, mapped in order.
    pub ports: PortRange,
    /// Internal endpoints, one of which each session gets.
    pub servers: Vec<Server>,
    /// How sessions are spread over them.
    pub spread: Spread,
    /// What the sender of an arriving packet is overloaded to.
    pub translate_as: Option<Target>,
}

/// External addresses of a fixed rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum External {
    /// The address of an interface, whatever it is at the time.
    Interface(InterfaceId),
    /// A range of addresses that the plan names.
    Range(AddressRange),
}

/// The internal end of a forward.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Server {
    /// Address of the server.
    pub address: IpAddr,
    /// The port that the first external port becomes.
    pub port: u16,
}

/// How sessions are spread over several servers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Spread {
    /// One after the other.
    InTurn,
    /// Always the same for the same source.
    BySource,
}

/// In which directions a static is good.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Direction {
    /// Both directions are translated.
    Both,
    /// Only sessions from inside are translated.
    Outbound,
    /// Only sessions from outside are translated.
    Inbound,
}

/// What sources are translated to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Target {
    /// The address of an interface, whatever it is at the time.
    Interface(InterfaceId),
    /// The addresses of a pool.
    Pool(PoolId),
    /// An address that the plan names.
    Address(IpAddr),
}

/// What happens when a rule's addresses or ports are used up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fallback {
    /// The packet is dropped.
    Drop,
    /// The packet passes untranslated.
    Pass,
    /// The source overloads this instead.
    Overload(Target),
}
