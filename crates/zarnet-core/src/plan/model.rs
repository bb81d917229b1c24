//! A plan in which everything is resolved. What cannot be right cannot be written down here.

use std::collections::BTreeMap;
use std::fmt;
use std::net::IpAddr;

use super::{Behaviour, Expectation, Pick, Place, Placed, Timers};
use crate::ids::{AclId, DeviceId, HostId, InterfaceId, PoolId, SegmentId};
use crate::net::{AddressRange, AddressSet, PortRange, Prefix, Protocol, ServiceSet};

/// A whole plan.
#[derive(Debug, Clone, Default)]
pub struct Plan {
    /// What it is called.
    pub title: String,
    /// Segments, the inferred ones last.
    pub segments: Vec<Segment>,
    /// Hosts.
    pub hosts: Vec<Host>,
    /// Devices.
    pub devices: Vec<Device>,
    /// The named sets of addresses.
    pub groups: BTreeMap<String, AddressSet>,
    /// What must hold.
    pub expectations: Vec<Expectation>,
    /// Findings that are not to be told, by name.
    pub allow: Vec<String>,
    /// Findings that count as errors, by name.
    pub deny: Vec<String>,
}

impl Plan {
    /// The device of this name.
    pub fn device(&self, name: &str) -> Option<DeviceId> {
        self.devices.iter().position(|d| d.name == name).map(|i| DeviceId(i as u16))
    }

    /// The host of this name.
    pub fn host(&self, name: &str) -> Option<HostId> {
        self.hosts.iter().position(|h| h.name == name).map(|i| HostId(i as u16))
    }
}

/// One layer-2 network.
#[derive(Debug, Clone)]
pub struct Segment {
    /// Its name; the name of an interface on it where it was inferred.
    pub name: String,
    /// Whether nobody named it: then its prefix tells it from others, not its name.
    pub inferred: bool,
    /// Whether it stands for the public network.
    pub internet: bool,
    /// Whether it takes no packet from a source that is not of the line it comes in by (RFC 2827).
    pub checks_source: bool,
    /// What is routed to somebody on it.
    pub routed: Vec<Routed>,
    /// Where it stands; of an inferred one, what it was inferred from.
    pub place: Place,
}

/// A prefix and who on the segment gets its packets.
#[derive(Debug, Clone)]
pub struct Routed {
    /// The prefix.
    pub to: Prefix,
    /// The next hop.
    pub via: IpAddr,
    /// Where it stands.
    pub place: Place,
}

/// A machine that sends and answers.
#[derive(Debug, Clone)]
pub struct Host {
    /// Its name.
    pub name: String,
    /// Its address.
    pub address: IpAddr,
    /// What it takes to be on its link.
    pub prefix: Prefix,
    /// Its default gateway.
    pub gateway: Option<IpAddr>,
    /// What it answers; everything if `None`.
    pub listens: Option<ServiceSet>,
    /// The segment it is on.
    pub segment: SegmentId,
    /// Where it stands.
    pub place: Place,
}

/// A router or firewall between realms.
#[derive(Debug, Clone)]
pub struct Device {
    /// Its name.
    pub name: String,
    /// How it behaves.
    pub behaviour: Behaviour,
    /// How long its state lasts.
    pub timers: Timers,
    /// Whether it forwards between interfaces.
    pub forwarding: bool,
    /// What happens to a packet that no policy entry names.
    pub default_policy: Verdict,
    /// Where `default-policy`, or else the device, stands.
    pub default_policy_place: Place,
    /// Interfaces.
    pub interfaces: Vec<Interface>,
    /// Static routes, as listed.
    pub routes: Vec<Route>,
    /// Filters.
    pub acls: Vec<Acl>,
    /// Policy entries, as listed.
    pub policies: Vec<Policy>,
    /// Pools.
    pub pools: Vec<Pool>,
    /// Rules, as listed.
    pub rules: Vec<Rule>,
    /// Where it stands.
    pub place: Place,
}

/// Accept or drop.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// Let it pass.
    Accept,
    /// Do not.
    Drop,
}

/// A device's place on a segment.
#[derive(Debug, Clone)]
pub struct Interface {
    /// Its name.
    pub name: String,
    /// The realm it faces.
    pub realm: Option<String>,
    /// The segment it is on.
    pub segment: SegmentId,
    /// Its addresses; the first is the one that overloads use.
    pub addresses: Vec<(IpAddr, Prefix)>,
    /// Whether the address is assigned dynamically.
    pub lease: bool,
    /// Further addresses of its own.
    pub also: Vec<IpAddr>,
    /// Addresses it answers ARP for.
    pub proxy_arp: AddressSet,
    /// Whether it answers echo requests.
    pub ping: bool,
    /// Services that the device offers on it.
    pub services: ServiceSet,
    /// Filter on what comes in.
    pub ingress_acl: Option<AclId>,
    /// Filter on what goes out.
    pub egress_acl: Option<AclId>,
    /// Where it stands.
    pub place: Place,
}

impl Interface {
    /// Its first IPv4 address, which overloads onto it use.
    pub fn primary(&self) -> Option<IpAddr> {
        self.addresses.iter().map(|a| a.0).find(IpAddr::is_ipv4)
    }

    /// The address that it sends from to a destination: its first of that family.
    pub fn address_for(&self, destination: IpAddr) -> Option<IpAddr> {
        self.addresses.iter().map(|a| a.0).find(|a| a.is_ipv4() == destination.is_ipv4())
    }

    /// Its own addresses: those of its prefixes, and those that it has besides.
    pub fn own(&self) -> impl Iterator<Item = IpAddr> + '_ {
        self.addresses.iter().map(|a| a.0).chain(self.also.iter().copied())
    }

    /// Whether `address` is one of its own.
    pub fn owns(&self, address: IpAddr) -> bool {
        self.addresses.iter().any(|a| a.0 == address) || self.also.contains(&address)
    }
}

/// A static route.
#[derive(Debug, Clone)]
pub struct Route {
    /// Destination.
    pub to: Prefix,
    /// Next hop.
    pub via: IpAddr,
    /// The interface whose prefix holds the next hop.
    pub interface: InterfaceId,
    /// The packets that it is for; all of them if `None`.
    pub condition: Option<RouteCondition>,
    /// Where it stands.
    pub place: Place,
}

/// Which packets a route is for, besides their destination.
#[derive(Debug, Clone)]
pub struct RouteCondition {
    /// Senders, as they are before their translation.
    pub source: AddressSet,
    /// Where packets come in; anywhere, the device itself included, if `None`.
    pub from: Option<Zone>,
}

impl RouteCondition {
    /// Whether it holds for a packet: its sender, and where it came in, unless the device itself sends it.
    pub fn holds(&self, source: IpAddr, ingress: Option<InterfaceId>) -> bool {
        self.from.as_ref().is_none_or(|zone| ingress.is_some_and(|i| zone.interfaces.contains(i)))
            && self.source.contains(source)
    }
}

impl Route {
    /// Whether it is for a packet: its destination and sender, and where it came in, unless the device itself sends it.
    pub fn is_for(&self, destination: IpAddr, source: IpAddr, ingress: Option<InterfaceId>) -> bool {
        self.to.contains(destination) && self.condition.as_ref().is_none_or(|c| c.holds(source, ingress))
    }
}

/// A filter: first entry that matches, implicit drop at its end.
#[derive(Debug, Clone)]
pub struct Acl {
    /// Its name.
    pub name: String,
    /// Its entries.
    pub entries: Vec<AclEntry>,
    /// Where it stands.
    pub place: Place,
}

/// An entry of a filter.
#[derive(Debug, Clone)]
pub struct AclEntry {
    /// What it decides.
    pub verdict: Verdict,
    /// Services by destination port.
    pub service: ServiceSet,
    /// Services by source port.
    pub source_service: ServiceSet,
    /// Who and to whom.
    pub parties: Parties,
    /// Only packets of a known session, against its initiator's direction.
    pub answers: bool,
    /// Where it stands.
    pub place: Place,
}

/// Senders and receivers.
#[derive(Debug, Clone)]
pub struct Parties {
    /// Senders.
    pub source: AddressSet,
    /// Receivers.
    pub destination: AddressSet,
}

/// A policy entry between realms.
#[derive(Debug, Clone)]
pub struct Policy {
    /// Where packets come from; anywhere if `None`.
    pub from: Option<Zone>,
    /// Where they go; anywhere if `None`.
    pub into: Option<Zone>,
    /// What it decides.
    pub verdict: Verdict,
    /// Services.
    pub service: ServiceSet,
    /// Who and to whom.
    pub parties: Parties,
    /// Where it stands.
    pub place: Place,
}

/// Realms or interfaces by name, and the interfaces that this comes to.
#[derive(Debug, Clone, Default)]
pub struct Zone {
    /// The names as written; for a default without a place of their own, the rule's.
    pub names: Vec<Placed<String>>,
    /// The interfaces in them.
    pub interfaces: InterfaceSet,
}

/// A set of interfaces of one device.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct InterfaceSet(Vec<u64>);

impl InterfaceSet {
    /// Adds an interface.
    pub fn insert(&mut self, id: InterfaceId) {
        let word = id.index() / 64;
        if self.0.len() <= word {
            self.0.resize(word + 1, 0);
        }
        self.0[word] |= 1 << (id.index() % 64);
    }

    /// Adds the interfaces of another set.
    pub fn extend(&mut self, other: &Self) {
        self.0.resize(self.0.len().max(other.0.len()), 0);
        self.0.iter_mut().zip(&other.0).for_each(|(word, more)| *word |= more);
    }

    /// Whether it holds an interface.
    pub fn contains(&self, id: InterfaceId) -> bool {
        self.0.get(id.index() / 64).is_some_and(|w| w >> (id.index() % 64) & 1 == 1)
    }

    /// Whether the two share an interface.
    pub fn intersects(&self, other: &Self) -> bool {
        self.0.iter().zip(&other.0).any(|(a, b)| a & b != 0)
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool {
        self.0.iter().all(|w| *w == 0)
    }
}

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
    /// Where it stands.
    pub place: Place,
}

impl Pool {
    /// Everything that it lists.
    pub fn listed(&self) -> AddressSet {
        self.parts.iter().map(|p| p.0).collect()
    }

    /// What it lists and cannot hand out: network and broadcast addresses of its prefixes, unless `usable = "all"`.
    pub fn lost_to_prefixes(&self) -> impl Iterator<Item = IpAddr> {
        let prefixes = self.parts.iter().filter(|_| !self.usable_all).filter_map(|p| p.1.map(|prefix| (p.0, prefix)));
        prefixes.flat_map(|(range, prefix)| prefix.reserved().filter(move |a| range.contains(*a)))
    }
}

/// A translation rule.
#[derive(Debug, Clone)]
pub struct Rule {
    /// Its name.
    pub name: String,
    /// What it does.
    pub kind: RuleKind,
    /// Whether it takes part.
    pub enabled: bool,
    /// Whether it is of a plan that another has replaced: it stands for sessions that it made, and claims nothing.
    pub retired: bool,
    /// What it is for.
    pub note: Option<String>,
    /// What of its translations is logged.
    pub log: Log,
    /// The internal side.
    pub from: Zone,
    /// The external side.
    pub into: Zone,
    /// Senders: of a static or forward, those who may come in.
    pub parties: Parties,
    /// Services of the destination as the initiator sent it; of a static, those of its internal end.
    pub service: ServiceSet,
    /// Limit of dynamic mappings, or of sessions of a fixed rule.
    pub limit: Option<u32>,
    /// Interfaces of the realms whose hosts may use the external end.
    pub hairpin: Zone,
    /// Its lists as written.
    pub written: Written,
    /// Where it stands.
    pub place: Place,
}

/// The lists of a rule as written: notations and names of groups. Empty where a list is left out.
#[derive(Debug, Clone, Default)]
pub struct Written {
    /// Senders.
    pub source: Vec<Placed<String>>,
    /// Receivers.
    pub destination: Vec<Placed<String>>,
    /// Services.
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
#[derive(Debug, Clone)]
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

    /// The single machines that it leads to: the internal ends of a forward, or of a static of one address.
    pub fn servers(&self) -> Vec<IpAddr> {
        match self {
            Self::Forward(f) => f.servers.iter().map(|s| s.address).collect(),
            Self::Static(s) if s.internal.count() == 1 => vec![s.internal.first()],
            Self::Static(_) | Self::Exempt | Self::Pool { .. } | Self::Overload { .. } => Vec::new(),
        }
    }

    /// Whether its mappings are permanent: of a static or a forward.
    pub fn is_fixed(&self) -> bool {
        matches!(self, Self::Static(_) | Self::Forward(_))
    }
}

/// A permanent mapping of addresses.
#[derive(Debug, Clone)]
pub struct Static {
    /// Internal addresses.
    pub internal: AddressRange,
    /// External addresses, as many.
    pub external: External,
    /// In which directions it is good.
    pub direction: Direction,
    /// What the sender of an arriving packet is overloaded to.
    pub translate_as: Option<Target>,
}

/// A permanent mapping of ports.
#[derive(Debug, Clone)]
pub struct Forward {
    /// External address.
    pub external: External,
    /// Its protocol.
    pub protocol: Protocol,
    /// External ports.
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
    /// These.
    Range(AddressRange),
}

/// The internal end of a forward.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Server {
    /// Its address.
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
    /// Both.
    Both,
    /// From inside only.
    Outbound,
    /// From outside only.
    Inbound,
}

/// What sources are translated to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Target {
    /// The address of an interface, whatever it is at the time.
    Interface(InterfaceId),
    /// The addresses of a pool.
    Pool(PoolId),
    /// This address.
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

impl fmt::Display for Verdict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if *self == Self::Accept { "accept" } else { "drop" })
    }
}
