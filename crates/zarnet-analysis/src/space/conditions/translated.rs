//! What is asked of a packet after its source was translated, in terms of before.

use zarnet_core::net::{AddressSet, ServiceSet};

use super::super::Field;
use super::super::boxes::Intervals;
use super::Conditions;
use super::constraint::{Constraint, by_protocol, with_ports};
use super::fixed::{Asked, Fixed};
use super::sources::{MovedPorts, Sources};

impl Conditions {
    /// A condition on a packet as it leaves, for every source that could have become one that meets
    /// it.
    pub(super) fn after_source(&mut self, sources: &Sources, fixed: &[Fixed], asked: Asked<'_>) {
        let any_port = asked.source_service.is_none_or(ServiceSet::is_any);
        if asked.source.is_all() && any_port {
            return;
        }
        if asked.source.intersects(&sources.chosen) {
            // a chosen port may be the one that the packet has: what is asked of it stays
            let anybody = AddressSet::all();
            let base = Constraint::parties(&anybody, asked.destination);
            self.entry(&base, asked.service, asked.source_service);
            self.behind(fixed, Asked { source: &anybody, ..asked });
        }
        for moved in &sources.moved {
            let from = moved.before(asked.source);
            if from.is_empty() {
                continue;
            }
            let source = &from.as_addresses();
            let base = Constraint::parties(source, asked.destination);
            let Some((ports, service)) =
                moved.ports.zip(asked.source_service.filter(|_| !any_port))
            else {
                self.entry(&base, asked.service, asked.source_service);
                self.behind(fixed, Asked { source, ..asked });
                continue;
            };
            let sent_from = ports_before(ports, service);
            let own = by_protocol(asked.service).into_iter();
            for (_, to) in own.filter(|(p, _)| p.is_none_or(|p| p == ports.protocol)) {
                let one =
                    with_ports(base.clone(), Some(ports.protocol), to, Field::DestinationPort);
                self.push(one.with(Field::SourcePort, sent_from.clone()));
            }
        }
    }
}

/// The ports of the server that become those of a service.
fn ports_before(of: MovedPorts, service: &ServiceSet) -> Intervals {
    let (first, last) = of.external;
    let own = Intervals::new(vec![(first.into(), last.into())]);
    let by = u128::from(of.internal).wrapping_sub(first.into());
    let asked = by_protocol(service).into_iter();
    asked
        .filter(|(p, _)| p.is_none_or(|p| p == of.protocol))
        .map(|(_, ports)| ports.intersection(&own).moved(by))
        .fold(Intervals::new(Vec::new()), |all, ports| all.union(&ports))
}
