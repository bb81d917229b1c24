//! What can be asked of a device.

use std::net::IpAddr;

use super::Device;
use super::compiled::PrefixPair;
use super::key::Key;
use super::outcome::SessionRef;
use super::pipeline::{Condition, Judged, Verdicts};
use super::sinks::{
    AddressUse, Counters, EndedMapping, History, PoolUse, RefusedFlow, Supply, usable_ports,
};
use super::view::{MappingRow, SessionRow};
use crate::net::{AddressRange, AddressSet, Endpoint, Instant, Packet, Protocol};
use crate::observe::Observer;
use crate::plan::{self, InterfaceId, RuleId};
use crate::reason::Reason;

/// The plan, and what a packet would meet.
impl Device {
    /// The device as planned, with leases as they are now.
    pub fn plan(&self) -> &plan::DevicePlan {
        &self.compiled.plan
    }

    /// Whether a rule takes part, as things are now.
    pub fn is_enabled(&self, rule: RuleId) -> bool {
        self.active.has(rule.0)
    }

    /// Which of its rules take part, by position.
    pub fn enabled(&self) -> &[bool] {
        self.active.all()
    }

    /// The addresses of a fixed rule's external end, as they are now.
    pub fn external_of(&self, external: plan::External) -> Option<AddressRange> {
        self.compiled.plan.external(external)
    }

    /// External addresses of its rules and those it answers ARP for: never routed.
    pub fn claimed(&self) -> &AddressSet {
        &self.compiled.claimed
    }

    /// What becomes of a first packet as things are, without anything coming of it.
    pub fn judge(&self, ingress: InterfaceId, packet: Packet) -> Judged {
        self.judge_watched(ingress, packet, &mut ())
    }

    /// Like [`Self::judge`], reporting each step to an observer.
    pub fn judge_watched<O: Observer>(
        &self,
        ingress: InterfaceId,
        packet: Packet,
        observer: &mut O,
    ) -> Judged {
        self.context().judge(ingress, packet, observer)
    }

    /// The interface that a packet that comes in by another leaves by, by the routes as they are.
    pub fn way_of(&self, ingress: InterfaceId, packet: Packet) -> Option<InterfaceId> {
        self.context().way_of(ingress, packet)
    }

    /// Whether packets to a destination that stays as it is may leave by one of some interfaces,
    /// whoever sends them.
    pub fn may_lead_over(&self, set: &plan::InterfaceSet, destination: IpAddr) -> bool {
        self.compiled.routes.may_lead_over(set, destination)
    }

    /// The source of a packet of its own to `destination`: the address of the interface that the
    /// route leads out by.
    pub fn own_source(&self, destination: IpAddr) -> Option<IpAddr> {
        self.context().own_source(destination)
    }

    /// Which conditions of a rule a first packet on its way out does not meet, with its ends as its
    /// initiator sent them.
    pub fn unmet_outbound(
        &self,
        rule: RuleId,
        ingress: InterfaceId,
        egress: InterfaceId,
        sent: Packet,
    ) -> Vec<Condition> {
        self.context().unmet_outbound(rule, ingress, egress, sent)
    }

    /// Which conditions of a fixed rule a first packet from its external side does not meet; `None`
    /// for other rules.
    pub fn unmet_inbound(
        &self,
        rule: RuleId,
        ingress: InterfaceId,
        packet: Packet,
    ) -> Option<Vec<Condition>> {
        self.context().unmet_inbound(rule, ingress, packet)
    }

    /// The rules of step 8 that match a first packet, in the order in which they are looked at: the
    /// first is applied.
    pub fn outbound_matches(
        &self,
        ingress: InterfaceId,
        egress: InterfaceId,
        sent: Packet,
    ) -> Vec<RuleId> {
        self.context().outbound_matches(ingress, egress, sent)
    }

    /// The fixed rules of step 4 that let a first packet in, in the order in which they are looked
    /// at.
    pub fn inbound_matches(&self, ingress: InterfaceId, packet: Packet) -> Vec<RuleId> {
        self.context().inbound_matches(ingress, packet)
    }

    /// Whether a source that is chosen could as well become this end.
    pub fn could_choose(&self, verdicts: &Verdicts, end: Endpoint) -> bool {
        verdicts.target.is_some_and(|t| self.target_of(t).0.contains(end.address))
    }

    /// The two prefixes that a static puts in place of each other, adjusting a word (RFC 6296);
    /// `None` where it translates address by address.
    pub fn prefix_pair(&self, fixed: &plan::Static) -> Option<PrefixPair> {
        PrefixPair::new(fixed.internal, self.external_of(fixed.external)?)
    }

    /// What a target can hand out, how it picks, and whether it hands out whole addresses.
    pub fn target_of(&self, target: u16) -> (AddressSet, plan::Pick, bool) {
        let target = self.compiled.targets.get(target);
        (target.space.ranges().collect(), target.pick, target.whole)
    }

    /// What a rule hands out: of its main target and of its fallback, as [`Self::target_of`].
    pub fn targets_of_rule(&self, rule: RuleId) -> [Option<(AddressSet, plan::Pick, bool)>; 2] {
        let targets = self.compiled.targets.of(rule.0);
        [targets.main, targets.fallback].map(|t| t.map(|t| self.target_of(t)))
    }

    /// Every address that a source may become where it is chosen.
    pub fn chosen_addresses(&self) -> AddressSet {
        let spaces = self.compiled.targets.list.iter().flat_map(|t| t.space.ranges());
        spaces.collect()
    }

    /// Ports of a class that can be handed out on an address.
    pub fn usable_ports(&self, address: IpAddr, protocol: Protocol, range: (u16, u16)) -> u64 {
        usable_ports(&self.compiled, address, protocol, range)
    }

    /// Whether a packet seen on an interface was coming in: its sender lies that way.
    pub fn comes_in_by(&self, interface: InterfaceId, packet: Packet) -> bool {
        self.context().comes_in_by(interface, packet)
    }

    /// Whether an address is the device's own, or one that it translates to.
    pub fn is_known_as(&self, address: IpAddr) -> bool {
        self.context().is_known_as(address)
    }

    /// The interface that an address lies behind, by a connected prefix or a route of its own; a
    /// default route does not count.
    pub fn lies_behind(&self, address: IpAddr) -> Option<InterfaceId> {
        self.compiled.routes.find_narrow(address)
    }

    /// What a first packet that was seen going out must have been when it came in, and where:
    /// through a fixed rule, or as it is. `None` where nothing tells, and where it cannot have gone
    /// out.
    pub fn before_leaving(
        &self,
        interface: InterfaceId,
        packet: Packet,
    ) -> Option<(InterfaceId, Packet)> {
        self.context().before_leaving(interface, packet)
    }

    /// Whether it answers ARP on an interface for an address that is not its own, for the sake of a
    /// rule, a mapping or a session.
    pub fn answers_for_translated(&self, interface: InterfaceId, address: IpAddr) -> bool {
        let interface = &self.compiled.plan.interfaces[interface.index()];
        let is_held = || Key::of(address).is_some_and(|key| self.bindings.holds(key));
        self.compiled.plan.behaviour.answers_arp_for_translated
            && interface.addresses.iter().any(|a| a.1.contains(address))
            && (self.active.arp.contains(address) || is_held() || self.session_has_end(address))
    }

    /// Whether a living session of a fixed rule has this external address.
    fn session_has_end(&self, address: IpAddr) -> bool {
        let bindings = &self.bindings;
        // only a disabled rule's session can hold an address that no rule claims any more
        self.compiled.claimed.contains(address)
            && bindings.table.all_sessions().any(|id| {
                let (original, translated) = bindings.tuples(id);
                original != translated
                    && (original.destination.address == address
                        || translated.source.address == address)
            })
    }
}

/// The table, and what was counted.
impl Device {
    /// What the device has counted since it started.
    pub fn counters(&self) -> Counters {
        self.recorder.events.with(&self.bindings)
    }

    /// Every external address that dynamic mappings have used, in numeric order.
    pub fn addresses(&self) -> Vec<AddressUse> {
        self.recorder.uses.addresses(&self.bindings)
    }

    /// Use of each pool, in the order of the plan. A pool that is handed out whole and by port
    /// counts as the former.
    pub fn pools(&self) -> Vec<PoolUse> {
        self.recorder.uses.pools(&self.compiled, &self.bindings)
    }

    /// Dynamic mappings in the table.
    pub fn mapping_count(&self) -> u64 {
        self.bindings.table.mapping_count()
    }

    /// Sessions of all kinds, untranslated ones included.
    pub fn session_count(&self) -> u64 {
        self.bindings.table.session_count()
    }

    /// The sessions in which something was changed, at `now`, which must not lie before the last
    /// packet.
    pub fn sessions(&self, now: Instant) -> impl Iterator<Item = SessionRow> + '_ {
        self.context().sessions(now)
    }

    /// Appends the dynamic mappings at `now`, by protocol, internal end, external end and peer.
    pub fn list_mappings(&self, now: Instant, rows: &mut Vec<MappingRow>) {
        self.context().list_mappings(now, rows);
    }

    /// The dynamic mappings that draw on a supply, in no order.
    pub fn mappings_on(&self, supply: Supply, now: Instant) -> impl Iterator<Item = MappingRow> {
        self.context().mappings_on(supply, now)
    }

    /// The fixed mappings: of enabled rules all, up to a number that can still be read; of the
    /// others those in use.
    pub fn fixed_mappings(&self, now: Instant) -> Vec<MappingRow> {
        self.context().fixed_mappings(now)
    }

    /// Rules of steps 4 and 8 that a session was made by; none once it has ended.
    pub fn rules_of(&self, session: SessionRef) -> [Option<RuleId>; 2] {
        if !self.is_alive(session) {
            return [None; 2];
        }
        let (inbound, outbound) = self.bindings.rules_of(self.bindings.table.session(session.id));
        [inbound, outbound]
    }

    /// Whether a session still lives.
    pub fn is_alive(&self, session: SessionRef) -> bool {
        self.bindings.is_alive(session)
    }

    /// Whether the answers of a session belong to an older one.
    pub(crate) fn is_contested(&self, session: SessionRef) -> bool {
        self.context().is_contested(session)
    }

    /// When a session ends if nothing more comes.
    pub fn expires(&self, session: SessionRef) -> Instant {
        Instant(self.bindings.table.session(session.id).expires)
    }

    /// From now on, notes what is in use over time.
    pub fn keep_history(&mut self) {
        self.recorder.want().history = Some(Box::new(History::new(self.compiled.clone())));
    }

    /// From now on keeps mappings that end.
    pub(crate) fn keep_ended(&mut self) {
        self.recorder.want().ended = Some(Box::default());
    }

    /// The last dynamic mapping that let packets of a protocol in to an external end, if it has
    /// ended and that was noted.
    pub fn ended_at(&self, protocol: Protocol, external: Endpoint) -> Option<&EndedMapping> {
        self.recorder.wanted()?.ended.as_ref()?.at(protocol, external)
    }

    /// What was in use over time, if it was noted.
    pub fn history(&self) -> Option<&History> {
        self.recorder.wanted()?.history.as_deref()
    }

    /// What was in use over time, once the traffic is over at an instant: what is still in use then
    /// is followed to its end, and nothing else can be asked of the device any more.
    pub(crate) fn finish_history(&mut self, at: Instant) -> Option<Box<History>> {
        let history = self.recorder.history_mut()?;
        history.end_rests(at.0);
        history.drain(at);
        self.expire_finally(Instant(u64::MAX - 1));
        let mut history = self.recorder.wanted_mut()?.history.take()?;
        history.finish();
        Some(history)
    }

    /// Notes that a flow found nothing left, and tells of what: up to three positions in
    /// [`History::supplies`].
    pub(crate) fn record_refusal(
        &mut self,
        now: Instant,
        reason: Reason,
        rule: Option<RuleId>,
        host: IpAddr,
        (protocol, port): (Protocol, u16),
    ) -> [Option<u32>; 3] {
        let history = self.recorder.wanted_mut().and_then(|wanted| wanted.history.take());
        let Some(mut history) = history else { return [None; 3] };
        let lines =
            history.refuse(now, self.context(), RefusedFlow { reason, rule, host, protocol, port });
        self.recorder.want().history = Some(history);
        lines
    }
}
