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

    /// The same for receivers of the family of its senders, where these are of one: there is no
    /// packet between two families.
    pub(super) fn within_family(mut self) -> Self {
        let Some(senders) = self.of(Field::Source) else { return self };
        let ipv4 = Intervals::ipv4();
        let inside = senders.intersection(&ipv4);
        let family = match (inside.is_empty(), inside == *senders) {
            (false, true) => ipv4,
            (true, _) => Intervals::all(Field::Destination).difference(&ipv4),
            (false, false) => return self,
        };
        let to = self.0[Field::Destination as usize].take();
        let to = to.map_or(family.clone(), |to| to.intersection(&family));
        self.with(Field::Destination, to)
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
