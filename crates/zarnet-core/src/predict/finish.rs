//! The end of a run: what is due by then, and the tables as they are at the wanted moment.

use std::collections::HashMap;
use std::net::IpAddr;

use super::run::Run;
use super::timeline::Timeline;
use super::{DeviceTable, Moment, Prediction};
use crate::net::{Endpoint, Instant};
use crate::plan::DeviceId;

impl Run {
    /// Ends what is due when nothing more comes. What is only needed to look something up is given
    /// back: there is room for the answer then.
    fn expire_finally(&mut self, now: Instant) {
        self.network.release();
        for i in 0..self.network.devices().len() {
            let device = self.network.device_mut(DeviceId(i as u16));
            if self.options.stepwise { device.expire(now) } else { device.expire_finally(now) }
        }
    }

    pub(super) fn expire_all(&mut self, now: Instant) {
        for i in 0..self.network.devices().len() {
            self.network.device_mut(DeviceId(i as u16)).expire(now);
        }
    }

    /// Plays all that is still to come, and tells when that ends.
    pub(super) fn reach_end(&mut self) -> Instant {
        self.advance(Instant::NEVER);
        self.expire_all(self.end);
        self.end
    }

    /// The same when nobody looks anything up any more.
    pub(super) fn end_all(&mut self) -> Instant {
        self.advance(Instant::NEVER);
        self.expire_finally(self.end);
        self.end
    }

    pub(super) fn finish(mut self) -> Option<Prediction> {
        self.advance(Instant::NEVER);
        if self.network.missed_source() {
            return None;
        }
        let (at, mut tables) = match (self.snapshot.take(), self.options.moment) {
            (None, Moment::End) => {
                self.expire_finally(self.end);
                (self.end, self.tables(self.end))
            }
            (taken, moment) => {
                let at = if let Moment::At(at) = moment { at } else { self.end };
                let taken = taken.unwrap_or_else(|| (at, self.tables(at)));
                self.expire_finally(self.end.max(at));
                taken
            }
        };
        for table in &mut tables {
            let device = &self.network.devices()[table.device.index()];
            table.totals = device.counters();
            // an address that was first used after the moment had no mapping then
            let then: HashMap<IpAddr, u64> =
                table.addresses.iter().map(|a| (a.address, a.mappings)).collect();
            table.addresses = device.addresses();
            for address in &mut table.addresses {
                address.mappings = then.get(&address.address).copied().unwrap_or(0);
            }
            // a moment before another plan took over knows fewer
            table.active.resize(table.totals.rules.len(), 0);
            table.enabled.resize(table.totals.rules.len(), false);
            let pools = device.pools();
            table.pools.resize(pools.len(), Default::default());
            for (pool, total) in table.pools.iter_mut().zip(pools) {
                (pool.usable, pool.peak, pool.refused) = (total.usable, total.peak, total.refused);
            }
            table.history = self.network.device_mut(table.device).finish_history(self.end.max(at));
        }
        // an answer that came late tells of its flow late
        self.not_translated.sort_by_key(|n| n.order);
        Some(Prediction {
            plan: self.network.plan().clone(),
            at,
            tables,
            tally: self.tally,
            not_translated: self.not_translated,
            peak_at: self.peak.1,
            peak_mappings: self.peak.0,
            end: self.end,
            negative: self.negative,
            icmp_errors: self.icmp_errors,
            unattributed: self.unattributed,
            link_only: self.link_only,
            fast_path: self.fast_path,
            elsewhere: self.strangers.most(self.seen - self.link_only, &self.network),
            recording: self.recording,
            timeline: self.timeline.map(Timeline::rows),
        })
    }

    /// The tables after everything that is due at an instant.
    pub(super) fn tables(&mut self, at: Instant) -> Vec<DeviceTable> {
        self.expire_all(at);
        let (wants_mappings, wants_sessions) = (self.options.mappings, self.options.sessions);
        let table = |(i, device): (usize, &crate::device::Device)| {
            let counters = device.counters();
            let mut mappings = Vec::new();
            if wants_mappings {
                mappings = device.fixed_mappings(at);
                device.list_mappings(at, &mut mappings);
            }
            let mut rows: Vec<_> =
                if wants_sessions { device.sessions(at).collect() } else { Vec::new() };
            rows.sort_unstable_by_key(|s| {
                (s.protocol, end(s.original.source), end(s.original.destination), s.created)
            });
            DeviceTable {
                device: DeviceId(i as u16),
                mappings,
                sessions: rows,
                session_count: device.session_count(),
                mapping_count: device.mapping_count(),
                active: counters.rules.iter().map(|r| r.active).collect(),
                enabled: device.enabled().to_vec(),
                totals: counters,
                addresses: device.addresses(),
                pools: device.pools(),
                history: None,
            }
        };
        self.network.devices().iter().enumerate().map(table).collect()
    }
}

/// What sorts like an endpoint, faster.
fn end(end: Endpoint) -> (bool, u128, u16) {
    let number = match end.address {
        IpAddr::V4(a) => a.to_bits().into(),
        IpAddr::V6(a) => a.to_bits(),
    };
    (end.address.is_ipv6(), number, end.port)
}
