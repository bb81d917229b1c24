//! A device whose description is replaced while it runs: what the new one calls what the old one
//! had.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr};
use std::sync::Arc;

use super::{
    DeviceId, DevicePlan, External, Fallback, Interface, InterfaceId, Plan, Pool, PoolId, Rule,
    RuleId, RuleKind, SegmentId, Target,
};
use crate::net::{AddressRange, Prefix};
use crate::traffic::{Flow, Party};

/// Stands for the address of an interface that has none.
const NOBODY: IpAddr = IpAddr::V4(Ipv4Addr::UNSPECIFIED);

/// Where things of the old description are in the new one, by their old position.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Renaming {
    /// Rules. One that the new description does not have stands behind those that it has, retired.
    pub rules: Vec<RuleId>,
    /// By pool of the old plan: the same pool in the new one.
    pub pools: Vec<PoolId>,
    /// Interfaces that are still there.
    pub interfaces: Vec<Option<InterfaceId>>,
}

impl Renaming {
    /// Everything where it was.
    pub fn unchanged(device: &DevicePlan) -> Self {
        Self {
            rules: (0..device.rules.len() as u16).map(RuleId).collect(),
            pools: (0..device.pools.len() as u16).map(PoolId).collect(),
            interfaces: (0..device.interfaces.len() as u16).map(|i| Some(InterfaceId(i))).collect(),
        }
    }

    /// A flow whose interfaces have other numbers now. Of one that is no more, the device is all
    /// that can be named.
    pub(crate) fn rename_ends(&self, device: DeviceId, flow: &mut Flow) {
        for party in [&mut flow.source, &mut flow.destination] {
            if let Party::Interface(d, i) = *party
                && d == device
            {
                let now = self.interfaces[i.index()];
                *party = now.map_or(Party::Device(d), |i| Party::Interface(d, i));
            }
        }
    }

    /// A target under its new name; of an interface that is gone, the address that it had.
    pub(crate) fn target(&self, target: Target, old: &DevicePlan) -> Target {
        match target {
            Target::Pool(p) => Target::Pool(self.pools[p.index()]),
            Target::Address(_) => target,
            Target::Interface(i) => {
                match (self.interfaces[i.index()], old.interfaces[i.index()].primary()) {
                    (Some(new), _) => Target::Interface(new),
                    (None, Some(address)) => Target::Address(address),
                    (None, None) => Target::Address(NOBODY),
                }
            }
        }
    }
}

impl Plan {
    /// Another plan, in which the interfaces of a device stay on the segments that they are on here:
    /// a description that came from the device itself knows nothing of segments. Interfaces go by
    /// their names.
    #[must_use]
    pub fn on_same_segments(&self, id: DeviceId, other: &Plan, successor: DeviceId) -> Plan {
        let mut other = other.clone();
        for interface in &self.devices[id.index()].interfaces {
            let segment = &self.segments[interface.segment.index()];
            let interfaces = &mut Arc::make_mut(&mut other.devices[successor.index()]).interfaces;
            let Some(same) = interfaces.iter_mut().find(|i| i.name == interface.name) else {
                continue;
            };
            same.segment = SegmentId(other.segments.len() as u16);
            other.segments.push(segment.clone());
        }
        other
    }

    /// This plan with one device as another plan describes it, under the name that it has here, on
    /// the segments that it is on. The other plan's hosts and other devices do not matter.
    #[must_use]
    pub fn with_device(&self, id: DeviceId, other: &Plan, successor: DeviceId) -> Plan {
        let mut plan = self.clone();
        let other = self.on_same_segments(id, other, successor);
        let new = plan.described(id, &other, successor);
        plan.devices[id.index()] = Arc::new(new);
        plan
    }

    /// A device as another plan describes it, with the segments of this one; those that are new are
    /// added.
    fn described(&mut self, id: DeviceId, other: &Plan, successor: DeviceId) -> DevicePlan {
        let mut new = DevicePlan::clone(&other.devices[successor.index()]);
        new.name.clone_from(&self.devices[id.index()].name);
        for interface in &mut new.interfaces {
            let segment = &other.segments[interface.segment.index()];
            // a segment that nobody named goes by its prefix
            let known = match segment.inferred {
                true => self.inferred_segment(interface),
                false => self.segments.iter().position(|s| {
                    !s.inferred && s.name == segment.name && s.internet == segment.internet
                }),
            };
            let position = known.unwrap_or_else(|| {
                self.segments.push(segment.clone());
                self.segments.len() - 1
            });
            interface.segment = SegmentId(position as u16);
        }
        new
    }

    /// The same for a device that runs: things that its table may still refer to are kept.
    pub fn with_successor(
        &self,
        id: DeviceId,
        other: &Plan,
        successor: DeviceId,
    ) -> (Plan, Renaming) {
        let mut plan = self.clone();
        let old = &self.devices[id.index()];
        let mut new = plan.described(id, other, successor);
        let renaming = keep_what_may_be_in_use(old, &mut new);
        // an address that was assigned is not for a plan to change
        for (was, now) in old.interfaces.iter().zip(&renaming.interfaces) {
            if let Some(interface) =
                now.map(|n| &mut new.interfaces[n.index()]).filter(|n| n.lease && was.lease)
            {
                interface.addresses.clone_from(&was.addresses);
            }
        }
        plan.devices[id.index()] = Arc::new(new);
        (plan, renaming)
    }
}

impl Plan {
    /// The inferred segment on which an interface or host shares a prefix with another interface.
    fn inferred_segment(&self, interface: &Interface) -> Option<usize> {
        let shares = |prefix: Prefix| interface.addresses.iter().any(|a| a.1 == prefix);
        let holds = |address| interface.addresses.iter().any(|a| a.1.contains(address));
        let inferred = |segment: &SegmentId| self.segments[segment.index()].inferred;
        let interfaces = self.devices.iter().flat_map(|d| &d.interfaces);
        let mut same =
            interfaces.filter(|i| i.addresses.iter().any(|a| shares(a.1))).map(|i| i.segment);
        let mut hosts = self.hosts.iter().filter(|h| holds(h.address)).map(|h| h.segment);
        same.find(inferred).or_else(|| hosts.find(inferred)).map(SegmentId::index)
    }
}

fn keep_what_may_be_in_use(old: &DevicePlan, new: &mut DevicePlan) -> Renaming {
    let interface = |name: &str| {
        new.interfaces.iter().position(|n| n.name == name).map(|i| InterfaceId(i as u16))
    };
    let mut renaming = Renaming {
        rules: Vec::new(),
        pools: Vec::new(),
        interfaces: old.interfaces.iter().map(|i| interface(&i.name)).collect(),
    };
    let planned: HashMap<String, usize> =
        (0..).zip(&new.pools).map(|(i, p)| (p.name.clone(), i)).collect();
    for pool in &old.pools {
        let position = planned.get(&pool.name).copied().unwrap_or_else(|| {
            new.pools.push(Pool { retired: true, ..pool.clone() });
            new.pools.len() - 1
        });
        renaming.pools.push(PoolId(position as u16));
    }
    let planned: HashMap<(String, &str), usize> =
        (0..).zip(&new.rules).map(|(i, r)| ((r.name.clone(), r.kind.name()), i)).collect();
    for rule in &old.rules {
        let position =
            planned.get(&(rule.name.clone(), rule.kind.name())).copied().unwrap_or_else(|| {
                new.rules.push(kept(rule, &renaming, old));
                new.rules.len() - 1
            });
        renaming.rules.push(RuleId(position as u16));
    }
    renaming
}

/// A rule that is no more, for the sessions that it made.
fn kept(rule: &Rule, renaming: &Renaming, old: &DevicePlan) -> Rule {
    let mut rule = Rule { enabled: false, retired: true, ..rule.clone() };
    for realm_set in [&mut rule.from, &mut rule.into, &mut rule.hairpin] {
        realm_set.interfaces = Default::default();
    }
    let rename = |target: &mut Target| *target = renaming.target(*target, old);
    let external = |external: &mut External| {
        if let External::Interface(i) = *external {
            let address = old.interfaces[i.index()].primary().unwrap_or(NOBODY);
            let range = External::Range(AddressRange::one(address));
            *external = renaming.interfaces[i.index()].map_or(range, External::Interface);
        }
    };
    match &mut rule.kind {
        RuleKind::Exempt => {}
        RuleKind::Static(s) => {
            external(&mut s.external);
            s.translate_as.iter_mut().for_each(rename);
        }
        RuleKind::Forward(f) => {
            external(&mut f.external);
            f.translate_as.iter_mut().for_each(rename);
        }
        RuleKind::Pool { pool, fallback } => {
            *pool = renaming.pools[pool.index()];
            if let Fallback::Overload(target) = fallback {
                rename(target);
            }
        }
        RuleKind::Overload { target, fallback } => {
            rename(target);
            if let Fallback::Overload(target) = fallback {
                rename(target);
            }
        }
    }
    rule
}
