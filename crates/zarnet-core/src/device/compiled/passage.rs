//! Filters and policies: which of their entries decides about a packet, without a look at each.

use super::first_match::{FirstMatch, Wants, address_spans, runs, service_number, service_spans};
use crate::device::key::Key;
use crate::net::{AddressSet, Endpoint, Packet, Protocol};
use crate::plan::{self, Acl, AclEntry, AclId, InterfaceId, Parties, Policy, RealmSet, Verdict};

/// The filters and policies of a device, ready for packets.
#[derive(Debug)]
pub(in crate::device) struct Passage {
    acls: Vec<Entries<4>>,
    policies: Entries<5>,
}

/// Entries, found by what they ask of an IPv4 packet; and the positions of those that may be about
/// IPv6.
#[derive(Debug)]
struct Entries<const N: usize> {
    v4: FirstMatch<N>,
    v6: Vec<usize>,
}

impl<const N: usize> Entries<N> {
    fn new<'a>(wants: Vec<Wants<N>>, parties: impl Iterator<Item = &'a Parties>) -> Self {
        let has_v6 = |set: &AddressSet| set.ranges().any(|r| r.first().is_ipv6());
        let v6 = parties.enumerate().filter(|(_, p)| has_v6(&p.source) && has_v6(&p.destination));
        Self { v4: FirstMatch::new(wants), v6: v6.map(|p| p.0).collect() }
    }
}

impl Passage {
    pub(super) fn new(plan: &plan::DevicePlan) -> Self {
        let entries = |acl: &Acl| {
            let wants: Vec<Wants<4>> = acl.entries.iter().map(entry_wants).collect();
            Entries::new(wants, acl.entries.iter().map(|e| &e.parties))
        };
        let count = plan.interfaces.len() as u64;
        let wants: Vec<Wants<5>> = plan.policies.iter().map(|p| policy_wants(p, count)).collect();
        Self {
            acls: plan.acls.iter().map(entries).collect(),
            policies: Entries::new(wants, plan.policies.iter().map(|p| &p.parties)),
        }
    }

    /// The first entry of a filter that decides about a packet, as [`Acl::first`].
    pub(in crate::device) fn first_entry(
        &self,
        id: AclId,
        acl: &Acl,
        packet: Packet,
        is_answer: bool,
    ) -> Option<usize> {
        let entries = &self.acls[id.index()];
        let (from, to) = (packet.source(), packet.destination());
        let Some((source, destination)) = Key::of(from.address).zip(Key::of(to.address)) else {
            let mut positions = entries.v6.iter().copied();
            return positions.find(|i| acl.entries[*i].is_for(packet, is_answer));
        };
        let values = [
            source.number(),
            destination.number(),
            service_number(packet.protocol, to.port),
            service_number(packet.protocol, from.port),
        ];
        entries.v4.candidates(values).find(|i| is_answer || !acl.entries[*i].answers)
    }

    /// The first policy entry that decides, as [`plan::DevicePlan::first_policy`].
    pub(in crate::device) fn first_policy(
        &self,
        plan: &plan::DevicePlan,
        (ingress, egress): (InterfaceId, InterfaceId),
        protocol: Protocol,
        source: std::net::IpAddr,
        to: Endpoint,
    ) -> Option<usize> {
        let Some((from, destination)) = Key::of(source).zip(Key::of(to.address)) else {
            let mut positions = self.policies.v6.iter().copied();
            return positions.find(|i| {
                let policy = &plan.policies[*i];
                policy.is_between(ingress, egress) && policy.is_for(protocol, source, to)
            });
        };
        let values = [
            from.number(),
            destination.number(),
            service_number(protocol, to.port),
            ingress.0.into(),
            egress.0.into(),
        ];
        self.policies.v4.candidates(values).next()
    }

    /// Whether a filter accepts a packet.
    pub(in crate::device) fn accepts(
        &self,
        plan: &plan::DevicePlan,
        acl: Option<AclId>,
        packet: Packet,
        is_answer: bool,
    ) -> bool {
        acl.is_none_or(|id| {
            let acl = &plan.acls[id.index()];
            let entry = self.first_entry(id, acl, packet, is_answer);
            entry.is_some_and(|i| acl.entries[i].verdict == Verdict::Accept)
        })
    }
}

fn entry_wants(entry: &AclEntry) -> Wants<4> {
    [
        address_spans(&entry.parties.source),
        address_spans(&entry.parties.destination),
        service_spans(&entry.service),
        service_spans(&entry.source_service),
    ]
}

/// `count`: how many interfaces the device has.
fn policy_wants(policy: &Policy, count: u64) -> Wants<5> {
    let interfaces = |set: Option<&RealmSet>| {
        let all = (0..count).filter(|i| RealmSet::allows(set, InterfaceId(*i as u16)));
        runs(all.map(|i| (i, i)).collect())
    };
    [
        address_spans(&policy.parties.source),
        address_spans(&policy.parties.destination),
        service_spans(&policy.service),
        interfaces(policy.from.as_ref()),
        interfaces(policy.into.as_ref()),
    ]
}
