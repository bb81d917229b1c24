//! What a device counts of the addresses that it hands out.

use std::net::IpAddr;

use super::Peak;
use crate::device::bindings::{Bindings, NONE, Sink, TableEvent};
use crate::device::compiled::Compiled;
use crate::plan::Pool;

/// Of a pool.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct PoolUse {
    /// Addresses that can be handed out.
    pub usable: u64,
    /// Addresses with a mapping.
    pub in_use: u64,
    /// Most addresses at one time.
    pub peak: Peak,
    /// Packets refused for want of an address or port.
    pub refused: u64,
}

/// Of an external address that dynamic mappings have used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AddressUse {
    /// The address.
    pub address: IpAddr,
    /// Dynamic mappings on it.
    pub mappings: u64,
    /// Most of them at one time.
    pub peak: Peak,
    /// How many were made on it.
    pub created: u64,
}

/// Of a target.
#[derive(Debug, Clone, Copy, Default)]
struct TargetCounters {
    /// Most addresses in use at one time.
    peak: Peak,
    /// Packets refused for want of an address or port.
    refused: u64,
}

/// Of an external address, by its place in the table.
#[derive(Debug, Clone, Copy, Default)]
struct AddressCounters {
    /// Most mappings at one time.
    peak: Peak,
    /// Mappings made.
    created: u64,
}

/// Of all targets and external addresses.
#[derive(Debug, Clone, Default)]
pub(in crate::device) struct UseCounters {
    targets: Vec<TargetCounters>,
    addresses: Vec<AddressCounters>,
}

impl UseCounters {
    /// None yet, of so many targets.
    pub(super) fn new(targets: usize) -> Self {
        Self { targets: vec![TargetCounters::default(); targets], addresses: Vec::new() }
    }

    /// Targets have these numbers from now on, and there are so many.
    pub(super) fn renumber(&mut self, numbers: &[u16], targets: usize) {
        let before = std::mem::replace(&mut self.targets, vec![TargetCounters::default(); targets]);
        for (new, counters) in numbers.iter().zip(before) {
            self.targets[usize::from(*new)] = counters;
        }
    }

    /// Every external address that dynamic mappings have used, in numeric order.
    pub(in crate::device) fn addresses(&self, bindings: &Bindings) -> Vec<AddressUse> {
        let used = (0..).zip(&self.addresses).filter(|(_, counters)| counters.created > 0);
        let mut list: Vec<AddressUse> = used
            .map(|(place, counters)| {
                let external = bindings.externals.get(place);
                AddressUse {
                    address: external.address.address(),
                    mappings: u64::from(external.endpoints) + u64::from(external.whole != NONE),
                    peak: counters.peak,
                    created: counters.created,
                }
            })
            .collect();
        list.sort_unstable_by_key(|a| a.address);
        list
    }

    /// Use of each pool, in the order of the plan. A pool that is handed out whole and by port counts as the former.
    pub(in crate::device) fn pools(&self, compiled: &Compiled, bindings: &Bindings) -> Vec<PoolUse> {
        // what it lists counts, whether or not a rule uses it, less what nobody can be given
        let of = |pool: &Pool| PoolUse { usable: compiled.assignable(pool), ..PoolUse::default() };
        let mut pools: Vec<PoolUse> = compiled.plan.pools.iter().map(of).collect();
        for whole in [false, true] {
            for (number, config) in (0..).zip(&compiled.targets.list) {
                if let Some(pool) = config.pool.filter(|_| config.whole == whole) {
                    let counters = self.targets[usize::from(number)];
                    let use_ = &mut pools[pool.index()];
                    let refused = use_.refused + counters.refused;
                    let in_use = bindings.target(number).in_use.into();
                    *use_ = PoolUse { usable: use_.usable, in_use, peak: counters.peak, refused };
                }
            }
        }
        pools
    }
}

impl Sink for UseCounters {
    #[inline(always)]
    fn note(&mut self, at: u64, event: TableEvent, _: &Bindings) {
        match event {
            TableEvent::MappingOpened { external, on_address, .. } => {
                let place = external as usize;
                if self.addresses.len() <= place {
                    self.addresses.resize(place + 1, AddressCounters::default());
                }
                let address = &mut self.addresses[place];
                address.created += 1;
                address.peak.note(on_address.into(), at);
            }
            TableEvent::AddressTaken { target, in_use } => {
                self.targets[usize::from(target)].peak.note(in_use.into(), at);
            }
            TableEvent::Refused { targets, .. } => {
                targets.into_iter().flatten().for_each(|t| self.targets[usize::from(t)].refused += 1);
            }
            TableEvent::MappingClosed { .. }
            | TableEvent::MappingHandedOver { .. }
            | TableEvent::SessionOpened { .. }
            | TableEvent::SessionClosed { .. }
            | TableEvent::PortTaken { .. }
            | TableEvent::PortFreed { .. }
            | TableEvent::BlockTaken { .. }
            | TableEvent::BlockFreed { .. }
            | TableEvent::AddressFreed { .. } => {}
        }
    }
}
