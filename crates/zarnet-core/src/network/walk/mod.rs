//! The walk of one packet: from segment to segment, through the devices in between.

mod arrival;

use std::net::IpAddr;

use super::next_hop_owner::Found;
use super::world::{Answering, Node, Way, World};
use super::{Fate, Loss, Network, Origin, Passage, Receiver};
use crate::device::{Forwarded, Outcome, OwnSource, Refusal, Taken};
use crate::net::{Instant, Packet};
use crate::observe::{NextHopOwner, Observer};
use crate::plan::{DeviceId, Host, InterfaceId, SegmentId};
use crate::reason::Reason;

/// A packet that passes more devices than this is in a loop.
const MOST_DEVICES: usize = 32;

/// A packet on a segment, on its way to a next hop.
struct Leg {
    segment: SegmentId,
    next_hop: IpAddr,
    packet: Packet,
    /// The device that sent it here, and by which interface.
    from: Option<(DeviceId, InterfaceId)>,
}

/// What stays the same all along the way of a packet.
struct Trip<'a, O> {
    now: Instant,
    /// The address of whoever began the conversation.
    home: IpAddr,
    /// Whether the packet answers another, so that no listener is needed.
    answers: bool,
    passages: &'a mut Vec<Passage>,
    observer: &'a mut O,
}

impl Leg {
    fn lost(&self, reason: Reason) -> Fate {
        Fate::Lost(Loss { reason, device: self.device(), rule: None, place: None })
    }

    fn device(&self) -> Option<DeviceId> {
        self.from.map(|f| f.0)
    }
}

impl Network {
    /// Sends a first packet. `passages` gets the devices that it passes.
    pub fn send<O: Observer>(
        &mut self,
        now: Instant,
        origin: Origin,
        packet: Packet,
        passages: &mut Vec<Passage>,
        observer: &mut O,
    ) -> Fate {
        let mut trip =
            Trip { now, home: packet.source().address, answers: false, passages, observer };
        self.depart(&mut trip, origin, packet)
    }

    /// Sends the answer to a packet that arrived. `asked` is the packet as its initiator sent it.
    pub fn answer<O: Observer>(
        &mut self,
        now: Instant,
        receiver: Receiver,
        arrived: Packet,
        (origin, asked): (Origin, Packet),
        passages: &mut Vec<Passage>,
        observer: &mut O,
    ) -> Fate {
        let (answer, home) = (arrived.answer(), asked.source().address);
        let before = passages.len();
        let mut trip = Trip { now, home, answers: true, passages, observer };
        let fate = match receiver {
            Receiver::Host(host) => self.depart(&mut trip, Origin::Host(host), answer),
            Receiver::Undeclared(segment) => {
                self.depart(&mut trip, Origin::Undeclared(segment), answer)
            }
            Receiver::Peer => self.depart(&mut trip, Origin::Peer, answer),
            // what it sends itself does not leave
            Receiver::Device(device) if matches!(origin, Origin::Device(d, _) if d == device) => {
                Fate::Arrived(receiver, answer)
            }
            Receiver::Device(device) => {
                self.depart(&mut trip, Origin::Device(device, OwnSource::Given), answer)
            }
            Receiver::Answering(device, out) => {
                trip.observer.enters(device, None, out.packet);
                trip.observer.leaves(out.exit());
                let leg = self.leg_from(device, out);
                self.carry(&mut trip, leg)
            }
        };
        let Fate::Arrived(at, packet) = fate else { return fate };
        let reached = match (origin, at) {
            (Origin::Host(a), Receiver::Host(b)) => a == b,
            (Origin::Device(a, _), Receiver::Device(b)) => a == b,
            (Origin::Peer, Receiver::Peer) | (Origin::Undeclared(_), Receiver::Undeclared(_)) => {
                packet.destination().address == home
            }
            _ => false,
        };
        // whoever asked one endpoint does not take an answer from another
        let expected = packet.source() == asked.destination()
            && packet.destination().port == asked.source().port;
        if reached && expected {
            return fate;
        }
        // the device that put it onto the host's segment, if one did
        let by_itself =
            if let Receiver::Answering(device, _) = receiver { Some(device) } else { None };
        let device =
            passages.get(before..).and_then(|back| back.last()).map(|p| p.device).or(by_itself);
        Fate::Lost(Loss { reason: Reason::UnexpectedSource, device, rule: None, place: None })
    }

    /// The first device on the way out of an origin, if there is one.
    pub fn first_device(&self, origin: Origin) -> Option<DeviceId> {
        let node = match origin {
            Origin::Device(id, _) => return Some(id),
            Origin::Peer => None,
            Origin::Undeclared(segment) => {
                return self.world.attached(segment).first().map(|a| a.device);
            }
            Origin::Host(id) => {
                let host = &self.plan.hosts[id.index()];
                host.gateway.and_then(|g| self.world.owner(self.world.number(host.segment), g))
            }
        };
        match node {
            Some(Node::Interface(device, _)) => Some(device),
            _ => None,
        }
    }

    fn depart<O: Observer>(
        &mut self,
        trip: &mut Trip<'_, O>,
        origin: Origin,
        packet: Packet,
    ) -> Fate {
        let destination = packet.destination().address;
        let leg = |segment, next_hop| Leg { segment, next_hop, packet, from: None };
        match origin {
            Origin::Peer => self.cross_internet(trip, leg(World::INTERNET, destination)),
            Origin::Undeclared(segment) => {
                // its prefix and its gateway are those of the interface that it shares a segment
                // with
                let source = packet.source().address;
                let interface = self.world.attached(segment).iter().find_map(|a| {
                    let interface =
                        &self.plan.devices[a.device.index()].interfaces[a.interface.index()];
                    interface.addresses.iter().find(|a| a.1.contains(source))
                });
                let Some((gateway, prefix)) = interface else {
                    return leg(segment, destination).lost(Reason::UnknownSource);
                };
                let next_hop = if prefix.contains(destination) { destination } else { *gateway };
                self.carry(trip, leg(segment, next_hop))
            }
            Origin::Host(id) => {
                let host = &self.plan.hosts[id.index()];
                let segment = self.world.number(host.segment);
                if self.world.is_internet(host.segment) {
                    return self.cross_internet(trip, leg(segment, destination));
                }
                match next_hop(host, destination) {
                    Some(next_hop) => {
                        let gateway =
                            Some(next_hop) == host.gateway && !host.prefix.contains(destination);
                        let place = host.place;
                        if gateway && self.who(trip.now, segment, next_hop, trip.home).is_none() {
                            trip.observer.handed(next_hop, None);
                            let reason = Reason::GatewayUnanswered;
                            return Fate::Lost(Loss {
                                reason,
                                device: None,
                                rule: None,
                                place: Some(place),
                            });
                        }
                        self.carry(trip, leg(segment, next_hop))
                    }
                    None => {
                        let (reason, place) = (Reason::NoGateway, Some(host.place));
                        Fate::Lost(Loss { reason, device: None, rule: None, place })
                    }
                }
            }
            Origin::Device(id, source) => {
                trip.observer.enters(id, None, packet);
                match self.devices[id.index()].originate_watched(
                    trip.now,
                    packet,
                    source,
                    trip.observer,
                ) {
                    Outcome::Forwarded(out) => {
                        trip.observer.leaves(out.exit());
                        trip.passages.push(passage(id, None, out, out.packet.ends != packet.ends));
                        let leg = self.leg_from(id, out);
                        self.carry(trip, leg)
                    }
                    Outcome::Answered(out) => Fate::Arrived(Receiver::Answering(id, out), packet),
                    Outcome::Consumed(taken) => Fate::Arrived(Receiver::Device(id), taken.packet),
                    Outcome::Dropped(refusal) => dropped(id, refusal),
                }
            }
        }
    }

    fn leg_from(&self, device: DeviceId, out: Forwarded) -> Leg {
        let interface = &self.plan.devices[device.index()].interfaces[out.interface.index()];
        let segment = self.world.number(interface.segment);
        Leg {
            segment,
            next_hop: out.next_hop,
            packet: out.packet,
            from: Some((device, out.interface)),
        }
    }

    /// Carries a packet on until it arrives or is lost.
    fn carry<O: Observer>(&mut self, trip: &mut Trip<'_, O>, mut leg: Leg) -> Fate {
        for _ in 0..=MOST_DEVICES {
            let node = if leg.segment == World::INTERNET {
                match self.on_internet(trip.now, &leg, trip.observer) {
                    Ok(Found::Node(node)) => node,
                    Ok(Found::Peer) => return Fate::Arrived(Receiver::Peer, leg.packet),
                    Err(reason) => return self.lost_on_internet(&leg, reason),
                }
            } else {
                let found = self.who(trip.now, leg.segment, leg.next_hop, trip.home);
                trip.observer.handed(
                    leg.next_hop,
                    found.as_ref().map(|f| f.owner(NextHopOwner::Undeclared)),
                );
                match found {
                    Some(Found::Node(node)) => node,
                    Some(Found::Peer) => return self.at_undeclared(leg),
                    None => return leg.lost(Reason::NobodyAnswers),
                }
            };
            let (device, ingress) = match node {
                Node::Host(id) => return self.at_host(id, leg, trip.answers),
                Node::Interface(device, ingress) => (device, ingress),
            };
            trip.observer.enters(device, Some(ingress), leg.packet);
            match self.devices[device.index()].receive_watched(
                trip.now,
                ingress,
                leg.packet,
                trip.observer,
            ) {
                Outcome::Forwarded(out) => {
                    trip.observer.leaves(out.exit());
                    trip.passages.push(passage(
                        device,
                        Some(ingress),
                        out,
                        out.packet.ends != leg.packet.ends,
                    ));
                    leg = self.leg_from(device, out);
                }
                Outcome::Answered(out) => {
                    return Fate::Arrived(Receiver::Answering(device, out), leg.packet);
                }
                Outcome::Consumed(Taken { packet, session, refreshes }) => {
                    let changed = packet.ends != leg.packet.ends;
                    trip.passages.push(Passage {
                        device,
                        ingress: Some(ingress),
                        egress: ingress,
                        session,
                        refreshes,
                        contested: false,
                        changed,
                        unchanged: None,
                    });
                    return Fate::Arrived(Receiver::Device(device), packet);
                }
                Outcome::Dropped(refusal) => return dropped(device, refusal),
            }
        }
        leg.lost(Reason::Looped)
    }

    fn cross_internet<O: Observer>(&mut self, trip: &mut Trip<'_, O>, leg: Leg) -> Fate {
        if !self.world.is_public(leg.packet.source().address) {
            return leg.lost(Reason::PrivateAddressOnInternet);
        }
        match self.world.way(leg.next_hop) {
            Way::Ask(next_hop) => self.carry(trip, Leg { next_hop, ..leg }),
            Way::Peer => {
                trip.observer.handed(leg.next_hop, Some(NextHopOwner::Peer));
                Fate::Arrived(Receiver::Peer, leg.packet)
            }
            Way::Unrouted => leg.lost(Reason::Unrouted),
            Way::Special => leg.lost(Reason::PrivateAddressOnInternet),
        }
    }

    /// Who gets a packet on the internet: whoever answers for its next hop, or whoever the provider
    /// takes it to.
    fn on_internet<O: Observer>(
        &mut self,
        now: Instant,
        leg: &Leg,
        observer: &mut O,
    ) -> Result<Found, Reason> {
        let ends = leg.packet.ends;
        if !self.world.is_public(ends.source.address) {
            return Err(Reason::PrivateAddressOnInternet);
        }
        if leg.from.is_some_and(|(device, interface)| {
            !self.world.is_of_line(device, interface, ends.source.address)
        }) {
            return Err(Reason::SourceOfOtherLine);
        }
        if !self.world.is_public(ends.destination.address) {
            return Err(Reason::PrivateAddressOnInternet);
        }
        let first = self.answering(now, World::INTERNET, leg.next_hop);
        observer.handed(leg.next_hop, first.map(Answering::owner));
        match first {
            Some(Answering::Node(node)) => return Ok(Found::Node(node)),
            Some(Answering::Provider) => {}
            None => return Err(Reason::NobodyAnswers),
        }
        match self.world.way(ends.destination.address) {
            Way::Peer => {
                observer.handed(ends.destination.address, Some(NextHopOwner::Peer));
                Ok(Found::Peer)
            }
            Way::Ask(next_hop) => {
                let node = self.answering(now, World::INTERNET, next_hop);
                observer.handed(next_hop, node.map(Answering::owner));
                match node {
                    Some(Answering::Node(node)) => Ok(Found::Node(node)),
                    _ => Err(Reason::NobodyAnswers),
                }
            }
            Way::Unrouted => Err(Reason::Unrouted),
            Way::Special => Err(Reason::PrivateAddressOnInternet),
        }
    }

    /// A packet that the internet does not take on.
    fn lost_on_internet(&self, leg: &Leg, reason: Reason) -> Fate {
        let (device, mut place) = (leg.device(), None);
        if let (Reason::SourceOfOtherLine, Some((device, interface))) = (reason, leg.from) {
            let interface = &self.plan.devices[device.index()].interfaces[interface.index()];
            place = Some(self.plan.segments[interface.segment.index()].place);
        }
        Fate::Lost(Loss { reason, device, rule: None, place })
    }
}

fn passage(
    device: DeviceId,
    ingress: Option<InterfaceId>,
    out: Forwarded,
    changed: bool,
) -> Passage {
    let Forwarded { interface: egress, session, refreshes, contested, unchanged, .. } = out;
    Passage { device, ingress, egress, session, refreshes, contested, changed, unchanged }
}

fn dropped(device: DeviceId, refusal: Refusal) -> Fate {
    Fate::Lost(Loss {
        reason: refusal.reason,
        device: Some(device),
        rule: refusal.rule,
        place: refusal.place,
    })
}

fn next_hop(host: &Host, destination: IpAddr) -> Option<IpAddr> {
    if host.prefix.contains(destination) { Some(destination) } else { host.gateway }
}
