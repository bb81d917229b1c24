//! A condition on some fields of a packet.

use std::collections::BTreeMap;

use zarnet_core::net::{AddressSet, Protocol, ServiceSet};

use super::super::Field;
use super::super::boxes::Intervals;

/// A product of sets of numbers; a field that it does not mind is `None`.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub struct Constraint(pub(super) [Option<Intervals>; 5]);

impl Constraint {
    /// What it asks of a field.
    pub fn of(&self, field: Field) -> Option<&Intervals> {
        self.0[field as usize].as_ref()
    }

    pub(crate) fn with(mut self, field: Field, set: Intervals) -> Self {
        let all = set.list() == [(0, field.most())];
        self.0[field as usize] = (!all).then_some(set);
        self
    }

    /// Whether no packet meets it.
    pub(crate) fn is_empty(&self) -> bool {
        self.0.iter().flatten().any(Intervals::is_empty)
    }

    /// Whether every packet meets it.
    pub(crate) fn is_everything(&self) -> bool {
        self.0.iter().all(Option::is_none)
    }

    /// Whether some packet meets both.
    pub(super) fn meets(&self, other: &Self) -> bool {
        self.0.iter().zip(&other.0).all(|(a, b)| match (a, b) {
            (Some(a), Some(b)) => a.intersects(b),
            _ => true,
        })
    }

    pub(super) fn parties(source: &AddressSet, destination: &AddressSet) -> Self {
        let source = Intervals::addresses(source);
        Self::default()
            .with(Field::Source, source)
            .with(Field::Destination, Intervals::addresses(destination))
    }
}

/// First and last numbers.
pub(super) type Spans = Vec<(u128, u128)>;

/// The ports of each protocol that services name; `None` is any protocol.
pub(super) fn by_protocol(services: &ServiceSet) -> Vec<(Option<Protocol>, Intervals)> {
    let mut map: BTreeMap<Option<u8>, Vec<(u128, u128)>> = BTreeMap::new();
    for s in &services.0 {
        let ports = (u128::from(s.ports.first), u128::from(s.ports.last));
        map.entry(s.protocol.map(|p| p.0)).or_default().push(ports);
    }
    map.into_iter().map(|(p, list)| (p.map(Protocol), Intervals::new(list))).collect()
}

/// A condition with these ports at one end, of a protocol.
pub(super) fn with_ports(
    base: Constraint,
    protocol: Option<Protocol>,
    ports: Intervals,
    field: Field,
) -> Constraint {
    match protocol {
        None => base,
        Some(p) => {
            let base = base.with(Field::Protocol, Intervals::one(p.0.into()));
            if p.has_ports() { base.with(field, ports) } else { base }
        }
    }
}
