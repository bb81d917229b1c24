//! Filters and policies: which of their entries decides about a packet, without a look at each.

use super::first_match::{FirstMatch, Wants, runs, service_number, service_spans};
use crate::device::key::{Key, numbered};
use crate::net::{AddressSet, Endpoint, Packet, Protocol};
use crate::plan::{self, Acl, AclEntry, AclId, InterfaceId, Parties, Policy, RealmSet};

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
        Self {
            acls: plan.acls.iter().map(|acl| of_acl(&acl.entries)).collect(),
            policies: of_policies(&plan.policies, plan.interfaces.len()),
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
        entries.v4.first(values, |i| is_answer || !acl.entries[i].answers)
    }

    /// The first policy entry that decides, as [`plan::DevicePlan::first_policy`].
    pub(in crate::device) fn first_policy(
        &self,
        policies: &[Policy],
        (ingress, egress): (InterfaceId, InterfaceId),
        protocol: Protocol,
        source: std::net::IpAddr,
        to: Endpoint,
    ) -> Option<usize> {
        let Some((from, destination)) = Key::of(source).zip(Key::of(to.address)) else {
            let mut positions = self.policies.v6.iter().copied();
            return positions.find(|i| {
                let policy = &policies[*i];
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
        self.policies.v4.first(values, |_| true)
    }
}

fn of_acl(entries: &[AclEntry]) -> Entries<4> {
    let wants = entries.iter().map(entry_wants).collect();
    Entries::new(wants, entries.iter().map(|e| &e.parties))
}

/// `interfaces`: how many the device has.
fn of_policies(policies: &[Policy], interfaces: usize) -> Entries<5> {
    let wants = policies.iter().map(|p| policy_wants(p, interfaces as u64)).collect();
    Entries::new(wants, policies.iter().map(|p| &p.parties))
}

fn entry_wants(entry: &AclEntry) -> Wants<4> {
    [
        numbered(&entry.parties.source),
        numbered(&entry.parties.destination),
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
        numbered(&policy.parties.source),
        numbered(&policy.parties.destination),
        service_spans(&policy.service),
        interfaces(policy.from.as_ref()),
        interfaces(policy.into.as_ref()),
    ]
}

#[cfg(test)]
mod tests {
    use std::net::{IpAddr, Ipv4Addr};

    use proptest::prelude::*;

    use super::*;
    use crate::net::{AddressRange, Packet, Service, ServiceSet};
    use crate::plan::{Place, Verdict};

    fn addresses() -> impl Strategy<Value = AddressSet> {
        let range = (0u32..24, 0u32..9).prop_map(|(first, more)| {
            let end = |n: u32| IpAddr::V4(Ipv4Addr::from_bits(0x0A00_0000 + n));
            AddressRange::new(end(first), end(first + more))
                .unwrap_or(AddressRange::one(end(first)))
        });
        let few = proptest::collection::vec(range, 1..4).prop_map(|all| all.into_iter().collect());
        prop_oneof![2 => few, 1 => Just(AddressSet::all())]
    }

    fn services() -> impl Strategy<Value = ServiceSet> {
        let named = prop_oneof![
            Just("80/tcp"),
            Just("70-90/udp"),
            Just("1-100/tcp"),
            Just("icmp"),
            Just("gre"),
        ];
        let service = named.prop_map(|t| t.parse::<Service>().unwrap_or(Service::ANY));
        let few = proptest::collection::vec(service, 1..4).prop_map(ServiceSet);
        prop_oneof![2 => few, 1 => Just(ServiceSet(vec![Service::ANY]))]
    }

    fn entries() -> impl Strategy<Value = Vec<AclEntry>> {
        let entry = (addresses(), addresses(), services(), services(), any::<bool>());
        let entry =
            entry.prop_map(|(source, destination, service, source_service, answers)| AclEntry {
                verdict: Verdict::Accept,
                service,
                source_service,
                parties: Parties { source, destination },
                answers,
                place: Place::default(),
            });
        proptest::collection::vec(entry, 0..30)
    }

    proptest! {
        /// Against a look at each entry, for filters and for policies.
        #[test]
        fn the_first_entry_is_the_one_that_a_walk_finds(
            entries in entries(),
            packets in proptest::collection::vec((0u32..34, 0u32..34, 0usize..4, 60u16..110, 60u16..110), 1..20),
            is_answer: bool,
        ) {
            let realm = |of: usize| {
                let mut realms = RealmSet::default();
                realms.interfaces.insert(InterfaceId(of as u16 % 3));
                (!of.is_multiple_of(4)).then_some(realms)
            };
            let policies: Vec<Policy> = (0..)
                .zip(entries.clone())
                .map(|(i, e): (usize, AclEntry)| Policy {
                    from: realm(i * 5),
                    into: realm(i * 7 + 1),
                    verdict: e.verdict,
                    service: e.service,
                    parties: e.parties,
                    place: e.place,
                })
                .collect();
            let acl = Acl { name: String::new(), entries, place: Place::default() };
            let passage =
                Passage { acls: vec![of_acl(&acl.entries)], policies: of_policies(&policies, 3) };
            for (from, to, protocol, from_port, to_port) in packets {
                let end = |n: u32, port| Endpoint::new(IpAddr::V4(Ipv4Addr::from_bits(0x0A00_0000 + n)), port);
                let protocol = [Protocol::TCP, Protocol::UDP, Protocol::ICMP, Protocol(47)][protocol];
                let packet = Packet::first(protocol, end(from, from_port), end(to, to_port));
                prop_assert_eq!(
                    passage.first_entry(AclId(0), &acl, packet, is_answer),
                    acl.first(packet, is_answer)
                );
                let way = (InterfaceId(from_port % 3), InterfaceId(to_port % 3));
                let (source, to) = (packet.source().address, packet.destination());
                let walk = policies
                    .iter()
                    .position(|p| p.is_between(way.0, way.1) && p.is_for(protocol, source, to));
                prop_assert_eq!(
                    passage.first_policy(&policies, way, protocol, source, to),
                    walk
                );
            }
        }
    }
}
