//! Step 10: what a forwarded first packet leaves behind.

use std::net::IpAddr;

use super::choose::Choice;
use super::session::{INBOUND, NONE, Session, Terms};
use super::table::{Kind, Mapping, Wide, bits};
use super::translate::{Entry, Source};
use super::{Device, Refusal, SessionRef};
use crate::net::{Endpoint, Instant, Packet};
use crate::plan::{Dependence, InterfaceId, Pick, RuleId, RuleKind, Spread};
use crate::reason::Reason;

/// A session that was made.
pub(super) struct Made {
    pub session: SessionRef,
    /// Whether an older one has the same answers, which belong to that as long as it lives.
    pub contested: bool,
}

impl Device {
    /// Makes the session of a first packet, and the mapping if it needs a new one. The device's own comes in nowhere.
    pub(super) fn commit(
        &mut self,
        now: Instant,
        (ingress, egress): (Option<InterfaceId>, InterfaceId),
        sent: Packet,
        out: Packet,
        entry: &Entry,
        source: Source,
    ) -> Result<Made, Refusal> {
        self.check_sessions()?;
        let inbound_rule = entry.rule;
        let outbound_rule = source.rule();
        let hairpins = |r: RuleId| ingress.is_some_and(|i| self.rule(r.0).hairpin.interfaces.contains(i));
        let hairpin = inbound_rule.is_some_and(hairpins);
        let inbound = inbound_rule.is_some() && outbound_rule.is_none();
        // the far end as the mapping's filter knows it
        let remote = match (inbound, hairpin) {
            (true, _) => sent.source(),
            (false, true) => sent.destination(),
            (false, false) => out.destination(),
        };
        let source_mapping = match &source {
            Source::Mapped(rule, mapping, _) => {
                self.share(*mapping, rule.0);
                *mapping
            }
            Source::New(rule, choice, _) => self.make_mapping(now, *rule, choice, sent, remote),
            _ => NONE,
        };
        let entered = entry.mapping.unwrap_or(NONE);
        // an address mapping that was about to go is in use again
        if !self.lingers.is_empty() {
            self.lingers.remove(&source_mapping);
            self.lingers.remove(&entered);
        }
        let compact = !self.config.remembers_interfaces()
            && ingress.is_some()
            && match (source_mapping, entered) {
                (mapping, NONE) if mapping != NONE => inbound_rule.is_none() && self.is_endpoint(mapping),
                // a session of another peer than the mapping's would not be found through it from inside
                (NONE, mapping) if mapping != NONE => {
                    let peer = (bits(remote.address).unwrap_or(0), remote.port);
                    source.kept().is_some() && self.is_endpoint(mapping) && self.is_own_peer(mapping, peer)
                }
                _ => false,
            };
        let answer = Packet { ends: out.ends.reversed(), ..sent };
        let twin = if compact { None } else { self.find_compact(answer) };
        let comes_second = twin.is_some_and(|hit| self.table.session(hit.id).created == now.0);
        let contested = twin.is_some() || self.find_wide(answer, Some(egress)).is_some();
        let wide = (!compact).then_some(Wide {
            protocol: sent.protocol,
            original: sent.ends,
            translated: out.ends,
            inbound_rule: inbound_rule.map(|r| r.0),
            outbound_rule: outbound_rule.map(|r| r.0),
            source_mapping,
            entered,
            interfaces: (ingress.map_or(u16::MAX, |i| i.0), egress.0),
            serial: 0,
            comes_second,
        });
        let owner = if source_mapping != NONE { source_mapping } else { entered };
        let id = self.make_session(now, sent, remote, owner, if inbound { INBOUND } else { 0 }, wide);
        if let Some(rule) = inbound_rule {
            self.take_turn(rule);
        }
        for rule in distinct(inbound_rule, outbound_rule) {
            self.counters.begin(rule.0, now.0);
        }
        Ok(Made { session: SessionRef { id, created: now.0 }, contested })
    }

    fn check_sessions(&self) -> Result<(), Refusal> {
        let full = self.config.plan.behaviour.max_sessions.is_some_and(|m| self.table.session_count() >= m);
        if full { Err(Refusal::new(Reason::DeviceFull, self.config.plan.place)) } else { Ok(()) }
    }

    fn is_endpoint(&self, mapping: u32) -> bool {
        self.table.mapping(mapping).kind() == Kind::Endpoint
    }

    fn make_session(
        &mut self,
        now: Instant,
        sent: Packet,
        remote: Endpoint,
        owner: u32,
        flags: u8,
        wide: Option<Wide>,
    ) -> u32 {
        let terms = Terms::new(&self.config, sent.protocol, sent.destination().port);
        let mut session = Session::new(now.0, terms, owner, flags);
        session.remote = bits(remote.address).unwrap_or(0);
        session.remote_port = remote.port;
        self.add_session(session, wide)
    }

    /// A forward's next session goes to its next server.
    fn take_turn(&mut self, rule: RuleId) {
        if let RuleKind::Forward(f) = &self.config.plan.rules[rule.index()].kind
            && f.servers.len() > 1
            && f.spread == Spread::InTurn
        {
            let turn = &mut self.turns[rule.index()];
            *turn = (*turn + 1) % f.servers.len() as u32;
        }
    }

    /// Two pool rules on one pool share a host's address mapping, which then counts as the newer one's only while the
    /// older is disabled.
    fn share(&mut self, mapping: u32, rule: u16) {
        let owner = self.table.mapping(mapping).rule;
        if owner == rule {
            return;
        }
        let sharing = self.sharing.entry(mapping).or_insert_with(|| vec![owner]);
        if !sharing.contains(&rule) {
            sharing.push(rule);
        }
        if !self.enabled[usize::from(owner)] {
            self.hand_over(mapping, rule);
        }
    }

    /// Lets a mapping count as another rule's.
    pub(super) fn hand_over(&mut self, mapping: u32, rule: u16) {
        let m = self.table.mapping_mut(mapping);
        let before = std::mem::replace(&mut m.rule, rule);
        self.counters.rules[usize::from(before)].mappings -= 1;
        self.counters.rules[usize::from(rule)].mappings += 1;
    }

    pub(super) fn make_mapping(
        &mut self,
        now: Instant,
        rule: RuleId,
        choice: &Choice,
        sent: Packet,
        remote: Endpoint,
    ) -> u32 {
        let (from, protocol) = (sent.source(), sent.protocol);
        let (host, peer) = (bits(from.address).unwrap_or(0), bits(remote.address).unwrap_or(0));
        let external = self.externals.obtain(choice.address);
        let was_used = self.externals.get(external).is_used();
        self.note_place(choice.target, choice.address, external);
        let (place, hash) = match choice.kind {
            Kind::Endpoint => {
                let (config, classes) = (&self.config, self.config.plan.behaviour.port_classes.len());
                let address = IpAddr::V4(choice.address.into());
                let reserve = |ports: &mut _| config.reserve(address, protocol, ports);
                let page = self.externals.obtain_page(choice.address, protocol, classes, reserve);
                (page, self.endpoint_hash(protocol, host, from.port, peer, remote.port))
            }
            Kind::Address => (external, Self::address_hash(host, choice.target)),
            Kind::Portless => (external, Self::portless_hash(protocol, host, peer)),
        };
        let mut mapping = Mapping::new(choice.kind, place, choice.freely);
        mapping.internal = host;
        mapping.rule = rule.0;
        mapping.target = choice.target;
        mapping.internal_port = if choice.kind == Kind::Portless { protocol.0.into() } else { from.port };
        mapping.external_port = choice.port;
        let id = self.table.add_mapping(mapping, now.0, hash);
        match choice.kind {
            Kind::Address => self.externals.get_mut(external).lend(id, now.0),
            Kind::Portless => {
                self.externals.get_mut(external).count(now.0);
                self.portless.insert((external, protocol, peer), id);
            }
            Kind::Endpoint => {
                if self.config.plan.behaviour.mapping != Dependence::EndpointIndependent {
                    self.peers.insert(id, (peer, remote.port));
                }
                if self.externals.bind(place, choice.port, id, now.0) {
                    self.record_port(place, choice.port, now.0, true);
                }
                self.externals.set_last(place, choice.class.into(), choice.port);
                let page = self.externals.page_mut(place);
                if let Some(block) = choice.block {
                    let used = &mut page.blocks.entry(block).or_insert((host, 0)).1;
                    *used += 1;
                    if *used == 1 {
                        self.record_block(place, choice.port, now.0, true);
                    }
                }
                if self.config.plan.behaviour.ports_per_host.is_some() {
                    *self.by_host.entry(host).or_default() += 1;
                }
            }
        }
        if choice.kind != Kind::Address {
            self.pair(host, choice.target, external);
            if self.config.rule_targets[rule.index()].fallback == Some(choice.target) {
                *self.on_fallback.entry((host, rule.0)).or_default() += 1;
            }
        }
        let config = &self.config.targets[usize::from(choice.target)];
        if let (true, Pick::InTurn, Some(pool)) = (choice.picked, config.pick, config.pool) {
            self.last_picked[pool.index()] = Some(choice.address);
        }
        if let Some(position) = choice.random {
            self.random.set_word_pos(position);
        }
        if !was_used {
            self.note_use(choice.address, true, now.0);
        }
        self.counters.map(rule.0, self.table.mapping_count(), now.0);
        self.record_mappings(now.0, true);
        id
    }

    /// Notes where an address of a target stands among those that have been used.
    fn note_place(&mut self, target: u16, address: u32, external: u32) {
        let (state, space) = (&mut self.targets[usize::from(target)], &self.config.targets[usize::from(target)].space);
        let position = space.position(address).filter(|p| space.count() == 1 || state.at_home && *p <= u16::MAX.into());
        let Some(position) = position else { return };
        if state.used_as.len() <= position as usize {
            state.used_as.resize(position as usize + 1, NONE);
        }
        state.used_as[position as usize] = external;
    }

    /// Whether it is kept which address of a target a host has.
    pub(super) fn keeps_pairs(&self, target: u16) -> bool {
        let several = self.config.targets[usize::from(target)].space.count() > 1;
        self.config.plan.behaviour.paired && several && !self.targets[usize::from(target)].at_home
    }

    fn pair(&mut self, host: u32, target: u16, external: u32) {
        if self.targets[usize::from(target)].at_home {
            if self.paired_address(host, target) == Some(self.externals.get(external).address) {
                return;
            }
            // its own mapping is among them
            return self.leave_home(target);
        }
        if self.keeps_pairs(target) {
            self.pairs.add(host, target, external);
        }
    }

    /// Somebody found no room at home: from now on it is kept who has which address of a target.
    pub(super) fn leave_home(&mut self, target: u16) {
        if !std::mem::take(&mut self.targets[usize::from(target)].at_home) {
            return;
        }
        for id in self.table.all_mappings() {
            let m = self.table.mapping(id);
            if m.target == target && m.kind() != Kind::Address {
                let at_port = m.kind() == Kind::Endpoint;
                let external = if at_port { self.externals.external_of(m.place()) } else { m.place() };
                self.pairs.add(m.internal, target, external);
            }
        }
    }

    /// Tells every pool that lists an address whether it is in use.
    pub(super) fn note_use(&mut self, address: u32, used: bool, now: u64) {
        for i in 0..self.config.targets_of(address).len() {
            let target = self.config.targets_of(address)[i];
            let state = &mut self.targets[usize::from(target)];
            let Some(position) = self.config.targets[usize::from(target)].space.position(address) else { continue };
            if used {
                state.in_use += 1;
                state.peak.note(state.in_use.into(), now);
            } else {
                state.in_use -= 1;
            }
            if let Some(free) = &mut state.free {
                if used {
                    free.remove(position)
                } else if !self.leftovers.are_on(address) {
                    free.insert(position)
                }
                let in_use = state.in_use;
                self.record_pool(target, in_use, now, used);
            }
        }
    }
}

/// Two rules, or one if they are the same.
pub(super) fn distinct(a: Option<RuleId>, b: Option<RuleId>) -> impl Iterator<Item = RuleId> {
    a.into_iter().chain(b.filter(|b| Some(*b) != a))
}
