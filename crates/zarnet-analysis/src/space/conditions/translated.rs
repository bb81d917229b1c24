//! What is asked of a packet after its source was translated, in terms of before.

use zarnet_core::device::Device;
use zarnet_core::net::{AddressRange, AddressSet, Protocol, ServiceSet};
use zarnet_core::plan::{RuleId, RuleKind};

use super::super::boxes::Intervals;
use super::super::{Field, number};
use super::fixed::{Asked, Fixed};
use super::{Conditions, Constraint, by_protocol, with_ports};

/// What the sources of packets may become on a device.
pub(super) struct Sources {
    /// Addresses of which one is chosen: nothing tells which senders get it, so it may be anybody.
    chosen: AddressSet,
    /// What fixed rules put in place of their internal ends.
    moved: Vec<Moved>,
}

/// A fixed rule on the way out.
struct Moved {
    internal: AddressRange,
    external: AddressRange,
    /// Of a forward, whose ports move too.
    ports: Option<MovedPorts>,
}

/// The ports of a forward.
#[derive(Clone, Copy)]
struct MovedPorts {
    protocol: Protocol,
    /// External ports, the first and the last.
    external: (u16, u16),
    /// The first port of the server.
    internal: u16,
}

impl Sources {
    /// Those of a device as it is.
    pub(super) fn of(device: &Device) -> Self {
        let mut moved = Vec::new();
        for (i, rule) in device.plan().rules.iter().enumerate() {
            if !device.is_enabled(RuleId(i as u16)) {
                continue;
            }
            match &rule.kind {
                RuleKind::Static(s) => {
                    let Some(external) = device.external_of(s.external) else { continue };
                    moved.push(Moved { internal: s.internal, external, ports: None });
                }
                RuleKind::Forward(f) => {
                    let Some(external) = device.external_of(f.external) else { continue };
                    let (external, ends) =
                        (AddressRange::one(external.first()), (f.ports.first, f.ports.last));
                    moved.extend(f.servers.iter().map(|server| Moved {
                        internal: AddressRange::one(server.address),
                        external,
                        ports: Some(MovedPorts {
                            protocol: f.protocol,
                            external: ends,
                            internal: server.port,
                        }),
                    }));
                }
                RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => {}
            }
        }
        Self { chosen: device.chosen_addresses(), moved }
    }
}

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
            let sent_from = ports.before(service);
            let own = by_protocol(asked.service).into_iter();
            for (_, to) in own.filter(|(p, _)| p.is_none_or(|p| p == ports.protocol)) {
                let one =
                    with_ports(base.clone(), Some(ports.protocol), to, Field::DestinationPort);
                self.push(one.with(Field::SourcePort, sent_from.clone()));
            }
        }
    }
}

impl Moved {
    /// The sources that become those of a set.
    fn before(&self, set: &AddressSet) -> Intervals {
        let outside = (number(self.external.first()), number(self.external.last()));
        let met = Intervals::addresses(set).intersection(&Intervals::new(vec![outside]));
        met.moved(number(self.internal.first()).wrapping_sub(number(self.external.first())))
    }
}

impl MovedPorts {
    /// The ports of the server that become those of a service.
    fn before(&self, service: &ServiceSet) -> Intervals {
        let (first, last) = self.external;
        let own = Intervals::new(vec![(first.into(), last.into())]);
        let by = u128::from(self.internal).wrapping_sub(first.into());
        let asked = by_protocol(service).into_iter();
        asked
            .filter(|(p, _)| p.is_none_or(|p| p == self.protocol))
            .map(|(_, ports)| ports.intersection(&own).moved(by))
            .fold(Intervals::new(Vec::new()), |all, ports| all.union(&ports))
    }
}
