//! The conditions of a device's plan that a first packet meets or does not: wherever one of them
//! changes, packets are cut.
//!
//! Nothing here says what a condition leads to: the device is asked that. What is looked at after a
//! translation is told in terms of the packet before it.

mod behind;
mod constraint;
mod fixed;
mod led_over;
mod prefix;
mod sources;
mod translated;

pub use constraint::Constraint;
use constraint::{by_protocol, with_ports};
use fixed::{Asked, Fixed};
use led_over::LedOver;
use prefix::without_counterpart;
use sources::Sources;
use std::collections::{BTreeSet, HashMap};

use foldhash::fast::RandomState;

use super::Field;
use super::boxes::Intervals;
use super::regions::Regions;
use zarnet_core::device::Device;
use zarnet_core::net::{AddressRange, AddressSet, Prefix, Protocol, Service, ServiceSet};
use zarnet_core::plan::{self, InterfaceId, InterfaceSet, RuleId, RuleKind};

/// The conditions of a device that packets on an interface may meet.
#[derive(Debug, Clone, Default)]
pub struct Conditions {
    /// The constraints, each once.
    pub list: Vec<Constraint>,
    /// Their positions.
    known: HashMap<Constraint, u32, RandomState>,
    /// Where each matters.
    regions: Regions,
    /// A product of sets outside of which nothing matters, if there is one: it is the first of the
    /// list.
    scope: Option<Constraint>,
}

impl Conditions {
    /// No conditions yet, and none but those that packets of a scope may meet: of others nothing is
    /// asked.
    pub fn within(scope: Option<Constraint>) -> Self {
        let mut conditions = Self { scope: scope.clone(), ..Self::default() };
        scope.into_iter().for_each(|scope| conditions.push(scope));
        conditions
    }

    /// Whether only packets that meet the first condition matter.
    pub(super) fn is_scoped(&self) -> bool {
        self.scope.is_some()
    }

    /// Where each matters.
    pub(super) fn regions(&self) -> &Regions {
        &self.regions
    }

    /// What of an end is within the scope, if it is not everything: for rules that are for none of
    /// it, no conditions need be made up.
    fn concerned(&self, end: Field) -> Option<Intervals> {
        self.scope.as_ref().and_then(|scope| scope.of(end)).cloned()
    }

    /// Adds those of a device.
    pub fn add(&mut self, device: &Device, ingress: InterfaceId) {
        let plan = device.plan();
        // no piece has addresses of two families
        for end in [Field::Destination, Field::Source] {
            self.push(Constraint::default().with(end, Intervals::ipv4()));
        }
        self.protocols(plan);
        let fixed = self.fixed(device, ingress);
        self.own(plan, &fixed);
        let claimed = Intervals::addresses(device.claimed());
        self.push(Constraint::default().with(Field::Destination, claimed));
        self.routes(plan, ingress, &fixed);
        let interface = &plan.interfaces[ingress.index()];
        if let Some(acl) = interface.ingress_acl {
            for e in plan.acls[acl.index()].entries.iter().filter(|e| !e.answers) {
                self.entry(
                    &Constraint::parties(&e.parties.source, &e.parties.destination),
                    &e.service,
                    Some(&e.source_service),
                );
            }
        }
        for p in &plan.policies {
            if p.from.as_ref().is_none_or(|z| z.interfaces.contains(ingress)) {
                self.entry(
                    &Constraint::parties(&p.parties.source, &p.parties.destination),
                    &p.service,
                    None,
                );
                let (source, destination) = (&p.parties.source, &p.parties.destination);
                self.behind(
                    &fixed,
                    Asked { source, destination, service: &p.service, source_service: None },
                );
            }
        }
        self.rules(device, ingress, &fixed);
        let filters: Vec<_> = plan.interfaces.iter().filter_map(|i| i.egress_acl).collect();
        if filters.is_empty() {
            return;
        }
        let sources = Sources::of(device);
        for acl in filters {
            for e in plan.acls[acl.index()].entries.iter().filter(|e| !e.answers) {
                self.entry(
                    &Constraint::parties(&e.parties.source, &e.parties.destination),
                    &e.service,
                    Some(&e.source_service),
                );
                let (source, destination) = (&e.parties.source, &e.parties.destination);
                let source_service = Some(&e.source_service);
                let asked = Asked { source, destination, service: &e.service, source_service };
                self.behind(&fixed, asked);
                self.after_source(&sources, &fixed, asked);
            }
        }
    }

    /// Protocols and source ports as far as a device tells them apart whatever its entries and
    /// rules ask of packets: by what the protocols carry, and whether ports of theirs are held.
    fn protocols(&mut self, plan: &plan::DevicePlan) {
        let is = |set| Constraint::default().with(Field::Protocol, set);
        let those = |wanted: fn(Protocol) -> bool| {
            let all = (0..=u8::MAX).filter(|n| wanted(Protocol(*n)));
            Intervals::new(all.map(|n| (n.into(), n.into())).collect())
        };
        let multiplexed = those(Protocol::is_multiplexed);
        self.push(is(those(Protocol::has_ports)));
        self.push(is(multiplexed.clone()));
        // the queries of IPv6, only so that examples have the right one
        let v6 = Intervals::all(Field::Destination).difference(&Intervals::ipv4());
        self.push(is(Intervals::one(Protocol::ICMPV6.0.into())).with(Field::Destination, v6));
        let services = plan.interfaces.iter().flat_map(|i| &i.services.0);
        let mut held: BTreeSet<u8> = services.filter_map(|s| Some(s.protocol?.0)).collect();
        for rule in &plan.rules {
            match &rule.kind {
                RuleKind::Forward(f) => held.extend([f.protocol.0]),
                RuleKind::Static(_) => {
                    held.extend(rule.service.0.iter().filter_map(|s| Some(s.protocol?.0)));
                }
                RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => {}
            }
        }
        held.into_iter().for_each(|protocol| self.push(is(Intervals::one(protocol.into()))));
        let classes = plan.behaviour.port_classes.iter().map(|c| c.from);
        // no port, as protocols without have it
        for (first, last) in classes.chain([(0, 0)]) {
            let ports = Intervals::new(vec![(first.into(), last.into())]);
            self.push(is(multiplexed.clone()).with(Field::SourcePort, ports));
        }
    }

    /// Adds the set of those that may send: packets are told apart by whether they could occur.
    pub fn add_senders(&mut self, senders: &AddressSet) {
        let set = Intervals::addresses(senders);
        self.push(Constraint::default().with(Field::Source, set));
    }

    fn push(&mut self, constraint: Constraint) {
        self.push_for(None, constraint);
    }

    /// The same of a condition that matters to no receivers but those of another condition, by its
    /// position. Gives its own, if it may be met by some packets and not by others.
    fn push_for(&mut self, receivers: Option<u32>, constraint: Constraint) -> Option<u32> {
        let matters = self.scope.as_ref().is_none_or(|scope| scope.meets(&constraint));
        if constraint.is_empty() || constraint.is_everything() || !matters {
            return None;
        }
        // one that has receivers of its own is left with them
        let receivers = receivers.filter(|_| constraint.of(Field::Destination).is_none());
        let new = self.list.len() as u32;
        let at = *self.known.entry(constraint).or_insert_with_key(|constraint| {
            self.list.push(constraint.clone());
            new
        });
        if at == new {
            self.regions.add(receivers)
        } else {
            self.regions.widen(at, receivers)
        }
        Some(at)
    }

    /// A condition for each protocol that services name.
    fn entry(&mut self, base: &Constraint, service: &ServiceSet, source: Option<&ServiceSet>) {
        self.entry_for(None, base, service, source);
    }

    fn entry_for(
        &mut self,
        receivers: Option<u32>,
        base: &Constraint,
        service: &ServiceSet,
        source: Option<&ServiceSet>,
    ) {
        for (protocol, ports) in by_protocol(service) {
            let one = with_ports(base.clone(), protocol, ports, Field::DestinationPort);
            match source.filter(|s| !s.is_any()) {
                None => {
                    self.push_for(receivers, one);
                }
                Some(source) => {
                    for (other, ports) in by_protocol(source) {
                        if protocol.is_none() || other.is_none() || protocol == other {
                            let both = with_ports(
                                one.clone(),
                                other.or(protocol),
                                ports,
                                Field::SourcePort,
                            );
                            self.push_for(receivers, both);
                        }
                    }
                }
            }
        }
    }

    /// What is for the device itself, as it is or once a rule has led it there, and what its answers meet on their way out: there the ends
    /// are swapped.
    fn own(&mut self, plan: &plan::DevicePlan, fixed: &[Fixed]) {
        let mut all = AddressSet::default();
        for interface in &plan.interfaces {
            let own: AddressSet = interface.own().map(AddressRange::one).collect();
            all.extend(&own);
            let base = Constraint::default().with(Field::Destination, Intervals::addresses(&own));
            self.push(base.clone());
            let (source, any) = (&AddressSet::all(), &ServiceSet(vec![Service::ANY]));
            let led = Asked { source, destination: &own, service: any, source_service: None };
            self.behind(fixed, led);
            if !interface.services.0.is_empty() {
                self.entry(&base, &interface.services, None);
                self.behind(fixed, Asked { service: &interface.services, ..led });
            }
        }
        let back = |to: &AddressSet| Constraint::parties(to, &all);
        for prefix in prefixes(plan) {
            self.push(back(&prefix.range().into()));
        }
        for acl in plan.interfaces.iter().filter_map(|i| i.egress_acl) {
            for e in &plan.acls[acl.index()].entries {
                let base = Constraint::parties(&e.parties.destination, &e.parties.source);
                for (protocol, ports) in by_protocol(&e.service) {
                    self.push(with_ports(base.clone(), protocol, ports, Field::SourcePort));
                }
                self.entry(&base, &e.source_service, None);
            }
        }
    }

    /// Where the way out changes, for destinations as they are and as they become.
    fn routes(&mut self, plan: &plan::DevicePlan, ingress: InterfaceId, fixed: &[Fixed]) {
        for (to, condition) in
            plan.routes.iter().filter_map(|r| Some((r.to, r.condition.as_ref()?)))
        {
            // the device's own answers have their source where the packet has its destination, and
            // come in nowhere
            if condition.from.is_none() {
                let set = Intervals::addresses(&condition.source);
                self.push(Constraint::default().with(Field::Destination, set));
            }
            if condition.from.as_ref().is_none_or(|z| z.interfaces.contains(ingress)) {
                let (source, destination) = (&condition.source, &to.range().into());
                let service = &ServiceSet(vec![Service::ANY]);
                self.push(Constraint::parties(source, destination));
                self.behind(fixed, Asked { source, destination, service, source_service: None });
            }
        }
        for prefix in prefixes(plan) {
            let set: AddressSet = prefix.range().into();
            self.push(Constraint::default().with(Field::Destination, Intervals::addresses(&set)));
            let (source, service) = (&AddressSet::all(), &ServiceSet(vec![Service::ANY]));
            self.behind(fixed, Asked { source, destination: &set, service, source_service: None });
        }
    }

    /// The receivers whose packets may leave by some interfaces, as a condition.
    fn led_over<'a>(
        &mut self,
        led: &LedOver<'_>,
        interfaces: &'a InterfaceSet,
        known: &mut Vec<(&'a InterfaceSet, Receivers)>,
    ) -> Receivers {
        if let Some((_, known)) = known.iter().find(|known| known.0 == interfaces) {
            return *known;
        }
        let those = Constraint::default().with(Field::Destination, led.receivers(interfaces));
        let receivers = if those.is_everything() {
            Receivers::All
        } else {
            self.push_for(None, those).map_or(Receivers::None, Receivers::Some)
        };
        known.push((interfaces, receivers));
        receivers
    }

    /// The rules of step 8 that packets from here may meet: whose packets they are for matters to
    /// no packets but those that may leave into their realms.
    fn rules(&mut self, device: &Device, ingress: InterfaceId, fixed: &[Fixed]) {
        let plan = device.plan();
        let led = LedOver::new(device, &prefixes(plan), fixed);
        let mut known = Vec::new();
        let [from, to] = [Field::Source, Field::Destination].map(|end| self.concerned(end));
        for (i, rule) in plan.rules.iter().enumerate() {
            if !rule.from.interfaces.contains(ingress) || !device.is_enabled(RuleId(i as u16)) {
                continue;
            }
            let destination = &rule.parties.destination;
            if from.as_ref().is_some_and(|from| !from.holds_any(&rule.senders()))
                || to.as_ref().is_some_and(|to| !to.holds_any(destination))
            {
                continue;
            }
            let receivers = match self.led_over(&led, &rule.into.interfaces, &mut known) {
                Receivers::None => continue,
                Receivers::All => None,
                Receivers::Some(condition) => Some(condition),
            };
            match &rule.kind {
                RuleKind::Static(s) => {
                    if let Some(pair) = device.prefix_pair(s) {
                        let odd = without_counterpart(s.internal, &pair);
                        let odd = Constraint::default().with(Field::Source, odd);
                        self.push_for(receivers, odd);
                    }
                    let base = Constraint::parties(&s.internal.into(), destination);
                    for (protocol, ports) in by_protocol(&rule.service) {
                        let one = with_ports(base.clone(), protocol, ports, Field::SourcePort);
                        self.push_for(receivers, one);
                    }
                }
                RuleKind::Forward(f) => {
                    for server in &f.servers {
                        let base = Constraint::parties(
                            &AddressRange::one(server.address).into(),
                            destination,
                        );
                        let last =
                            u128::from(server.port) + u128::from(f.ports.last - f.ports.first);
                        let ports = Intervals::new(vec![(server.port.into(), last.min(65_535))]);
                        let one = with_ports(base, Some(f.protocol), ports, Field::SourcePort);
                        self.push_for(receivers, one);
                    }
                }
                RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => {
                    let parties = Constraint::parties(&rule.parties.source, destination);
                    self.entry_for(receivers, &parties, &rule.service, None);
                }
            }
        }
    }
}

/// Receivers as a condition.
#[derive(Debug, Clone, Copy)]
enum Receivers {
    /// There are none.
    None,
    /// It may be any.
    All,
    /// Those of the condition at a position.
    Some(u32),
}

/// Prefixes that a device has a way to.
fn prefixes(plan: &plan::DevicePlan) -> Vec<Prefix> {
    let connected = plan.interfaces.iter().flat_map(|i| i.addresses.iter().map(|a| a.1));
    connected.chain(plan.routes.iter().map(|r| r.to)).collect()
}

#[cfg(test)]
mod tests;
