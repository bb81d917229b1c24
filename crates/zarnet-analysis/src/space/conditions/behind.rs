//! What fixed rules take, and what lies behind them, as conditions.

use std::collections::BTreeMap;

use zarnet_core::device::Device;
use zarnet_core::net::{AddressRange, AddressSet, Protocol, Service, ServiceSet};
use zarnet_core::plan::{InterfaceId, RuleId, RuleKind};

use super::super::boxes::Intervals;
use super::super::{Field, number};
use super::Conditions;
use super::constraint::{Constraint, Spans, by_protocol, with_ports};
use super::fixed::{Asked, Fixed};
use super::prefix::without_counterpart;

impl Conditions {
    /// The external ends of fixed rules: of those that let in from here, each; of the others, all
    /// together.
    pub(super) fn fixed(&mut self, device: &Device, ingress: InterfaceId) -> Vec<Fixed> {
        let plan = device.plan();
        let mut entered = Vec::new();
        let mut barred: BTreeMap<(Option<u8>, (u128, u128)), Spans> = BTreeMap::new();
        let concerned = self.concerned(Field::Destination);
        for (_, rule) in
            plan.rules.iter().enumerate().filter(|(i, _)| device.is_enabled(RuleId(*i as u16)))
        {
            let Some(external) = plan.external_end(rule) else { continue };
            let ends = (number(external.first()), number(external.last()));
            if concerned.as_ref().is_some_and(|set| !set.meets(ends)) {
                continue;
            }
            let mut prefix = None;
            let (internal, services, ports_by) = match &rule.kind {
                RuleKind::Static(s) => {
                    prefix = device.prefix_pair(s);
                    (s.internal, rule.service.clone(), 0)
                }
                RuleKind::Forward(f) => {
                    let service = Service { protocol: Some(f.protocol), ports: f.ports };
                    let Some(server) = f.servers.first() else { continue };
                    let by = server.port.wrapping_sub(f.ports.first);
                    (AddressRange::one(server.address), ServiceSet(vec![service]), by)
                }
                RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => continue,
            };
            let destination: AddressSet = external.into();
            let here =
                rule.into.interfaces.contains(ingress) || rule.hairpin.interfaces.contains(ingress);
            if here {
                self.entry(
                    &Constraint::parties(&rule.parties.source, &destination),
                    &services,
                    None,
                );
                // it holds its end even against those that it does not let in
                self.entry(&Constraint::parties(&AddressSet::all(), &destination), &services, None);
                if let Some(pair) = &prefix {
                    let odd = without_counterpart(external, pair);
                    self.push(Constraint::default().with(Field::Destination, odd));
                }
                entered.push(Fixed { external, internal, services, prefix, ports_by });
            } else {
                for (protocol, ports) in by_protocol(&services) {
                    barred.entry((protocol.map(|p| p.0), ends)).or_default().extend(ports.list());
                }
            }
        }
        // addresses that are held by the same services are one condition
        let mut together: BTreeMap<(Option<u8>, Intervals), Spans> = BTreeMap::new();
        for ((protocol, (first, last)), ports) in barred {
            together.entry((protocol, Intervals::new(ports))).or_default().push((first, last));
        }
        for ((protocol, ports), addresses) in together {
            let base = Constraint::default().with(Field::Destination, Intervals::new(addresses));
            self.push(with_ports(base, protocol.map(Protocol), ports, Field::DestinationPort));
        }
        entered
    }

    /// What is asked of a packet after its destination was translated, in terms of before.
    pub(super) fn behind(&mut self, fixed: &[Fixed], asked: Asked<'_>) {
        for f in fixed {
            let range = f.external.count() > 1;
            let single =
                f.services.0.len() == 1 && f.services.0.iter().all(|s| s.ports.count() == 1);
            let ports = !single && !asked.service.is_any();
            // of one address and port, all packets become the same: only who sends them can matter
            let anybody =
                asked.source.is_all() && asked.source_service.is_none_or(ServiceSet::is_any);
            if !range && !ports && anybody {
                continue;
            }
            let inside =
                Intervals::new(vec![(number(f.internal.first()), number(f.internal.last()))]);
            let met = Intervals::addresses(asked.destination).intersection(&inside);
            if met.is_empty() {
                continue;
            }
            let base = Constraint::parties(asked.source, &AddressSet::all())
                .with(Field::Destination, f.addresses_before(&met));
            for (protocol, set) in by_protocol(asked.service) {
                let one = with_ports(
                    base.clone(),
                    protocol,
                    f.ports_before(&set),
                    Field::DestinationPort,
                );
                match asked.source_service.filter(|s| !s.is_any()) {
                    None => self.push(one),
                    Some(source) => {
                        for (other, ports) in by_protocol(source) {
                            self.push(with_ports(
                                one.clone(),
                                other.or(protocol),
                                ports,
                                Field::SourcePort,
                            ));
                        }
                    }
                }
            }
        }
    }
}
