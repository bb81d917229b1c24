//! Segments, hosts, and who is on which segment.

use std::collections::HashMap;
use std::net::IpAddr;

use super::{Builder, Text};
use crate::net::{Prefix, PrefixMap};
use crate::plan::{
    Draft, DraftHost, DraftRouted, Host, Plan, PlanError, Problem, Routed, Segment, SegmentId,
};

impl Builder {
    pub(super) fn segments(&mut self, draft: &Draft, plan: &mut Plan) {
        for segment in &draft.segments {
            let mut routed = Vec::new();
            for DraftRouted { to, via, .. } in &segment.routed {
                if let (Some(prefix), Some(via)) = (self.parse::<Prefix>(to), self.address(via)) {
                    routed.push(Routed { to: prefix, via, place: to.place });
                }
            }
            let checks_source = segment.checks_source.value;
            if checks_source && !segment.internet.value {
                self.report(PlanError::ChecksNothing, segment.checks_source.place);
            }
            let (name, internet, place) =
                (segment.name.value.clone(), segment.internet.value, segment.place);
            plan.segments.push(Segment {
                name,
                inferred: false,
                internet,
                checks_source,
                routed,
                place,
            });
        }
        self.world.enter_segments(plan);
    }

    /// The segment of this name, which must be declared.
    pub(super) fn segment(
        &mut self,
        name: &Text,
        draft_segments: usize,
        plan: &Plan,
    ) -> Option<SegmentId> {
        let found = self.world.segment(&name.value);
        if found.is_none() {
            let declared = &plan.segments[..draft_segments.min(plan.segments.len())];
            self.unknown("segment", name, declared.iter().map(|s| s.name.as_str()));
        }
        found
    }

    /// A segment that nobody named.
    pub(super) fn new_segment(plan: &mut Plan, name: &Text) -> SegmentId {
        let (name, place) = (name.value.clone(), name.place);
        let (inferred, internet, checks_source, routed) = (true, false, false, Vec::new());
        plan.segments.push(Segment { name, inferred, internet, checks_source, routed, place });
        SegmentId((plan.segments.len() - 1).min(usize::from(u16::MAX)) as u16)
    }

    pub(super) fn hosts(&mut self, draft: &Draft, plan: &mut Plan) {
        self.equal_prefixes(draft);
        let interfaces = plan.devices.iter().flat_map(|d| &d.interfaces);
        let mut index = PrefixMap::default();
        index.extend(interfaces.flat_map(|i| i.addresses.iter().map(move |a| (a.1, i.segment))));
        for host in &draft.hosts {
            if let Some(host) = self.host(host, draft.segments.len(), &index, plan) {
                plan.hosts.push(host);
            }
        }
    }

    fn host(
        &mut self,
        draft: &DraftHost,
        named: usize,
        index: &PrefixMap<SegmentId>,
        plan: &mut Plan,
    ) -> Option<Host> {
        let address =
            self.take(Prefix::parse_with_address(draft.address.value.trim()), draft.address.place);
        let gateway = draft.gateway.as_ref().and_then(|g| self.address(g));
        let listens = draft.listens.as_ref().map(|l| self.services(l));
        let (address, prefix) = address?;
        let segment = match &draft.segment {
            Some(name) => self.segment(name, named, plan)?,
            None => match index.holding(address).next().unwrap_or_default() {
                [] => Self::new_segment(plan, &draft.name),
                [first, others @ ..] if others.iter().all(|o| o == first) => *first,
                _ => {
                    let reason = format!("{} have its prefix", holders(plan, address).join(", "));
                    let error = PlanError::SegmentAmbiguous {
                        what: "host",
                        name: draft.name.value.clone(),
                        reason,
                    };
                    self.report(error, draft.name.place);
                    return None;
                }
            },
        };
        let name = draft.name.value.clone();
        Some(Host { name, address, prefix, gateway, listens, segment, place: draft.place })
    }

    /// Interfaces with one prefix may be on one wire or on two: without names nobody can tell.
    fn equal_prefixes(&mut self, draft: &Draft) {
        let mut seen: HashMap<Prefix, (&Text, String)> = HashMap::new();
        for device in &draft.devices {
            for interface in device.interfaces.iter().filter(|i| i.segment.is_none()) {
                for text in &interface.address {
                    let Ok((_, prefix)) = Prefix::parse_with_address(text.value.trim()) else {
                        continue;
                    };
                    let whole = format!("{}/{}", device.name.value, interface.name.value);
                    if let Some((first, name)) = seen.insert(prefix, (text, whole)) {
                        let reason = format!("`{name}` has the prefix {prefix} too");
                        let what = "interface";
                        let error = PlanError::SegmentAmbiguous {
                            what,
                            name: interface.name.value.clone(),
                            reason,
                        };
                        self.problems.push(Problem::between(
                            error,
                            text.place,
                            first.place,
                            "the same prefix",
                        ));
                    }
                }
            }
        }
    }

    pub(super) fn address(&mut self, text: &Text) -> Option<IpAddr> {
        self.take(crate::net::parse_address(text.value.trim()), text.place)
    }
}

/// The interfaces in whose prefix an address lies, as DEVICE/INTERFACE.
fn holders(plan: &Plan, address: IpAddr) -> Vec<String> {
    let devices = plan.devices.iter();
    let all = devices.flat_map(|d| d.interfaces.iter().map(move |i| (d, i)));
    let near = all.filter(|(_, i)| i.addresses.iter().any(|a| a.1.contains(address)));
    near.map(|(d, i)| format!("`{}/{}`", d.name, i.name)).collect()
}
