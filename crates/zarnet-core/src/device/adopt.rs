//! Another description for a device that runs: its sessions and mappings stay, all that follows from the description is
//! found anew.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use super::config::Config;
use super::index::Index;
use super::pairs::Pairs;
use super::table::{Kind, bits};
use super::{Device, TargetState};
use crate::net::{AddressRange, AddressSet, Instant};
use crate::plan::{self, Dependence, Renaming};

impl Device {
    /// Takes another description over. `taken` as for a new device; `enabled`: which of its rules take part.
    pub(crate) fn adopt(
        &mut self,
        now: Instant,
        plan: plan::Device,
        taken: &Arc<AddressSet>,
        renaming: &Renaming,
        enabled: Vec<bool>,
    ) {
        self.expire(now);
        let left = self.find_leftovers();
        let used = self.externals.used().chain(left.iter().map(|l| l.1.0));
        let used = used.map(|a| AddressRange::one(IpAddr::V4(a.into()))).collect();
        let config = Config::new(plan, taken.clone(), &enabled, used);
        let old = std::mem::replace(&mut self.config, config);
        self.enabled = enabled;
        let targets: Vec<u16> =
            old.targets.iter().map(|t| self.config.target(renaming.target(t.target, &old.plan), t.whole)).collect();
        let rules = |id: u16| renaming.rules[usize::from(id)].0;
        let interfaces =
            |id: u16| renaming.interfaces.get(usize::from(id)).copied().flatten().map_or(u16::MAX, |i| i.0);
        self.table.rename(rules, |t| targets[usize::from(t)], interfaces);
        self.sharing.values_mut().flatten().for_each(|r| *r = rules(*r));
        if let Some(history) = &mut self.history {
            history.rename(renaming, &old.plan);
        }
        self.rename_counts(renaming, &targets, now.0);
        let peer_bound = self.config.plan.behaviour.mapping != Dependence::EndpointIndependent;
        self.peers.retain(|_, _| peer_bound);
        self.index_mappings(peer_bound);
        self.open_pages();
        self.hold_leftovers(&left);
        self.pass_on(now);
        self.externals.forget_returns();
        self.calm_until = 0;
    }

    /// What is counted or remembered by rule, pool or target.
    fn rename_counts(&mut self, renaming: &Renaming, targets: &[u16], now: u64) {
        let count = self.config.plan.rules.len();
        let counters = std::mem::replace(&mut self.counters.rules, vec![Default::default(); count]);
        let turns = std::mem::replace(&mut self.turns, vec![0; count]);
        for (new, (counter, turn)) in renaming.rules.iter().zip(counters.into_iter().zip(turns)) {
            self.counters.rules[new.index()] = counter;
            // the servers may be fewer now
            let servers = match &self.config.plan.rules[new.index()].kind {
                plan::RuleKind::Forward(f) => f.servers.len() as u32,
                _ => 1,
            };
            self.turns[new.index()] = turn % servers.max(1);
        }
        let refused = std::mem::take(&mut self.counters.refused_by).into_iter();
        self.counters.refused_by =
            refused.map(|((rule, why), n)| ((rule.map(|r| renaming.rules[r.index()]), why), n)).collect();
        let picked = std::mem::replace(&mut self.last_picked, vec![None; self.config.plan.pools.len()]);
        for (new, last) in renaming.pools.iter().zip(picked) {
            self.last_picked[new.index()] = last;
        }
        let states = std::mem::replace(&mut self.targets, vec![TargetState::default(); self.config.targets.len()]);
        self.set_up_targets();
        for (new, state) in targets.iter().zip(states) {
            let target = &mut self.targets[usize::from(*new)];
            (target.peak, target.refused) = (state.peak, state.refused);
        }
        let used: Vec<u32> = self.externals.used().collect();
        used.into_iter().for_each(|address| self.note_use(address, true, now));
    }

    /// What mappings are found by, and what is counted by host.
    fn index_mappings(&mut self, peer_bound: bool) {
        (self.pairs, self.on_fallback, self.by_host) = (Pairs::new(), HashMap::default(), HashMap::default());
        let mut index = Index::new();
        let limited = self.config.plan.behaviour.ports_per_host.is_some();
        let all: Vec<u32> = self.table.all_mappings().collect();
        for id in all {
            let m = *self.table.mapping(id);
            let peer = self.table.sessions_of(id).next().map(|s| self.table.session(s));
            let peer = peer.map_or((0, 0), |s| (s.remote, s.remote_port));
            let (hash, external) = match m.kind() {
                Kind::Endpoint => {
                    let (external, protocol) = self.externals.owner(m.place());
                    let peer = if peer_bound { *self.peers.entry(id).or_insert(peer) } else { peer };
                    if limited {
                        *self.by_host.entry(m.internal).or_default() += 1;
                    }
                    (self.endpoint_hash(protocol, m.internal, m.internal_port, peer.0, peer.1), external)
                }
                Kind::Address => (Self::address_hash(m.internal, m.target), m.place()),
                Kind::Portless => {
                    let protocol = crate::net::Protocol(m.internal_port as u8);
                    (Self::portless_hash(protocol, m.internal, peer.0), m.place())
                }
            };
            index.insert(hash, id);
            if m.kind() != Kind::Address {
                if self.keeps_pairs(m.target) {
                    self.pairs.add(m.internal, m.target, external);
                }
                if self.config.rule_targets[usize::from(m.rule)].fallback == Some(m.target) {
                    *self.on_fallback.entry((m.internal, m.rule)).or_default() += 1;
                }
            }
        }
        self.table.by_internal = index;
    }

    /// Which ports of the addresses in use can be handed out, and whose blocks they lie in.
    fn open_pages(&mut self) {
        let (config, behaviour) = (&self.config, &self.config.plan.behaviour);
        self.externals.reopen(behaviour.port_classes.len(), |address, protocol, ports| {
            config.reserve(IpAddr::V4(address.into()), protocol, ports);
        });
        let Some(size) = behaviour.block_size else { return };
        for id in self.table.all_mappings() {
            let m = self.table.mapping(id);
            let class = behaviour.port_class(m.internal_port);
            let into = behaviour.port_classes[class].into;
            if m.kind() == Kind::Endpoint && (into.0..=into.1).contains(&m.external_port) {
                let block = (class as u32) << 16 | u32::from((m.external_port - into.0) / size);
                self.externals.page_mut(m.place()).blocks.entry(block).or_insert((m.internal, 0)).1 += 1;
            }
        }
    }

    /// An address of its own is no longer: all sessions and dynamic mappings on it end.
    pub(crate) fn lose(&mut self, now: Instant, address: IpAddr) {
        self.expire(now);
        let has_it = |id: &u32| {
            let (original, translated) = self.tuples(*id);
            [original.source, original.destination, translated.source, translated.destination]
                .iter()
                .any(|end| end.address == address)
        };
        let doomed: Vec<u32> = self.table.all_sessions().filter(has_it).collect();
        doomed.into_iter().for_each(|id| self.end_session(id, now.0, false));
        let external = bits(address).and_then(|a| self.externals.find(a));
        let lingering = external.map(|e| self.externals.get(e).whole).filter(|m| self.lingers_until(*m).is_some());
        if let Some(mapping) = lingering {
            self.remove_mapping(mapping, 0, 0, now.0);
        }
    }

    /// A description with an interface at another address.
    pub(crate) fn plan_with_lease(
        &self,
        interface: plan::InterfaceId,
        address: IpAddr,
        prefix: crate::net::Prefix,
    ) -> plan::Device {
        let mut plan = self.config.plan.clone();
        let addresses = &mut plan.interfaces[interface.index()].addresses;
        match addresses.iter_mut().find(|a| a.0.is_ipv4() == address.is_ipv4()) {
            Some(old) => *old = (address, prefix),
            None => addresses.push((address, prefix)),
        }
        plan
    }

    /// Which of its rules take part.
    pub(crate) fn enabled(&self) -> &[bool] {
        &self.enabled
    }
}
