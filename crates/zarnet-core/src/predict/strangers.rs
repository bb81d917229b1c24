//! Senders of a capture that are not behind the interface that it is said to be from.

use std::collections::HashMap;
use std::net::IpAddr;

use crate::limits;
use crate::net::{Family, Prefix};
use crate::network::Network;
use crate::plan::{DeviceId, InterfaceId};

/// How many prefixes are told.
const MOST_TOLD: usize = 3;

/// A capture that seems to be from somewhere else.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Elsewhere {
    /// The device that it is said to be from.
    pub device: DeviceId,
    /// The interface that it is said to be from.
    pub seen_on: InterfaceId,
    /// How many packets were seen there from senders that cannot be behind it.
    pub packets: u64,
    /// The prefixes that most of these senders are in, and how many packets came from each: `/24`
    /// or `/64`.
    pub prefixes: Vec<(Prefix, u64)>,
    /// The interface of the device that the first of these prefixes lies behind, if one does.
    pub fits: Option<InterfaceId>,
}

/// Counts by place and prefix.
#[derive(Debug, Default)]
pub(super) struct Strangers(HashMap<(DeviceId, InterfaceId, Prefix), u64>);

impl Strangers {
    /// A packet of a sender that is not behind the interface.
    pub(super) fn note(&mut self, device: DeviceId, interface: InterfaceId, source: IpAddr) {
        let length = if Family::of(source) == Family::V4 { 24 } else { 64 };
        let Some(prefix) = Prefix::holding(source, length) else { return };
        let key = (device, interface, prefix);
        if self.0.len() < limits::STRANGE_PREFIXES || self.0.contains_key(&key) {
            *self.0.entry(key).or_default() += 1;
        }
    }

    /// Where they are, if they sent at least half of the packets that were seen.
    pub(super) fn most(&self, seen: u64, network: &Network) -> Option<Elsewhere> {
        let mut list: Vec<_> = self.0.iter().collect();
        list.sort_by_key(|((device, interface, prefix), n)| {
            (std::cmp::Reverse(**n), *device, *interface, prefix.first())
        });
        let (device, seen_on, first) = list.first()?.0;
        let here = list.iter().filter(|e| (e.0.0, e.0.1) == (*device, *seen_on));
        let packets: u64 = here.clone().map(|e| e.1).sum();
        if packets * 2 < seen {
            return None;
        }
        let fits = network
            .devices()
            .get(device.index())?
            .lies_behind(first.first())
            .filter(|i| i != seen_on);
        let prefixes = here.take(MOST_TOLD).map(|e| (e.0.2, *e.1)).collect();
        Some(Elsewhere { device: *device, seen_on: *seen_on, packets, prefixes, fits })
    }
}
