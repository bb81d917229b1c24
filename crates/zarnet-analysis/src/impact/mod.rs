//! What a change of a plan changes: for all possible first packets, exactly.

mod live;
mod piece;
mod scope;
mod settings;

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use scope::{Part, scope};

use crate::senders::senders;
use crate::space::{
    Area, Conditions, Constraint, Diagram, Field, Intervals, Meaning, SameMeaning, Steps, decide,
    meaning, number, packet,
};
use zarnet_core::device::Device;
use zarnet_core::net::{AddressSet, Packet};
use zarnet_core::network::taken;
use zarnet_core::plan::{self, InterfaceId, Plan};
use zarnet_formats::plan::Loaded;

pub use live::{LiveSession, SessionFate, live_sessions};
pub use settings::ChangedSetting;

/// Packets that something else becomes of.
#[derive(Debug, Clone)]
pub struct ChangedClass {
    /// The device, by name.
    pub device: String,
    /// The interfaces that they come in by, by name.
    pub from: Vec<String>,
    /// The packets of the class, exact.
    pub area: Area,
    /// What became of them.
    pub before: Meaning,
    /// What becomes of them now.
    pub after: Meaning,
    /// A packet of the class, as an example.
    pub witness: Packet,
    /// Whether somebody who lies behind one of the interfaces could send such packets.
    pub likely: bool,
    /// The piece of the plan whose change alone has this effect, such as `rule ticketing`; `None`
    /// if it takes several, or if pieces were not tried.
    pub piece: Option<String>,
}

/// What differs between two plans.
#[derive(Debug, Clone, Default)]
pub struct Impact {
    /// Packets that something else becomes of; the most first.
    pub classes: Vec<ChangedClass>,
    /// Devices and interfaces that are in one plan only, as `DEVICE` or `DEVICE/INTERFACE`: those
    /// that went.
    pub gone: Vec<String>,
    /// Names that only the new plan has.
    pub new: Vec<String>,
    /// Settings that no first packet shows.
    pub settings: Vec<ChangedSetting>,
    /// Keys that are written otherwise on devices on which no first packet is treated otherwise.
    pub rewritten: Vec<ChangedSetting>,
    /// Devices that tell apart more classes of packets than are gone through: of these nothing is
    /// known.
    pub uncompared: Vec<String>,
}

impl Impact {
    /// Whether nothing differs, for all that is known.
    pub fn is_empty(&self) -> bool {
        self.classes.is_empty()
            && self.gone.is_empty()
            && self.new.is_empty()
            && self.settings.is_empty()
            && self.uncompared.is_empty()
    }
}

/// What differs between the plans of two files: packets, and every key that they do not show.
pub fn impact_of_files(old: &Loaded, new: &Loaded) -> Impact {
    let (mut impact, (further, mut rewritten)) = std::thread::scope(|scope| {
        let written = scope.spawn(|| settings::written(old.draft(), new.draft()));
        (impact(&old.plan, &new.plan), written.join().unwrap_or_default())
    });
    impact.settings.extend(further);
    let is_shown =
        |c: &ChangedSetting| impact.classes.iter().any(|k| Some(&k.device) == c.device.as_ref());
    rewritten.retain(|c| !is_shown(c));
    impact.rewritten = rewritten;
    impact
}

/// The positions of the devices of a plan.
fn by_name(plan: &Plan) -> HashMap<&str, usize> {
    plan.devices.iter().enumerate().map(|(i, device)| (device.name.as_str(), i)).collect()
}

/// What differs between two plans for packets, and in behaviour and timers.
pub fn impact(old: &Plan, new: &Plan) -> Impact {
    let mut impact = Impact::default();
    let (known, there) = (by_name(old), by_name(new));
    let names = |p: &Plan| p.devices.iter().map(|d| d.name.clone()).collect::<Vec<_>>();
    impact.gone = names(old).into_iter().filter(|n| !there.contains_key(n.as_str())).collect();
    impact.new = names(new).into_iter().filter(|n| !known.contains_key(n.as_str())).collect();
    impact.settings = settings::behaviour(old, new);
    let (taken_old, taken_new) = (taken(old), taken(new));
    for before in &old.devices {
        let Some(after) = there.get(before.name.as_str()).map(|j| &new.devices[*j]) else {
            continue;
        };
        let [was, is] = made((before, &taken_old), (after, &taken_new));
        let pair = Pair::new(was, is);
        let known = impact.classes.len();
        let behind: Vec<AddressSet> = (0..before.interfaces.len() as u16)
            .map(|i| senders(old, before, InterfaceId(i)))
            .collect();
        interfaces(&pair, &behind, &mut impact);
        let own = &mut impact.classes[known..];
        piece::attribute((before, after), (&pair.after, &taken_new), own);
    }
    impact.classes.sort_by_cached_key(|c| {
        let rank = match (&c.before, &c.after) {
            (Meaning::Dropped(_), Meaning::Dropped(_)) => 3,
            (Meaning::Dropped(_), _) => 0,
            (_, Meaning::Dropped(_)) => 2,
            _ => 1,
        };
        (
            c.device.clone(),
            rank == 3,
            !c.likely,
            rank,
            std::cmp::Reverse(weight(&c.area)),
            c.from.clone(),
        )
    });
    impact
}

/// Of each device of either plan, whether packets may fare otherwise on it than in the other plan.
pub fn differing(old: &Plan, new: &Plan) -> [Vec<bool>; 2] {
    let mut differ = [vec![true; old.devices.len()], vec![true; new.devices.len()]];
    let held = taken(old);
    let around =
        |p: &Plan| p.segments.iter().map(|s| (s.name.clone(), s.internet)).collect::<Vec<_>>();
    if held != taken(new) || around(old) != around(new) {
        return differ;
    }
    let there = by_name(new);
    for (i, before) in old.devices.iter().enumerate() {
        let Some(&j) = there.get(before.name.as_str()) else { continue };
        let device = |plan| Device::new(plan, &held, 0);
        let scope = scope(&device(before), &device(&new.devices[j]));
        let is_same = scope.is_some_and(|parts| parts.is_empty());
        (differ[0][i], differ[1][j]) = (!is_same, !is_same);
    }
    differ
}

/// Roughly how many packets get through that did not before, how many no more, and of how many
/// something else becomes, as powers of two.
pub fn sizes(impact: &Impact) -> [u32; 3] {
    let dropped = |m: &Meaning| matches!(m, Meaning::Dropped(_));
    let sum = |is: &dyn Fn(&ChangedClass) -> bool| {
        let own = impact.classes.iter().filter(|c| c.likely && is(c));
        let total: f64 = own.map(|c| f64::from(weight(&c.area)).exp2()).sum();
        if total < 1.0 { 0 } else { total.log2().round() as u32 }
    };
    let opened = sum(&|c| dropped(&c.before) && !dropped(&c.after));
    [opened, sum(&|c| !dropped(&c.before) && dropped(&c.after)), sum(&|_| true)]
}

/// Roughly how many packets an area has, as a power of two.
fn weight(area: &Area) -> u32 {
    area.0.iter().map(|s| 128 - s.count().leading_zeros()).sum()
}

/// A device in both plans.
struct Pair {
    before: Device,
    after: Device,
    /// Where the change can show, if that is known.
    scope: Option<Vec<Part>>,
}

impl Pair {
    fn new(before: Device, after: Device) -> Self {
        let scope = scope(&before, &after);
        Self { before, after, scope }
    }
}

/// With so many rules, a device takes longer to be made than a thread.
const MANY: usize = 1000;

/// A plan of a device, and the addresses that are taken around it.
type Planned<'a> = (&'a Arc<plan::DevicePlan>, &'a Arc<AddressSet>);

/// Makes two devices, side by side where that takes long.
fn made(one: Planned<'_>, other: Planned<'_>) -> [Device; 2] {
    let make = |(plan, taken): Planned<'_>| Device::new(plan, taken, 0);
    if one.0.rules.len() < MANY {
        return [make(one), make(other)];
    }
    std::thread::scope(|scope| {
        let beside = scope.spawn(|| make(other));
        [make(one), beside.join().unwrap_or_else(|_| make(other))]
    })
}

/// `behind`: who may send what comes in by each interface of the old device.
fn interfaces(pair: &Pair, behind: &[AddressSet], impact: &mut Impact) {
    let (before, after) = (pair.before.plan(), pair.after.plan());
    let named = |d: &plan::DevicePlan, name: &str| d.interfaces.iter().position(|i| i.name == name);
    let whole = |name: &str| format!("{}/{name}", before.name);
    let only = |d: &plan::DevicePlan, other: &plan::DevicePlan| -> Vec<String> {
        d.interfaces
            .iter()
            .filter(|i| named(other, &i.name).is_none())
            .map(|i| whole(&i.name))
            .collect()
    };
    impact.gone.extend(only(before, after));
    impact.new.extend(only(after, before));
    // interfaces with the same classes are told together
    let mut together: BTreeMap<(Area, String), (Vec<String>, ChangedClass)> = BTreeMap::new();
    let mut steps = Steps::default();
    for (i, interface) in before.interfaces.iter().enumerate() {
        let Some(j) = named(after, &interface.name) else { continue };
        let Some(classes) = pair.classes(InterfaceId(i as u16), InterfaceId(j as u16), &mut steps)
        else {
            impact.uncompared.push(before.name.clone());
            return;
        };
        for class in classes {
            let key = (class.area.clone(), format!("{:?} {:?}", class.before, class.after));
            let area = class.area.of(Field::Source);
            let likely = !area.intersection(&Intervals::addresses(&behind[i])).is_empty();
            let says_more = |c: &ChangedClass| behind[i].contains(c.witness.source().address);
            let entry = together.entry(key).or_insert_with(|| (Vec::new(), class.clone()));
            // of equal classes, the example of the interface by which somebody could send it
            if says_more(&class) && !entry.1.likely {
                entry.1.witness = class.witness;
            }
            entry.1.likely |= likely;
            entry.0.push(interface.name.clone());
        }
    }
    impact
        .classes
        .extend(together.into_values().map(|(from, class)| ChangedClass { from, ..class }));
}

/// What both plans make of a packet, as a number: 0 where it is the same.
#[derive(Default)]
struct Labels {
    list: Vec<(Meaning, Meaning)>,
    known: HashMap<(Meaning, Meaning), u32>,
}

impl Labels {
    fn of(&mut self, mut before: Meaning, mut after: Meaning) -> u32 {
        if before == after {
            return 0;
        }
        // a way out that is the same in both is no part of what differs
        if let (
            Meaning::Leaves { egress: a, next_hop: x, .. },
            Meaning::Leaves { egress: b, next_hop: y, .. },
        ) = (&mut before, &mut after)
            && a == b
            && x == y
        {
            (*x, *y) = (None, None);
        }
        let list = &mut self.list;
        *self.known.entry((before.clone(), after.clone())).or_insert_with(|| {
            list.push((before, after));
            list.len() as u32
        })
    }
}

impl Pair {
    fn classes(
        &self,
        before: InterfaceId,
        after: InterfaceId,
        steps: &mut Steps,
    ) -> Option<Vec<ChangedClass>> {
        let (diagram, labels) = self.diagram(before, after, steps)?;
        let mut classes = Vec::new();
        for (n, areas) in diagram.all_areas(steps, |v| v > 0)? {
            let (was, is) = &labels.list[n as usize - 1];
            for area in areas {
                let Some(witness) = self.witness(&area, before) else { continue };
                let (before, after) = (was.clone(), is.clone());
                let device = self.before.plan().name.clone();
                classes.push(ChangedClass {
                    device,
                    from: Vec::new(),
                    area,
                    before,
                    after,
                    witness,
                    likely: false,
                    piece: None,
                });
            }
        }
        Some(classes)
    }

    fn diagram(
        &self,
        before: InterfaceId,
        after: InterfaceId,
        steps: &mut Steps,
    ) -> Option<(Diagram, Labels)> {
        let mut labels = Labels::default();
        let mut same = SameMeaning::new(&self.before, &self.after);
        let mut answer = |point| {
            // no packet has ends of two families
            let Some(packet) = packet(point) else { return 0 };
            if same.is_plain(&self.before.judge(before, packet), &self.after.judge(after, packet)) {
                return 0;
            }
            labels.of(meaning(&self.before, before, packet), meaning(&self.after, after, packet))
        };
        let mut within = |part: Option<Constraint>, steps: &mut Steps| {
            let mut conditions = Conditions::within(part);
            conditions.add(&self.before, before);
            conditions.add(&self.after, after);
            decide(&conditions, steps, &mut answer)
        };
        let diagram = match &self.scope {
            None => within(None, steps)?,
            Some(parts) => {
                let mut whole = Diagram::constant(0);
                for part in parts.iter().filter(|part| part.concerns(before)) {
                    let one = within(Some(part.packets.clone()), steps)?;
                    whole = whole.combined(&one, |known, new| if known > 0 { known } else { new });
                }
                whole
            }
        };
        Some((diagram, labels))
    }

    /// A packet of an area that somebody might send: from a neighbour of the interface where there
    /// is one.
    fn witness(&self, area: &Area, ingress: InterfaceId) -> Option<Packet> {
        likely(area, &self.before.plan().interfaces[ingress.index()])
    }
}

/// A packet of an area that somebody might send by an interface.
pub fn likely(area: &Area, interface: &plan::Interface) -> Option<Packet> {
    let neighbours: Vec<(u128, u128)> = interface
        .addresses
        .iter()
        .map(|a| (number(a.1.first()) + 1, number(a.1.last()).saturating_sub(1)))
        .collect();
    let own: Vec<u128> = interface.own().map(number).collect();
    let near = Intervals::new(neighbours);
    let outside = |text: &str| text.parse().map(|a: std::net::IpAddr| number(a)).unwrap_or(0);
    let strangers = Intervals::new(vec![
        (outside("198.51.100.1"), outside("198.51.100.254")),
        (outside("192.0.2.1"), outside("192.0.2.254")),
    ]);
    let first = |set: &Intervals, wishes: &[&Intervals], not: &[u128]| -> Option<u128> {
        let wished = wishes.iter().flat_map(|w| set.intersection(w).list().to_vec());
        let mut all = wished
            .chain(set.list().iter().copied())
            .flat_map(|(a, b)| [a, a.saturating_add(1).min(b)]);
        all.find(|n| !not.contains(n)).or(set.list().first().map(|i| i.0))
    };
    let ports = |low: u128| Intervals::new(vec![(low, low)]);
    let families = [Intervals::ipv4()];
    let [to, protocol, to_port, from, from_port] = &area.0;
    let protocol = first(protocol, &[&ports(6), &ports(17), &ports(1)], &[])?;
    let point = [
        first(to, &[&strangers, &families[0]], &own)?,
        protocol,
        first(to_port, &[&ports(443), &ports(80), &ports(53)], &[])?,
        first(from, &[&near, &strangers, &families[0]], &own)?,
        first(from_port, &[&ports(50_000)], &[])?,
    ];
    packet(point)
}
