//! A condition on some fields of a packet.

use zarnet_core::net::AddressSet;

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
