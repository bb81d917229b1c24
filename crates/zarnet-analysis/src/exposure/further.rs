//! What the devices behind the first one make a difference by.

use std::collections::BTreeMap;

use zarnet_core::plan::{DeviceId, Plan, RuleKind};

use crate::space::{Area, Field, Intervals};

/// What devices behind a first one tell packets apart by, as far as that first device leaves it as
/// it is; and of what only one device does so by, which one that is.
pub(super) struct Further(BTreeMap<(Field, Intervals), Option<DeviceId>>);

/// A way in is cut into so many parts at most by devices behind the first one.
const MOST_PARTS: usize = 128;

impl Further {
    /// Of all devices of a plan.
    pub(super) fn of(plan: &Plan) -> Self {
        let mut all = BTreeMap::new();
        for (d, device) in plan.devices.iter().enumerate() {
            let mut sets: Vec<(Field, Intervals)> = Vec::new();
            let rules = device.rules.iter().filter(|r| r.enabled);
            let asked = rules.map(|r| (&r.parties, &r.service));
            let asked = asked.chain(device.policies.iter().map(|p| (&p.parties, &p.service)));
            let entries = device.acls.iter().flat_map(|a| &a.entries);
            for (parties, service) in asked.chain(entries.map(|e| (&e.parties, &e.service))) {
                sets.push((Field::Source, Intervals::addresses(&parties.source)));
                for one in &service.0 {
                    let (first, last) = (one.ports.first.into(), one.ports.last.into());
                    sets.push((Field::DestinationPort, Intervals::new(vec![(first, last)])));
                    let protocol = one.protocol.map(|p| Intervals::one(p.0.into()));
                    sets.extend(protocol.map(|p| (Field::Protocol, p)));
                }
            }
            for forward in device.rules.iter().filter_map(|r| match &r.kind {
                RuleKind::Forward(f) => Some(f),
                _ => None,
            }) {
                let (first, last) = (forward.ports.first.into(), forward.ports.last.into());
                sets.push((Field::DestinationPort, Intervals::new(vec![(first, last)])));
                sets.push((Field::Protocol, Intervals::one(forward.protocol.0.into())));
            }
            let id = DeviceId(d as u16);
            for set in sets {
                let by = all.entry(set).or_insert(Some(id));
                *by = by.filter(|other| *other == id);
            }
        }
        Self(all)
    }

    /// An area by what the devices behind a first one tell apart.
    pub(super) fn parts(&self, first: DeviceId, area: Area) -> Vec<Area> {
        let mut parts = vec![area];
        for ((field, set), by) in &self.0 {
            if *by == Some(first) || !parts.iter().any(|part| part.of(*field).intersects(set)) {
                continue;
            }
            let with = |part: &Area, own: Intervals| {
                let mut part = part.clone();
                part.0[*field as usize] = own;
                part
            };
            let cut = |part: &Area| {
                let own = part.of(*field);
                [own.intersection(set), own.difference(set)]
                    .into_iter()
                    .filter(|own| !own.is_empty())
                    .map(|own| with(part, own))
                    .collect::<Vec<_>>()
            };
            let finer: Vec<Area> = parts.iter().flat_map(cut).collect();
            if finer.len() > MOST_PARTS {
                break;
            }
            parts = finer;
        }
        parts
    }
}
