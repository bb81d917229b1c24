//! How a packet comes to its receiver, or is lost on the way.

use std::net::IpAddr;

use zarnet_core::net::Packet;

use super::{Became, Estate, FLOOR, Fate, Origin, Out, Passage, Receiver, Refused, is_special};

impl Estate {
    pub(super) fn origin(&self, address: IpAddr) -> Option<Origin> {
        match self.model.link_of(address) {
            _ if self.model.is_own(address) => Some(Origin::Device(false)),
            Some(FLOOR) => Some(Origin::Host),
            // the provider's router is a peer too
            Some(_) if self.is_provider(address) => Some(Origin::Peer),
            Some(_) => None,
            None => Some(Origin::Peer),
        }
    }

    /// Multicast, broadcast, and what is from or to a link-local address.
    pub(super) fn stays_on_link(&self, origin: Origin, to: IpAddr) -> bool {
        let IpAddr::V4(a) = to else { return false };
        let broadcast = a.octets() == [10, 0, 0, 255] && origin != Origin::Peer
            || matches!(origin, Origin::Device(_))
                && [[192, 0, 2, 15], [203, 0, 113, 15]].contains(&a.octets());
        a.is_multicast() || a.is_broadcast() || a.is_link_local() || broadcast
    }

    /// Whether a machine on the floor has an address, apart from whoever a rule says is there.
    fn exists(&self, address: IpAddr, home: IpAddr) -> bool {
        address == home || self.sources.contains(&address)
    }

    pub(super) fn send(
        &mut self,
        now: u64,
        origin: Origin,
        p: Packet,
        home: IpAddr,
        passed: &mut Vec<Passage>,
    ) -> Fate {
        let to = p.destination().address;
        let link = self.model.link_of(to);
        match origin {
            Origin::Host if link == Some(FLOOR) => match self.on_floor(now, to, home) {
                Some(true) => self.at_device(now, FLOOR, p, home, passed),
                Some(false) => Fate::Arrived(Receiver::Host, p),
                None => Fate::Lost("nobody-answers", false, None),
            },
            Origin::Host => self.at_device(now, FLOOR, p, home, passed),
            Origin::Peer if is_special(to) => {
                Fate::Lost("private-address-on-internet", false, None)
            }
            Origin::Peer => match link {
                None => Fate::Arrived(Receiver::Peer, p),
                Some(_) if self.is_provider(to) => Fate::Arrived(Receiver::Peer, p),
                Some(i) => {
                    self.model.expire(now);
                    match self.model.answers_for(i, to) {
                        true => self.at_device(now, i, p, home, passed),
                        false => Fate::Lost("nobody-answers", false, None),
                    }
                }
            },
            Origin::Device(alone) => {
                let became = self.model.originate(now, alone, p);
                self.sent_on(now, p, became, home, passed)
            }
        }
    }

    /// Who answers on the floor for an address: the device, or a host.
    fn on_floor(&mut self, now: u64, to: IpAddr, home: IpAddr) -> Option<bool> {
        if self.model.is_own(to) {
            return Some(true);
        }
        if self.exists(to, home) {
            return Some(false);
        }
        self.model.expire(now);
        if self.model.answers_for(FLOOR, to) {
            return Some(true);
        }
        self.model.is_server(to).then_some(false)
    }

    fn is_provider(&self, address: IpAddr) -> bool {
        let routers = [[192, 0, 2, 14], [203, 0, 113, 14]];
        matches!(address, IpAddr::V4(a) if routers.contains(&a.octets()))
    }

    fn at_device(
        &mut self,
        now: u64,
        ingress: usize,
        p: Packet,
        home: IpAddr,
        passed: &mut Vec<Passage>,
    ) -> Fate {
        let became = self.model.receive(now, ingress, p);
        self.sent_on(now, p, became, home, passed)
    }

    fn sent_on(
        &mut self,
        now: u64,
        p: Packet,
        became: Result<Became, Refused>,
        home: IpAddr,
        passed: &mut Vec<Passage>,
    ) -> Fate {
        match became {
            Err((reason, rule)) => Fate::Lost(reason, true, rule),
            Ok(Became::Answered(out)) => Fate::Arrived(Receiver::Answering(out), p),
            Ok(Became::Taken(ends, session)) => {
                if session.is_some() {
                    let session = session.map(|s| (s, self.model.goes_forth(s, p)));
                    passed.push(Passage { changed: ends != p.ends, unchanged: None, session });
                }
                Fate::Arrived(Receiver::Device, Packet { ends, ..p })
            }
            Ok(Became::Leaves(out)) => {
                let Out { ends, unchanged, session, .. } = out;
                let session = session.map(|s| (s, self.model.goes_forth(s, p)));
                passed.push(Passage { changed: ends != p.ends, unchanged, session });
                self.leave(now, Packet { ends, ..p }, out.egress, home)
            }
        }
    }

    /// What becomes of a packet that the device has sent out by an interface.
    pub(super) fn leave(&mut self, now: u64, p: Packet, egress: usize, home: IpAddr) -> Fate {
        let (from, to) = (p.source().address, p.destination().address);
        let lost = |reason| Fate::Lost(reason, true, None);
        if egress == FLOOR {
            return match self.on_floor(now, to, home) {
                Some(false) => Fate::Arrived(Receiver::Host, p),
                _ => lost("nobody-answers"),
            };
        }
        if is_special(from) {
            return lost("private-address-on-internet");
        }
        if self.model.checks() && self.model.link_of(from) != Some(egress) {
            return lost("source-of-other-line");
        }
        if is_special(to) {
            return lost("private-address-on-internet");
        }
        match self.model.link_of(to) {
            None => Fate::Arrived(Receiver::Peer, p),
            Some(_) if self.is_provider(to) => Fate::Arrived(Receiver::Peer, p),
            Some(_) => lost("nobody-answers"),
        }
    }
}
