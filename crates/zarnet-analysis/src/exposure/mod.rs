//! What can be reached from outside, or from any realm: every way in that a device leaves open, by
//! which rule and policy entry, and who answers in the end.
//!
//! The ways into the first device are exact: all first packets are gone through, as
//! [`crate::space`] does. Where they end is found by following them through all devices: one packet
//! of each part that the devices behind the first one may tell apart.

mod further;

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use further::Further;

use zarnet_core::device::{Device, Judged};
use zarnet_core::net::{AddressSet, Endpoint, Packet, Protocol};
use zarnet_core::network::{Receiver, Trace};
use zarnet_core::observe::{By, Stage, StageResult};
use zarnet_core::plan::{DeviceId, InterfaceId, Place, Plan, RuleId};
use zarnet_core::predict::Rehearsal;
use zarnet_core::traffic::{Flow, Party};

use crate::impact::likely;
use crate::senders::{could_send, senders};
use crate::space::{Area, Conditions, Field, Intervals, Steps, decide, packet};

/// What can be reached from somewhere.
#[derive(Debug, Clone, Default)]
pub struct Exposure {
    /// The realm, or `internet`.
    pub from: String,
    /// The ways in, by device and rule.
    pub exposed: Vec<Exposed>,
    /// Devices that tell apart more classes of packets than are gone through.
    pub unknown: Vec<String>,
}

/// A way in that devices leave open.
#[derive(Debug, Clone)]
pub struct Exposed {
    /// The packets: who may send them, to which addresses and ports.
    pub area: Area,
    /// An example of it.
    pub sent: Packet,
    /// Who answers that example, and where.
    pub server: Endpoint,
    /// The device, if that answers itself.
    pub own: Option<DeviceId>,
    /// The devices on the way.
    pub through: Vec<DeviceId>,
    /// Whether everybody may send them who can come in by the interface.
    pub everybody: bool,
    /// The first device on the way.
    pub device: DeviceId,
    /// The rule of the first device, by name.
    pub rule: Option<String>,
    /// The policy entry of the first device, from 0.
    pub policy: Option<usize>,
    /// Where the rule stands, or the policy entry.
    pub place: Option<Place>,
}

impl Exposed {
    /// The protocol; `None` for any.
    pub fn protocol(&self) -> Option<Protocol> {
        (self.area.of(Field::Protocol).count() == 1).then_some(self.sent.protocol)
    }

    /// Addresses to connect to.
    pub fn address(&self) -> &Intervals {
        self.area.of(Field::Destination)
    }

    /// Ports to connect to.
    pub fn ports(&self) -> &Intervals {
        self.area.of(Field::DestinationPort)
    }

    /// Who may use this way in.
    pub fn sources(&self) -> &Intervals {
        self.area.of(Field::Source)
    }

    /// How far the port moves on the way, wrapping.
    fn offset(&self) -> u16 {
        self.server.port.wrapping_sub(self.sent.destination().port)
    }

    /// Whether both end at the same server by the same way, and as it was meant.
    fn ends_like(&self, other: &Self) -> bool {
        (self.server.address, self.offset(), self.own)
            == (other.server.address, other.offset(), other.own)
            && (&self.through, &self.rule, self.policy)
                == (&other.through, &other.rule, other.policy)
    }

    /// Whether both are the same way in, whoever may use it.
    fn is_like(&self, other: &Self) -> bool {
        (self.protocol(), self.address(), self.ports())
            == (other.protocol(), other.address(), other.ports())
            && self.ends_like(other)
    }

    /// Takes in what may be sent by another one, as far as a field goes.
    fn take_in(&mut self, other: &Self, field: Field) {
        self.area.0[field as usize] = self.area.of(field).union(other.area.of(field));
    }
}

/// What can be reached from a realm; from the internet, if none is named. `only`: by the way of one
/// device.
pub fn exposure(plan: &Plan, realm: Option<&str>, only: Option<DeviceId>, seed: u64) -> Exposure {
    let taken = zarnet_core::network::taken(plan);
    let mut rehearsal = Rehearsal::new(Arc::new(plan.clone()), seed);
    let mut steps = Steps::default();
    let mut found =
        Exposure { from: realm.unwrap_or("internet").to_owned(), ..Exposure::default() };
    let further = Further::of(plan);
    // by what is most different about them
    let mut known: HashMap<(Intervals, Intervals, IpAddr), Vec<usize>> = HashMap::new();
    for (d, own) in plan.devices.iter().enumerate() {
        let id = DeviceId(d as u16);
        if only.is_some_and(|o| o != id) {
            continue;
        }
        let device = Device::new(own, &taken, seed);
        for (i, interface) in own.interfaces.iter().enumerate() {
            let is_meant = match realm {
                Some(realm) => interface.realm.as_deref() == Some(realm) || interface.name == realm,
                None => plan.segments[interface.segment.index()].internet,
            };
            if !is_meant {
                continue;
            }
            let ingress = InterfaceId(i as u16);
            let senders = senders(plan, own, ingress);
            let ways = of_interface(plan, &device, ingress, &senders, &mut steps);
            let Some(ways) = ways else {
                found.unknown.push(own.name.clone());
                break;
            };
            let everybody = Intervals::addresses(&senders).intersection(&Intervals::ipv4());
            let ways = ways.into_iter().flat_map(|(way, area)| {
                let each = pieces(area).into_iter();
                let mut follow = |part| exposed(plan, (id, ingress), way, part, &mut rehearsal);
                let ways = each.flat_map(|piece| {
                    together(further.parts(id, piece).into_iter().filter_map(&mut follow).collect())
                });
                let mut ways = joined(ways.collect());
                for way in &mut ways {
                    way.everybody = everybody.difference(way.sources()).is_empty();
                }
                ways
            });
            for way in ways {
                // of two interfaces by which the same can be reached
                let key = (way.address().clone(), way.ports().clone(), way.server.address);
                let alike = known.entry(key).or_default();
                match alike.iter().find(|at| found.exposed[**at].is_like(&way)) {
                    Some(at) => {
                        let known = &mut found.exposed[*at];
                        known.everybody |= way.everybody;
                        known.take_in(&way, Field::Source);
                    }
                    None => {
                        alike.push(found.exposed.len());
                        found.exposed.push(way);
                    }
                }
            }
        }
    }
    found
}

/// So many addresses, and so many ports, of one way in are followed one by one.
const MOST_FOLLOWED: u128 = 64;

/// An area by its addresses and ports, where these are few: devices behind the first one may lead
/// each of them elsewhere.
fn pieces(area: Area) -> Vec<Area> {
    let each = |area: &Area, field: Field| -> Vec<Area> {
        let set = area.of(field);
        if set.count() > MOST_FOLLOWED {
            return vec![area.clone()];
        }
        let numbers = set.list().iter().flat_map(|(a, b)| *a..=*b);
        let one = |n| {
            let mut piece = area.clone();
            piece.0[field as usize] = Intervals::one(n);
            piece
        };
        numbers.map(one).collect()
    };
    let by_address = each(&area, Field::Destination);
    by_address.iter().flat_map(|a| each(a, Field::DestinationPort)).collect()
}

/// Parts of one way in that end at the same server are one again.
fn together(parts: Vec<Exposed>) -> Vec<Exposed> {
    let mut list: Vec<(Exposed, Vec<Area>)> = Vec::new();
    for part in parts {
        let area = part.area.clone();
        match list.iter_mut().find(|(e, _)| e.ends_like(&part)) {
            Some((_, areas)) => areas.push(area),
            None => list.push((part, vec![area])),
        }
    }
    let whole = |(way, areas): (Exposed, Vec<Area>)| {
        Area::merged(areas).into_iter().map(move |area| Exposed { area, ..way.clone() })
    };
    list.into_iter().flat_map(whole).collect()
}

/// Ways in with neighbouring ports that lead to neighbouring ports of one server are one.
fn joined(ways: Vec<Exposed>) -> Vec<Exposed> {
    let mut list: Vec<Exposed> = Vec::new();
    for way in ways {
        match list.last_mut() {
            Some(last)
                if (last.address(), last.protocol(), last.sources())
                    == (way.address(), way.protocol(), way.sources())
                    && last.ends_like(&way) =>
            {
                last.take_in(&way, Field::DestinationPort);
            }
            _ => list.push(way),
        }
    }
    list
}

/// How a packet gets in: by a rule or as it is, to the device itself, by which policy entry.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
struct Way {
    rule: Option<RuleId>,
    own: bool,
    policy: Option<usize>,
}

/// Every way in by an interface with the packets that take it; `None` if there is too much to go
/// through.
fn of_interface(
    plan: &Plan,
    device: &Device,
    ingress: InterfaceId,
    senders: &AddressSet,
    steps: &mut Steps,
) -> Option<Vec<(Way, Area)>> {
    let own = device.plan();
    let mut conditions = Conditions::default();
    conditions.add(device, ingress);
    conditions.add_senders(senders);
    let (mut ways, mut known): (Vec<Way>, HashMap<Way, u32>) = Default::default();
    let outside = plan.segments[own.interfaces[ingress.index()].segment.index()].internet;
    let diagram = decide(&conditions, steps, |point| {
        let Some(sent) = packet(point) else { return 0 };
        if !could_send(senders, sent) {
            return 0;
        }
        let Some(way) = way_of(plan, device, ingress, sent, outside) else { return 0 };
        *known.entry(way).or_insert_with(|| {
            ways.push(way);
            ways.len() as u32
        })
    })?;
    let areas = diagram.all_areas(steps, |v| v > 0)?;
    let mut list: Vec<(Way, Area)> = Vec::new();
    for (n, areas) in areas {
        let way = ways[n as usize - 1];
        list.extend(areas.into_iter().map(|area| (way, area)));
    }
    list.sort_by(|a, b| (a.0.rule, a.0.own, &a.1).cmp(&(b.0.rule, b.0.own, &b.1)));
    Some(list)
}

/// How a packet gets in; `None` if it does not, or goes on to the outside.
fn way_of(
    plan: &Plan,
    device: &Device,
    ingress: InterfaceId,
    sent: Packet,
    outside: bool,
) -> Option<Way> {
    let mut entry = PolicyEntry::default();
    match device.judge_watched(ingress, sent, &mut entry) {
        // that a device answers echo requests says nothing of its services
        Judged::ToDevice if sent.protocol.has_ports() => {
            Some(Way { rule: None, own: true, policy: None })
        }
        Judged::Forwarded(v) => {
            let egress = &device.plan().interfaces[v.egress.index()];
            let inside = !plan.segments[egress.segment.index()].internet;
            // what is private inside is out of reach of the internet, unless a rule leads there
            let to = sent.destination().address;
            let reaches =
                v.entry.is_some() || !outside || !zarnet_core::network::special().contains(to);
            (inside && reaches && v.egress != ingress).then_some(Way {
                rule: v.entry,
                own: false,
                policy: entry.0,
            })
        }
        Judged::ToDevice | Judged::Dropped(_) => None,
    }
}

/// The policy entry that accepted a packet.
#[derive(Default)]
struct PolicyEntry(Option<usize>);

impl zarnet_core::observe::Observer for PolicyEntry {
    fn enters(&mut self, _: DeviceId, _: Option<InterfaceId>, _: Packet) {}

    fn leaves(&mut self, _: zarnet_core::observe::Exit) {}

    fn handed(&mut self, _: std::net::IpAddr, _: Option<zarnet_core::observe::NextHopOwner>) {}

    fn step(&mut self, step: impl FnOnce() -> zarnet_core::observe::Step) {
        let step = step();
        if let (Stage::Policy, StageResult::Accepted, By::Policy(entry)) =
            (step.stage, step.result, step.by)
        {
            self.0 = entry;
        }
    }
}

/// Follows an example of a way in to where it ends; `None` where it is refused further on.
fn exposed(
    plan: &Plan,
    (id, ingress): (DeviceId, InterfaceId),
    way: Way,
    area: Area,
    rehearsal: &mut Rehearsal,
) -> Option<Exposed> {
    let device = &plan.devices[id.index()];
    let sent = likely(&area, &device.interfaces[ingress.index()])?;
    let flow = Flow {
        start: zarnet_core::net::Instant::ZERO,
        protocol: sent.protocol,
        source: Party::Address(sent.source().address),
        source_port: sent.protocol.has_ports().then_some(sent.source().port),
        destination: Party::Address(sent.destination().address),
        destination_port: sent.protocol.has_ports().then_some(sent.destination().port),
        lasts: 0,
        ending: None,
        round_trip: None,
    };
    let followed = rehearsal.follow(&flow);
    let (receiver, arrived) = followed.arrived?;
    let own = match receiver {
        // that a device answers echo requests says nothing of its services
        Receiver::Device(d) | Receiver::Answering(d, _) if sent.protocol.has_ports() => Some(d),
        Receiver::Device(_) | Receiver::Answering(..) => return None,
        Receiver::Host(_) | Receiver::Undeclared(_) => None,
        // it went through, and out to the internet
        Receiver::Peer => return None,
    };
    let passed = |trace: &Trace| trace.hops.iter().map(|h| h.device).collect::<Vec<_>>();
    let rule = way.rule.map(|r| &device.rules[r.index()]);
    let entry = way.policy.map(|n| device.policies[n].place);
    Some(Exposed {
        area,
        sent,
        server: arrived.destination(),
        device: id,
        own,
        through: passed(&followed.forth),
        everybody: false,
        rule: rule.map(|r| r.name.clone()),
        policy: way.policy,
        place: rule.map(|r| r.place).or(entry).or(Some(device.place)),
    })
}
