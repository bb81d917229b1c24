//! Fixed rules as conditions: what they take, and what lies behind them.

use zarnet_core::device::PrefixPair;
use zarnet_core::net::{AddressRange, AddressSet, ServiceSet};

use super::super::boxes::Intervals;
use super::super::number;
use super::prefix::mapped;

/// A fixed rule that packets may come in by.
pub(super) struct Fixed {
    pub(super) external: AddressRange,
    pub(super) internal: AddressRange,
    pub(super) services: ServiceSet,
    /// Where a prefix stands for another.
    pub(super) prefix: Option<PrefixPair>,
    /// How far its ports move, wrapping.
    pub(super) ports_by: u16,
}

impl Fixed {
    /// The external addresses that become these internal ones.
    pub(super) fn addresses_before(&self, inside: &Intervals) -> Intervals {
        match &self.prefix {
            Some(pair) => mapped(inside, pair, |a| pair.outward(a)),
            None => {
                let (external, internal) = (self.external.first(), self.internal.first());
                inside.moved(number(external).wrapping_sub(number(internal)))
            }
        }
    }

    /// The ports that become these.
    pub(super) fn ports_before(&self, set: &Intervals) -> Intervals {
        if self.ports_by == 0 || set.count() > 65_535 {
            return set.clone();
        }
        // ports move by so much and wrap, as the device reckons them
        let back = |n: u128| u128::from((n as u16).wrapping_sub(self.ports_by));
        let parts = set.list().iter().flat_map(|(a, b)| {
            let (first, last) = (back(*a), back(*b));
            if first <= last { vec![(first, last)] } else { vec![(first, 65_535), (0, last)] }
        });
        Intervals::new(parts.collect())
    }
}

/// What a condition asks of a packet after its destination was translated.
#[derive(Clone, Copy)]
pub(super) struct Asked<'a> {
    pub(super) source: &'a AddressSet,
    pub(super) destination: &'a AddressSet,
    pub(super) service: &'a ServiceSet,
    pub(super) source_service: Option<&'a ServiceSet>,
}
