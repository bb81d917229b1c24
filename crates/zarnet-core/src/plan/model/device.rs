//! A device: its interfaces and routes, and what is listed for it.

use std::net::IpAddr;

use super::passage::{Acl, Policy, RealmSet, Verdict};
use super::rule::{Pool, Rule};
use crate::ids::{AclId, InterfaceId, SegmentId};
use crate::net::{AddressSet, Prefix, ServiceSet};
use crate::plan::{Behaviour, Place, Timers};

/// A router or firewall between realms.
#[derive(Debug, Clone)]
pub struct DevicePlan {
    /// Name of the device, unique among hosts and devices.
    pub name: String,
    /// How the device translates where rules leave it open.
    pub behaviour: Behaviour,
    /// How long its state lasts.
    pub timers: Timers,
    /// Whether it forwards between interfaces.
    pub forwarding: bool,
    /// What happens to a packet that no policy entry names.
    pub default_policy: Verdict,
    /// Where `default-policy`, or else the device, stands.
    pub default_policy_place: Place,
    /// Interfaces in the order of the plan.
    pub interfaces: Vec<Interface>,
    /// Static routes, as listed.
    pub routes: Vec<Route>,
    /// Filters that interfaces name.
    pub acls: Vec<Acl>,
    /// Policy entries, as listed.
    pub policies: Vec<Policy>,
    /// Pools in the order of the plan.
    pub pools: Vec<Pool>,
    /// Rules in the order of the plan, which is their priority.
    pub rules: Vec<Rule>,
    /// Where it stands in the plan's files.
    pub place: Place,
}

/// A device's place on a segment.
#[derive(Debug, Clone)]
pub struct Interface {
    /// Name of the interface, unique on its device.
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
    /// Where it stands in the plan's files.
    pub place: Place,
}

impl Interface {
    /// What rules and policies call its side of the device: its realm, or its name without one.
    pub fn side(&self) -> &str {
        self.realm.as_deref().unwrap_or(&self.name)
    }

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

/// A static route of a device.
#[derive(Debug, Clone)]
pub struct Route {
    /// Destination prefix of the route.
    pub to: Prefix,
    /// Address of the next hop.
    pub via: IpAddr,
    /// The interface whose prefix holds the next hop.
    pub interface: InterfaceId,
    /// The packets that it is for; all of them if `None`.
    pub condition: Option<RouteCondition>,
    /// Where it stands in the plan's files.
    pub place: Place,
}

/// Which packets a route is for, besides their destination.
#[derive(Debug, Clone)]
pub struct RouteCondition {
    /// Senders, as they are before their translation.
    pub source: AddressSet,
    /// Where packets come in; anywhere, the device itself included, if `None`.
    pub from: Option<RealmSet>,
}

impl RouteCondition {
    /// Whether it holds for a packet: its sender, and where it came in, unless the device itself
    /// sends it.
    pub fn holds(&self, source: IpAddr, ingress: Option<InterfaceId>) -> bool {
        self.from
            .as_ref()
            .is_none_or(|realm_set| ingress.is_some_and(|i| realm_set.interfaces.contains(i)))
            && self.source.contains(source)
    }
}

impl Route {
    /// Whether it is for a packet: its destination and sender, and where it came in, unless the
    /// device itself sends it.
    pub fn is_for(
        &self,
        destination: IpAddr,
        source: IpAddr,
        ingress: Option<InterfaceId>,
    ) -> bool {
        self.to.contains(destination)
            && self.condition.as_ref().is_none_or(|c| c.holds(source, ingress))
    }
}
