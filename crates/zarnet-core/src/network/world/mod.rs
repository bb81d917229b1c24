//! Who is where: owners of addresses on segments, the internet, and what is public.

mod build;

use std::collections::{HashMap, HashSet};
use std::net::IpAddr;

use foldhash::fast::RandomState;

use super::fate::Origin;
use crate::device::OwnSource;
use crate::net::{AddressRange, AddressSet, IntervalMap, PrefixMap};
use crate::plan::{DeviceId, HostId, InterfaceId, SegmentId};

/// All internet segments are joined under this number.
const INTERNET: SegmentId = SegmentId(u16::MAX);

/// Addresses that cannot be used on the internet: RFC 1918, 6598 and 6890, multicast and reserved
/// ones. Documentation and benchmark prefixes count as public here.
const SPECIAL: [&str; 17] = [
    "0.0.0.0/8",
    "10.0.0.0/8",
    "100.64.0.0/10",
    "127.0.0.0/8",
    "169.254.0.0/16",
    "172.16.0.0/12",
    "192.0.0.0/24",
    "192.168.0.0/16",
    "224.0.0.0/4",
    "240.0.0.0/4",
    "::/127",
    "::ffff:0:0/96",
    "64:ff9b:1::/48",
    "100::/64",
    "fc00::/7",
    "fe80::/10",
    "ff00::/8",
];

/// Somebody who answers for an address on a segment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Node {
    Host(HostId),
    Interface(DeviceId, InterfaceId),
}

/// Who answers for an address on a segment, whatever the traffic does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Answering {
    Node(Node),
    /// The router of the provider, at the far side of an external segment.
    Provider,
}

/// How the internet reaches an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Reach {
    /// It lies in the prefix of an interface: somebody there must answer for it.
    OnLink,
    /// It is routed to this next hop.
    Via(IpAddr),
}

/// Where the internet takes a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Way {
    /// To whoever answers for this address on the internet.
    Ask(IpAddr),
    /// To somebody outside of the plan.
    Peer,
    /// No route leads there.
    Unrouted,
    /// The address cannot be used there.
    Special,
}

/// An interface on a segment.
#[derive(Debug, Clone)]
pub(super) struct Attachment {
    pub device: DeviceId,
    pub interface: InterfaceId,
    proxy_arp: AddressSet,
}

/// What of the network does not change with its traffic.
#[derive(Debug, Clone)]
pub(super) struct World {
    /// By segment: its number, or the one of the internet.
    numbers: Vec<SegmentId>,
    owners: HashMap<(SegmentId, IpAddr), Node, RandomState>,
    attached: HashMap<SegmentId, Vec<Attachment>, RandomState>,
    /// Next hops and gateways on the internet that nobody in the plan has.
    provider: HashSet<IpAddr, RandomState>,
    special: AddressSet,
    /// What the following are for IPv4, each found by one search: who has an address, and how the
    /// internet reaches it.
    origin_v4: IntervalMap<Option<Origin>>,
    way_v4: IntervalMap<Way>,
    answering_v4: HashMap<u64, Answering, RandomState>,
    in_plan: AddressSet,
    /// Prefixes of interfaces before routed ones of the same length.
    reach: PrefixMap<Reach>,
    hosts: HashMap<IpAddr, HostId, RandomState>,
    devices: HashMap<IpAddr, DeviceId, RandomState>,
    /// Interfaces on other segments than the internet, by prefix.
    inside: PrefixMap<SegmentId>,
    /// Internal ends of rules: a machine is there, whether or not the plan declares it.
    servers: HashSet<IpAddr, RandomState>,
    /// Of interfaces on a segment that checks sources: those that it takes from there.
    lines: HashMap<(DeviceId, InterfaceId), AddressSet, RandomState>,
}

/// Addresses that no packet on the internet can be from or for (RFC 6890).
pub fn special() -> AddressSet {
    SPECIAL.iter().filter_map(|t| t.parse::<AddressRange>().ok()).collect()
}

impl World {
    pub(super) fn number(&self, segment: SegmentId) -> SegmentId {
        self.numbers[segment.index()]
    }

    pub(super) fn is_internet(&self, segment: SegmentId) -> bool {
        self.number(segment) == INTERNET
    }

    /// Whether an address can be a source or destination on the internet.
    #[inline]
    pub(super) fn is_public(&self, address: IpAddr) -> bool {
        match address {
            IpAddr::V4(a) => *self.way_v4.get(a.to_bits().into()) != Way::Special,
            IpAddr::V6(_) => !self.special.contains(address),
        }
    }

    /// Whether the internet takes a packet with this source from an interface (RFC 2827).
    #[inline]
    pub(super) fn is_of_line(
        &self,
        device: DeviceId,
        interface: InterfaceId,
        source: IpAddr,
    ) -> bool {
        self.lines.is_empty()
            || self.lines.get(&(device, interface)).is_none_or(|line| line.contains(source))
    }

    /// Whether the internet looks at sources that come from an interface.
    pub(super) fn checks_sources_of(&self, device: DeviceId, interface: InterfaceId) -> bool {
        self.lines.contains_key(&(device, interface))
    }

    /// Whether a rule of the plan says that a machine has an address.
    pub(super) fn is_server(&self, address: IpAddr) -> bool {
        self.servers.contains(&address)
    }

    fn is_peer(&self, address: IpAddr) -> bool {
        !self.special.contains(address) && !self.in_plan.contains(address)
    }

    /// Who has an address as a source of traffic.
    #[inline]
    pub(super) fn origin(&self, address: IpAddr) -> Option<Origin> {
        match address {
            IpAddr::V4(a) => *self.origin_v4.get(a.to_bits().into()),
            IpAddr::V6(_) => self.find_origin(address),
        }
    }

    fn find_origin(&self, address: IpAddr) -> Option<Origin> {
        if let Some(host) = self.hosts.get(&address) {
            return Some(Origin::Host(*host));
        }
        if let Some(device) = self.devices.get(&address) {
            return Some(Origin::Device(*device, OwnSource::Given));
        }
        if self.is_peer(address) {
            return Some(Origin::Peer);
        }
        // an undeclared host is where exactly one interface can be its gateway
        let mut holding = self.inside.holding(address).flatten();
        holding
            .next()
            .filter(|_| holding.next().is_none())
            .map(|segment| Origin::Undeclared(*segment))
    }

    /// Who answers for an address on a segment, whatever the traffic does.
    #[inline]
    pub(super) fn answering(&self, segment: SegmentId, address: IpAddr) -> Option<Answering> {
        match address {
            IpAddr::V4(a) => self.answering_v4.get(&key(segment, a.to_bits())).copied(),
            IpAddr::V6(_) => match self.owner(segment, address) {
                Some(node) => Some(Answering::Node(node)),
                None => (segment == INTERNET && self.is_provider(address))
                    .then_some(Answering::Provider),
            },
        }
    }

    /// Who owns an address on a segment.
    pub(super) fn owner(&self, segment: SegmentId, address: IpAddr) -> Option<Node> {
        self.owners.get(&(segment, address)).copied()
    }

    /// The interfaces on a segment.
    pub(super) fn attached(&self, segment: SegmentId) -> &[Attachment] {
        self.attached.get(&segment).map_or(&[], Vec::as_slice)
    }

    /// The interface that answers for an address on a segment because it is listed to.
    pub(super) fn proxy(&self, segment: SegmentId, address: IpAddr) -> Option<Node> {
        let mut all = self.attached(segment).iter();
        all.find(|a| a.proxy_arp.contains(address)).map(|a| Node::Interface(a.device, a.interface))
    }

    /// Whether the provider's router answers for an address.
    pub(super) fn is_provider(&self, address: IpAddr) -> bool {
        self.provider.contains(&address)
    }

    /// Where the internet takes a packet for an address.
    #[inline]
    pub(super) fn way(&self, address: IpAddr) -> Way {
        let IpAddr::V4(a) = address else { return self.find_way(address) };
        match *self.way_v4.get(a.to_bits().into()) {
            Way::Ask(IpAddr::V4(next)) if next.is_unspecified() => Way::Ask(address),
            way @ Way::Ask(_) | way @ Way::Peer | way @ Way::Unrouted | way @ Way::Special => way,
        }
    }

    /// Where origins and ways of IPv4 addresses change.
    pub(super) fn edges(&self) -> Vec<u64> {
        [self.origin_v4.edges(), self.way_v4.edges()].concat()
    }

    fn find_way(&self, address: IpAddr) -> Way {
        match self.reach.holding(address).next().and_then(|r| r.first().copied()) {
            _ if self.special.contains(address) => Way::Special,
            Some(_) if self.is_provider(address) => Way::Peer,
            Some(Reach::OnLink) => Way::Ask(address),
            Some(Reach::Via(via)) => Way::Ask(via),
            None if self.owner(INTERNET, address).is_some() => Way::Ask(address),
            None if self.is_peer(address) => Way::Peer,
            None => Way::Unrouted,
        }
    }

    pub(super) const INTERNET: SegmentId = INTERNET;
}

fn key(segment: SegmentId, address: u32) -> u64 {
    u64::from(segment.0) << 32 | u64::from(address)
}
