//! Receivers whose packets may leave into the realms of a rule: whose sender it would translate
//! matters to no others.

use zarnet_core::device::Device;
use zarnet_core::net::{AddressRange, AddressSet};
use zarnet_core::plan::InterfaceSet;

use super::super::boxes::Intervals;
use super::super::{Field, MAPPED, address, number};
use super::fixed::Fixed;
use super::{Conditions, Constraint, prefixes};

/// Receivers as a condition.
#[derive(Debug, Clone, Copy)]
pub(super) enum Receivers {
    /// There are none.
    None,
    /// It may be any.
    All,
    /// Those of the condition at a position.
    Some(u32),
}

/// Receivers by the interfaces that their packets may leave by.
pub(super) struct LedOver<'a> {
    device: &'a Device,
    /// Those that a fixed rule may turn into others: who these are is not asked.
    turned: Intervals,
    /// Those that nothing is routed to: the device's own, and those that it answers for.
    unrouted: Intervals,
    known: Vec<(InterfaceSet, Receivers)>,
}

impl<'a> LedOver<'a> {
    /// `fixed`: the fixed rules that packets may come in by.
    pub(super) fn new(device: &'a Device, fixed: &[Fixed]) -> Self {
        let range = |r: AddressRange| (number(r.first()), number(r.last()));
        let turned = Intervals::new(fixed.iter().map(|f| range(f.external)).collect());
        let own = device.plan().interfaces.iter().flat_map(|i| i.own()).map(AddressRange::one);
        let own = Intervals::addresses(&own.collect::<AddressSet>());
        let unrouted = Intervals::addresses(device.claimed()).union(&own);
        Self { device, turned, unrouted, known: Vec::new() }
    }

    /// The receivers whose packets may leave by one of some interfaces, as a condition among others.
    pub(super) fn receivers(
        &mut self,
        conditions: &mut Conditions,
        interfaces: &InterfaceSet,
    ) -> Receivers {
        if let Some((_, known)) = self.known.iter().find(|known| known.0 == *interfaces) {
            return *known;
        }
        let set = self.led_over(interfaces).difference(&self.unrouted).union(&self.turned);
        let condition = Constraint::default().with(Field::Destination, set);
        let receivers = if condition.is_everything() {
            Receivers::All
        } else {
            conditions.push_for(None, condition).map_or(Receivers::None, Receivers::Some)
        };
        self.known.push((interfaces.clone(), receivers));
        receivers
    }

    /// The addresses that a route leads to over one of some interfaces, maybe for some senders only.
    fn led_over(&self, interfaces: &InterfaceSet) -> Intervals {
        let ranges = prefixes(self.device.plan()).into_iter().map(|prefix| prefix.range());
        let ends = ranges.map(|r| (number(r.first()), number(r.last())));
        let v4 = (MAPPED, MAPPED | 0xffff_ffff);
        let mut starts: Vec<u128> = ends
            .chain([v4])
            .flat_map(|(first, last)| [Some(first), last.checked_add(1)])
            .flatten()
            .chain([0])
            .collect();
        starts.sort_unstable();
        starts.dedup();
        let lasts = starts.iter().skip(1).map(|next| next - 1).chain([u128::MAX]);
        let led = starts.iter().copied().zip(lasts);
        let led = led.filter(|(first, _)| self.device.may_lead_over(interfaces, address(*first)));
        Intervals::new(led.collect())
    }
}
