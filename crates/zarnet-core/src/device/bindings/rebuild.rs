//! What is found anew when another plan takes over: numbers, indexes, counts by host, ports that
//! can be handed out. No mapping and no session is opened or closed by it.

use std::collections::BTreeSet;

use super::index::Index;
use super::keys::{address_hash, endpoint_hash, portless_hash};
use super::target_use::TargetUse;
use super::{Engine, HostCounts, Kind, Live, PairedAddresses, Sink};
use crate::device::key::Key;
use crate::net::Protocol;
use crate::plan::{self, Dependence, Renaming};

/// What has other numbers now.
pub(in crate::device) struct Renumbered<'a> {
    pub renaming: &'a Renaming,
    /// The new position of each target.
    pub targets: &'a [u16],
}

impl<S: Sink> Engine<'_, S> {
    /// Gives everything the numbers of the new plan, which this engine has already, and finds anew
    /// what follows from it.
    pub(in crate::device) fn rebuild(&mut self, now: u64, new: &Renumbered<'_>) {
        self.renumber_table(new);
        if !self.compiled.admits_everybody() {
            // who was addressed is told by the sessions that a mapping lists
            self.spell_out_sessions(|_, _| true);
        }
        self.renumber_turns(new.renaming);
        self.bindings.targets = self.compiled.targets.list.iter().map(TargetUse::unused).collect();
        self.find_pairing();
        let used: Vec<Key> = self.bindings.externals.used().collect();
        used.into_iter().for_each(|address| self.note_use(address, true, now));
        self.bindings.dependence = self.compiled.plan.behaviour.mapping;
        let peer_bound = self.bindings.dependence != Dependence::EndpointIndependent;
        self.bindings.details.peers.retain(|_, _| peer_bound);
        self.index_mappings(peer_bound);
        self.reopen_ports();
    }

    fn renumber_table(&mut self, new: &Renumbered<'_>) {
        let rules = |id: u16| new.renaming.rules[usize::from(id)].0;
        let interfaces = |id: u16| {
            new.renaming
                .interfaces
                .get(usize::from(id))
                .copied()
                .flatten()
                .map_or(u16::MAX, |i| i.0)
        };
        self.bindings.table.rename(rules, |t| new.targets[usize::from(t)], interfaces);
        self.bindings.hairpins.rename(rules);
        self.bindings.details.sharing.values_mut().flatten().for_each(|r| *r = rules(*r));
        let live = std::mem::replace(
            &mut self.bindings.live,
            vec![Live::default(); self.compiled.plan.rules.len()],
        );
        for (rule, live) in new.renaming.rules.iter().zip(live) {
            self.bindings.live[rule.index()] = live;
        }
    }

    /// What choices go on from.
    fn renumber_turns(&mut self, renaming: &Renaming) {
        let plan = &self.compiled.plan;
        let choices = &mut self.bindings.choices;
        let next_server = std::mem::replace(&mut choices.next_server, vec![0; plan.rules.len()]);
        for (rule, next) in renaming.rules.iter().zip(next_server) {
            // the servers may be fewer now
            let servers = match &plan.rules[rule.index()].kind {
                plan::RuleKind::Forward(f) => f.servers.len() as u32,
                plan::RuleKind::Exempt
                | plan::RuleKind::Static(_)
                | plan::RuleKind::Pool { .. }
                | plan::RuleKind::Overload { .. } => 1,
            };
            choices.next_server[rule.index()] = next % servers.max(1);
        }
        let picked = std::mem::replace(&mut choices.last_picked, vec![None; plan.pools.len()]);
        for (pool, last) in renaming.pools.iter().zip(picked) {
            choices.last_picked[pool.index()] = last;
        }
    }

    /// Hosts have mappings already: where they have which address is kept.
    fn find_pairing(&mut self) {
        let paired = self.compiled.plan.behaviour.paired;
        for (state, config) in self.bindings.targets.iter_mut().zip(&self.compiled.targets.list) {
            state.keep_pairs(config, paired);
        }
    }

    /// What mappings are found by, and what is counted by host.
    fn index_mappings(&mut self, peer_bound: bool) {
        (self.bindings.paired, self.bindings.hosts) =
            (PairedAddresses::default(), HostCounts::default());
        let mut index = Index::new();
        let limited = self.compiled.plan.behaviour.ports_per_host.is_some();
        let all: Vec<u32> = self.bindings.table.all_mappings().collect();
        for id in all {
            let table = &self.bindings.table;
            let m = *table.mapping(id);
            let peer = table.sessions_of(id).next().map(|s| table.session(s));
            let peer = peer.map_or((Key::NONE, 0), |s| (s.remote, s.remote_port));
            let hash = match m.kind() {
                Kind::Endpoint => {
                    let protocol = self.bindings.externals.protocol_of(m.place());
                    let peers = &mut self.bindings.details.peers;
                    let peer = if peer_bound { *peers.entry(id).or_insert(peer) } else { peer };
                    if limited {
                        self.bindings.hosts.add_port(m.internal);
                    }
                    endpoint_hash(
                        self.bindings.dependence,
                        protocol,
                        (m.internal, m.internal_port),
                        peer,
                    )
                }
                Kind::Address => address_hash(m.internal, m.target),
                Kind::Portless => {
                    portless_hash(Protocol(m.internal_port as u8), m.internal, peer.0)
                }
            };
            index.insert(hash, id);
            if m.kind() != Kind::Address {
                if self.bindings.target(m.target).keeps_pairs() {
                    self.bindings.paired.add(
                        m.internal,
                        m.target,
                        self.bindings.external_under(id),
                    );
                }
                if self.compiled.targets.is_fallback(m.rule, m.target) {
                    self.bindings.hosts.add_on_fallback(m.internal, m.rule);
                }
            }
        }
        self.bindings.table.by_internal = index;
    }

    /// Which ports of the addresses in use can be handed out, and whose blocks they lie in.
    fn reopen_ports(&mut self) {
        let (compiled, behaviour) = (self.compiled, &self.compiled.plan.behaviour);
        // where ports were overloaded, several mappings hold one
        let held: BTreeSet<(u32, u16)> = self
            .bindings
            .table
            .all_mappings()
            .map(|id| self.bindings.table.mapping(id))
            .filter(|m| m.kind() == Kind::Endpoint)
            .map(|m| (m.place(), m.external_port))
            .collect();
        let classes = behaviour.port_classes.len();
        self.bindings.externals.reopen(classes, held.into_iter(), |address, protocol, ports| {
            compiled
                .reserved(address.address(), protocol, |first, last| ports.take_all(first, last));
        });
        if behaviour.port_overloading {
            self.bindings.by_port.keep(&self.bindings.table);
        }
        let Some(size) = behaviour.block_size else { return };
        for id in self.bindings.table.all_mappings() {
            let m = self.bindings.table.mapping(id);
            let class = behaviour.port_class(m.internal_port);
            let into = behaviour.port_classes[class].into;
            if m.kind() == Kind::Endpoint && (into.0..=into.1).contains(&m.external_port) {
                let (block, host, place) =
                    ((m.external_port - into.0) / size, m.internal, m.place());
                self.bindings.externals.take_block(place, (class, block), host);
            }
        }
    }
}
