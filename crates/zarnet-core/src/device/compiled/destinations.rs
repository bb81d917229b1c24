//! Which fixed rules hold an external end, and which ports of an address they and the device itself
//! keep from others.

use std::collections::HashMap;
use std::net::IpAddr;

use foldhash::fast::RandomState;

use crate::device::key::Key;
use crate::net::{AddressRange, IntervalMap, Protocol};
use crate::plan::{self, RuleKind};

/// A run of external ends, as numbers, and the rule that claims it.
type Claimed = ((u64, u64), u16);

/// The fixed rules, found by their external ends.
#[derive(Debug, Clone)]
pub(in crate::device) struct DestinationRules {
    forwards: HashMap<Protocol, IntervalMap<Vec<u16>>, RandomState>,
    /// Forward rules by external address.
    forwards_at: HashMap<Key, Vec<u16>, RandomState>,
    statics: IntervalMap<Vec<u16>>,
    statics_v6: Vec<u16>,
}

impl DestinationRules {
    /// Among statics, those limited to services come first.
    pub(super) fn new(plan: &plan::DevicePlan) -> Self {
        let mut forwards: HashMap<Protocol, Vec<Claimed>> = HashMap::new();
        let mut forwards_at: HashMap<Key, Vec<u16>, RandomState> = HashMap::default();
        let mut statics: Vec<(bool, u16, AddressRange)> = Vec::new();
        for (i, rule) in super::in_force(plan) {
            match (&rule.kind, plan.external_end(rule)) {
                (RuleKind::Forward(f), Some(end)) => {
                    let Some(key) = Key::of(end.first()) else { continue };
                    let range = (key.port_number(f.ports.first), key.port_number(f.ports.last));
                    forwards.entry(f.protocol).or_default().push((range, i));
                    forwards_at.entry(key).or_default().push(i);
                }
                (RuleKind::Static(_), Some(end)) => statics.push((rule.service.is_any(), i, end)),
                _ => {}
            }
        }
        let by_end = |list: Vec<Claimed>| {
            let ranges: Vec<_> = list.iter().map(|l| l.0).collect();
            IntervalMap::new(&ranges, |active| active.iter().map(|r| list[*r].1).collect())
        };
        statics.sort_by_key(|s| (s.0, s.1));
        let statics_v6 = statics.iter().filter(|s| s.2.first().is_ipv6()).map(|s| s.1).collect();
        let v4 = statics.iter().filter_map(|s| Some((Key::ends_of(s.2)?, s.1)));
        let v4 = v4.map(|((first, last), rule)| ((first.number(), last.number()), rule)).collect();
        let forwards =
            forwards.into_iter().map(|(protocol, list)| (protocol, by_end(list))).collect();
        Self { forwards, forwards_at, statics: by_end(v4), statics_v6 }
    }

    /// Forward rules whose external end holds a destination.
    pub(in crate::device) fn forwards(
        &self,
        protocol: Protocol,
        address: IpAddr,
        port: u16,
    ) -> &[u16] {
        let map = self.forwards.get(&protocol);
        map.zip(Key::of(address)).map_or(&[], |(m, a)| m.get(a.port_number(port)).as_slice())
    }

    /// Static rules whose external end holds an address.
    pub(in crate::device) fn statics(&self, address: IpAddr) -> &[u16] {
        match Key::of(address) {
            Some(a) => self.statics.get(a.number()),
            None => &self.statics_v6,
        }
    }

    /// Forward rules on an external address, whatever their ports.
    pub(super) fn forwards_at(&self, address: IpAddr) -> &[u16] {
        Key::of(address).and_then(|a| self.forwards_at.get(&a)).map_or(&[], Vec::as_slice)
    }
}
