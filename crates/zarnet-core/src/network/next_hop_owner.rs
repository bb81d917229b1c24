//! Who answers for the next address of a packet.

use super::world::{Answering, Node};
use super::{Network, Origin};
use crate::net::Instant;
use crate::observe::NextHopOwner;
use crate::plan::SegmentId;
use std::net::IpAddr;

/// Somebody of the plan, or somebody who is not.
pub(super) enum Found {
    Node(Node),
    Peer,
}

impl Found {
    /// The same as told to an observer; somebody who is not of the plan is an `outsider`.
    pub(super) fn owner(&self, outsider: NextHopOwner) -> NextHopOwner {
        match self {
            Self::Node(node) => node.owner(),
            Self::Peer => outsider,
        }
    }
}

impl Answering {
    pub(super) fn owner(self) -> NextHopOwner {
        match self {
            Self::Node(node) => node.owner(),
            Self::Provider => NextHopOwner::Provider,
        }
    }
}

impl Node {
    pub(super) fn owner(self) -> NextHopOwner {
        match self {
            Self::Host(id) => NextHopOwner::Host(id),
            Self::Interface(device, interface) => NextHopOwner::Interface(device, interface),
        }
    }
}

impl Network {
    /// Owner before listed proxies before what rules and mappings need; of these, what is due has
    /// expired.
    pub(super) fn answering(
        &mut self,
        now: Instant,
        segment: SegmentId,
        address: IpAddr,
    ) -> Option<Answering> {
        let known = self.world.answering(segment, address);
        if known.is_some() {
            return known;
        }
        let node = self.world.proxy(segment, address).or_else(|| {
            let devices = &mut self.devices;
            let found = self.world.attached(segment).iter().find(|a| {
                let device = &mut devices[a.device.index()];
                device.expire(now);
                device.answers_for_translated(a.interface, address)
            });
            found.map(|a| Node::Interface(a.device, a.interface))
        });
        node.map(Answering::Node)
    }

    /// Who answers on a segment that is not the internet; `Peer` stands for an undeclared host.
    pub(super) fn who(
        &mut self,
        now: Instant,
        segment: SegmentId,
        address: IpAddr,
        home: IpAddr,
    ) -> Option<Found> {
        if let Some(Answering::Node(node)) = self.world.answering(segment, address) {
            return Some(Found::Node(node));
        }
        let may_be_host = self.world.origin(address) == Some(Origin::Undeclared(segment));
        // it is there if it sends somewhere in the traffic, or if a rule says so that leads there
        let sends = self.sources.as_ref().map(|sources| sources.contains(&address));
        if may_be_host && (address == home || sends == Some(true)) {
            return Some(Found::Peer);
        }
        let answering = self.answering(now, segment, address);
        if let Some(Answering::Node(node)) = answering {
            self.missed_source |= may_be_host && sends.is_none();
            return Some(Found::Node(node));
        }
        if may_be_host && self.world.is_server(address) {
            return Some(Found::Peer);
        }
        self.missed_source |= may_be_host && sends.is_none();
        None
    }
}
