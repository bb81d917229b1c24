//! Receivers whose packets may leave into the realms of a rule: whose sender it would translate
//! matters to no others.

use zarnet_core::device::Device;
use zarnet_core::net::{AddressRange, AddressSet, Prefix};
use zarnet_core::plan::InterfaceSet;

use super::super::boxes::Intervals;
use super::super::{MAPPED, address, number};
use super::fixed::Fixed;

/// Receivers by the interfaces that their packets may leave by.
pub(super) struct LedOver<'a> {
    device: &'a Device,
    /// First addresses of stretches of which all packets have one way, or ways for some senders.
    starts: Vec<u128>,
    /// Those that a fixed rule may turn into others: who these are is not asked.
    turned: Intervals,
    /// Those that nothing is routed to: the device's own, and those that it answers for.
    unrouted: Intervals,
}

impl<'a> LedOver<'a> {
    /// `prefixes`: those that the device has a way to; `fixed`: the fixed rules that packets may
    /// come in by.
    pub(super) fn new(device: &'a Device, prefixes: &[Prefix], fixed: &[Fixed]) -> Self {
        let ends = |r: AddressRange| (number(r.first()), number(r.last()));
        let v4 = (MAPPED, MAPPED | 0xffff_ffff);
        let mut starts: Vec<u128> = (prefixes.iter().map(|prefix| ends(prefix.range())))
            .chain([v4])
            .flat_map(|(first, last)| [Some(first), last.checked_add(1)])
            .flatten()
            .chain([0])
            .collect();
        starts.sort_unstable();
        starts.dedup();
        let turned = Intervals::new(fixed.iter().map(|f| ends(f.external)).collect());
        let own = device.plan().interfaces.iter().flat_map(|i| i.own()).map(AddressRange::one);
        let own = Intervals::addresses(&own.collect::<AddressSet>());
        let unrouted = Intervals::addresses(device.claimed()).union(&own);
        Self { device, starts, turned, unrouted }
    }

    /// The receivers whose packets may leave by one of some interfaces.
    pub(super) fn receivers(&self, interfaces: &InterfaceSet) -> Intervals {
        let lasts = self.starts.iter().skip(1).map(|next| next - 1).chain([u128::MAX]);
        let stretches = self.starts.iter().copied().zip(lasts);
        let led =
            stretches.filter(|(first, _)| self.device.may_lead_over(interfaces, address(*first)));
        Intervals::new(led.collect()).difference(&self.unrouted).union(&self.turned)
    }
}
