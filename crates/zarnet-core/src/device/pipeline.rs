//! What a device does with a packet, step by step, and what it tells an observer of it.

use std::net::IpAddr;

use super::routes::Query;
use super::session::INBOUND;
use super::table::bits;
use super::translate::{Entry, Kept, Source};
use super::{Device, Forwarded, Heading, Hit, Outcome, Refusal, SessionRef, Taken};
use crate::net::{Instant, Packet, Signal};
use crate::observe::{By, Observer, Stage, StageResult, Step};
use crate::plan::{self, InterfaceId, RuleId};
use crate::reason::Reason;

impl Device {
    /// A packet comes in on an interface.
    pub fn receive(&mut self, now: Instant, ingress: InterfaceId, packet: Packet) -> Outcome {
        self.receive_watched(now, ingress, packet, &mut ())
    }

    /// The same, watched.
    pub fn receive_watched<O: Observer>(
        &mut self,
        now: Instant,
        ingress: InterfaceId,
        packet: Packet,
        observer: &mut O,
    ) -> Outcome {
        self.expire(now);
        let outcome = self.handle(now, ingress, packet, observer);
        self.count_refusal(packet, outcome);
        outcome
    }

    pub(super) fn count_refusal(&mut self, packet: Packet, outcome: Outcome) {
        let Outcome::Dropped(refusal) = outcome else { return };
        self.counters.refuse(refusal.rule, refusal.reason);
        let Some(rule) = refusal.rule else { return };
        let targets = self.config.rule_targets[rule.index()];
        if matches!(refusal.reason, Reason::PoolExhausted | Reason::PortsExhausted) {
            // a host that stays on the fallback was refused there: nobody asked for the other
            let main = targets.main.filter(|_| !self.stays_on_fallback(packet.source().address, rule.0));
            main.into_iter().chain(targets.fallback).for_each(|t| self.targets[usize::from(t)].refused += 1);
        }
        if matches!(refusal.reason, Reason::PortsExhausted | Reason::UnsupportedProtocol) {
            targets.main.into_iter().chain(targets.fallback).for_each(|target| self.leave_home(target));
        }
    }

    fn handle<O: Observer>(&mut self, now: Instant, ingress: InterfaceId, packet: Packet, observer: &mut O) -> Outcome {
        let hit = self.find(packet, Some(ingress));
        let is_answer = hit.is_some_and(|h| !h.heading.from_initiator);
        if let Err(refusal) = self.filter(Stage::IngressAcl, ingress, packet, is_answer, observer) {
            return Outcome::Dropped(refusal);
        }
        match hit {
            Some(hit) => self.pass_known(now, Some(ingress), packet, hit, observer),
            None => {
                observer.step(|| step(Stage::Session, StageResult::New));
                self.pass_first(now, ingress, packet, observer).unwrap_or_else(Outcome::Dropped)
            }
        }
    }

    /// Step 3: the session that a packet belongs to.
    pub(super) fn find(&self, packet: Packet, ingress: Option<InterfaceId>) -> Option<Hit> {
        // of two sessions that a packet fits, it belongs to the one that was made first
        let (compact, wide) = (self.find_compact(packet), self.find_wide(packet, ingress));
        let (Some(one), Some(other)) = (compact, wide) else { return compact.or(wide) };
        let (a, b) = (self.table.session(one.id), self.table.session(other.id));
        let other_second = self.table.wide(b).is_some_and(|w| w.comes_second);
        Some(if (a.created, !other_second) < (b.created, true) { one } else { other })
    }

    /// The oldest of the sessions under endpoint mappings that a packet fits.
    pub(super) fn find_compact(&self, packet: Packet) -> Option<Hit> {
        let (source, destination) = (packet.source(), packet.destination());
        let mut oldest: Option<Hit> = None;
        let mut fits = |id: u32, outbound: bool| {
            let from_initiator = self.table.session(id).has(INBOUND) != outbound;
            let created = |hit: &Hit| (self.table.session(hit.id).created, hit.id);
            let hit = Hit { id, heading: Heading { from_initiator, outbound } };
            if oldest.is_none_or(|o| created(&hit) < created(&o)) {
                oldest = Some(hit);
            }
        };
        if let (Some(from), Some(to)) = (bits(source.address), bits(destination.address))
            && packet.protocol.is_multiplexed()
        {
            let outbound = self.mappings_of(packet.protocol, from, source.port, to, destination.port);
            for mapping in outbound {
                if let Some(id) = self.table.under(mapping, to, destination.port) {
                    fits(id, true);
                }
            }
            let page = || self.externals.find_page(to, packet.protocol);
            if let Some(page) = self.config.concerns(destination.address).then(page).flatten() {
                for mapping in self.externals.mappings(page, destination.port) {
                    if let Some(id) = self.table.under(mapping, from, source.port) {
                        fits(id, false);
                    }
                }
            }
        }
        oldest
    }

    /// The oldest of the sessions with tuples of their own that a packet fits.
    pub(super) fn find_wide(&self, packet: Packet, ingress: Option<InterfaceId>) -> Option<Hit> {
        let ambiguous = self.config.routes.ambiguous;
        let (id, forth) = self.table.find_wide(packet, |wide, forth| {
            let side = if forth { wide.interfaces.0 } else { wide.interfaces.1 };
            !ambiguous || ingress.is_none_or(|i| i.0 == side || side == u16::MAX)
        })?;
        // outbound for any of its mappings, fixed ones included: it comes from that one's internal end
        let (inward, outward) = self.rules_of(self.table.session(id));
        let outbound = match (inward, outward, forth) {
            (None, None, forth) => forth,
            (_, outward, true) => outward.is_some(),
            (inward, _, false) => inward.is_some(),
        };
        Some(Hit { id, heading: Heading { from_initiator: forth, outbound } })
    }

    /// A packet of a known session: translated as the session says.
    pub(super) fn pass_known<O: Observer>(
        &mut self,
        now: Instant,
        ingress: Option<InterfaceId>,
        packet: Packet,
        hit: Hit,
        observer: &mut O,
    ) -> Outcome {
        let (original, translated) = self.tuples(hit.id);
        let ends = if hit.heading.from_initiator { translated } else { original.reversed() };
        let out = Packet { ends, ..packet };
        self.tell_known(packet, out, hit, observer);
        let session = Some(SessionRef { id: hit.id, created: self.table.session(hit.id).created });
        let destination = out.destination().address;
        if self.config.concerns(destination)
            && let Some(own) = self.config.own.get(&destination)
        {
            observer.step(|| Step { by: By::Interface(*own), ..step(Stage::Own, StageResult::Taken) });
            let refreshes = self.refresh(now, hit, packet.signal);
            return Outcome::Consumed(Taken { packet: out, session, refreshes });
        }
        if ingress.is_some()
            && let Err(refusal) = self.forwards(observer)
        {
            return Outcome::Dropped(refusal);
        }
        let is_answer = !hit.heading.from_initiator;
        let sides = self.sides(hit);
        let query = Query { source: Some(packet.source().address), ingress, ..sides.query(destination) };
        let way = self.route(query, observer).and_then(|way| {
            self.filter(Stage::EgressAcl, way.0, out, is_answer, observer)?;
            Ok(way)
        });
        let (interface, next_hop) = match way {
            Ok(way) => way,
            Err(refusal) => return Outcome::Dropped(refusal),
        };
        let refreshes = self.refresh(now, hit, packet.signal);
        let unchanged = (original == translated).then(|| self.unchanged_reason(hit.id));
        let contested = false;
        Outcome::Forwarded(Forwarded { packet: out, interface, next_hop, session, refreshes, contested, unchanged })
    }

    /// What the rules of a session make of a packet of it.
    fn tell_known<O: Observer>(&self, packet: Packet, out: Packet, hit: Hit, observer: &mut O) {
        let rules = || {
            let (inbound, outbound) = self.rules_of(self.table.session(hit.id));
            [inbound, outbound]
        };
        let from_initiator = hit.heading.from_initiator;
        let known = StageResult::Known { from_initiator };
        observer.step(|| {
            let rules = rules();
            let by = if rules == [None, None] { By::Nothing } else { By::Rules(rules) };
            let place = rules.iter().flatten().next().map(|r| self.rule(r.0).place);
            Step { stage: Stage::Session, result: known, by, place }
        });
        // an answer comes from the end that the destination was translated to
        let sides = [
            (Stage::Destination, packet.destination(), out.destination(), usize::from(!from_initiator)),
            (Stage::Source, packet.source(), out.source(), usize::from(from_initiator)),
        ];
        for (stage, from, to, rule) in sides {
            if from != to {
                observer.step(|| self.by_rule(stage, StageResult::Translated { from, to }, rules()[rule]));
            }
        }
    }

    /// The interfaces that the first packet of a session passed, where the way of its packets depends on them.
    pub(super) fn sides(&self, hit: Hit) -> Sides {
        if !self.config.remembers_interfaces() {
            return Sides::default();
        }
        let Some(wide) = self.table.wide(self.table.session(hit.id)) else { return Sides::default() };
        let (ingress, egress) = wide.interfaces;
        let out = InterfaceId(if hit.heading.from_initiator { egress } else { ingress });
        // of the device's own session there is no way in
        let came = Some(out).filter(|i| !hit.heading.from_initiator && i.0 != u16::MAX);
        let mut preferred = plan::InterfaceSet::default();
        if self.config.routes.ambiguous && out.0 != u16::MAX {
            preferred.insert(out);
        }
        Sides { preferred, over: came.filter(|_| self.config.plan.behaviour.answers_leave_as_came) }
    }

    /// A packet that belongs to no session: steps 4 to 10.
    fn pass_first<O: Observer>(
        &mut self,
        now: Instant,
        ingress: InterfaceId,
        packet: Packet,
        observer: &mut O,
    ) -> Result<Outcome, Refusal> {
        let (entry, way, source, out) = match self.decide(ingress, packet, observer)? {
            Decision::Own(outcome) => return Ok(outcome),
            Decision::Out { entry, way, source, out } => (entry, way, source, out),
        };
        let unchanged = source.kept().filter(|_| out.ends == packet.ends).map(Kept::reason);
        let mut forwarded = Forwarded::first(out, way, unchanged);
        if packet.may_begin() {
            self.begin(now, Some(ingress), packet, (&entry, source), &mut forwarded, observer)?;
        }
        Ok(Outcome::Forwarded(forwarded))
    }

    /// Step 10: a packet on its way out begins a session.
    pub(super) fn begin<O: Observer>(
        &mut self,
        now: Instant,
        ingress: Option<InterfaceId>,
        sent: Packet,
        (entry, source): (&Entry, Source),
        out: &mut Forwarded,
        observer: &mut O,
    ) -> Result<(), Refusal> {
        let mapping = matches!(source, Source::New(..));
        let made = self.commit(now, (ingress, out.interface), sent, out.packet, entry, source);
        let made = made.inspect_err(|r| tell(observer, Stage::Commit, *r))?;
        observer.step(|| step(Stage::Commit, StageResult::Committed { mapping }));
        (out.session, out.contested) = (Some(made.session), made.contested);
        Ok(())
    }

    /// Steps 4 to 9: what is to become of a packet that belongs to no session. Nothing is changed by it.
    #[inline(always)]
    fn decide<O: Observer>(&self, ingress: InterfaceId, packet: Packet, observer: &mut O) -> Result<Decision, Refusal> {
        let ours = self.config.concerns(packet.destination().address);
        let entry = match ours {
            true => {
                let entry = self.translate_destination(Some(ingress), packet);
                entry.inspect_err(|r| tell(observer, Stage::Destination, *r))?
            }
            false => Entry::default(),
        };
        let inside = Packet { ends: entry.ends(packet), ..packet };
        let destination = inside.destination().address;
        let own = || self.config.own.get(&destination);
        if let Some(&own) = self.config.concerns(destination).then(own).flatten() {
            observer.step(|| self.destination_step(&entry, packet));
            return self.for_itself((ingress, own), inside, &entry, observer).map(Decision::Own);
        }
        if ours && entry.rule.is_none() {
            self.unless_claimed(destination, &entry, observer)?;
        }
        observer.step(|| self.destination_step(&entry, packet));
        observer.step(|| step(Stage::Own, StageResult::NotOwn));
        self.forwards(observer)?;
        let preferred = entry.rule.map(|r| &self.config.plan.rules[r.index()].from.interfaces);
        let source = Some(packet.source().address);
        let query = Query { source, ingress: Some(ingress), preferred, ..Query::to(destination) };
        let way = self.route(query, observer)?;
        self.policy(ingress, way.0, packet, inside, observer)?;
        let source = self.translate_source(ingress, way.0, packet, (entry.rule, inside.destination()));
        let source = source.inspect_err(|r| tell(observer, Stage::Source, *r))?;
        let kept = source.kept();
        if !packet.may_begin() {
            let rule = entry.rule.or(source.rule());
            if entry.rule.is_some() || kept.is_none() {
                let place = rule.map(|r| self.config.plan.rules[r.index()].place);
                let refusal = Refusal { reason: Reason::NoSession, rule, place };
                tell(observer, Stage::Source, refusal);
                return Err(refusal);
            }
        }
        let out = Packet { ends: source.ends(inside), ..inside };
        observer.step(|| match kept.map(Kept::reason) {
            Some((reason, rule)) => self.by_rule(Stage::Source, StageResult::Unchanged(reason), rule),
            None => {
                let (from, to) = (inside.source(), out.source());
                self.by_rule(Stage::Source, StageResult::Translated { from, to }, source.rule())
            }
        });
        self.filter(Stage::EgressAcl, way.0, out, false, observer)?;
        Ok(Decision::Out { entry, way, source, out })
    }

    /// What becomes of a first packet as things are, without anything coming of it.
    pub fn judge(&self, ingress: InterfaceId, packet: Packet) -> Judged {
        self.judge_watched(ingress, packet, &mut ())
    }

    /// The same, watched.
    pub fn judge_watched<O: Observer>(&self, ingress: InterfaceId, packet: Packet, observer: &mut O) -> Judged {
        let judged = |refusal: Refusal| Judged::Dropped(refusal);
        if let Err(refusal) = self.filter(Stage::IngressAcl, ingress, packet, false, observer) {
            return judged(refusal);
        }
        match self.decide(ingress, packet, observer) {
            Err(refusal) => judged(refusal),
            Ok(Decision::Own(Outcome::Dropped(refusal))) => judged(refusal),
            Ok(Decision::Own(_)) => Judged::ToDevice,
            Ok(Decision::Out { entry, way, source, out }) => {
                let kept = source.kept().map(Kept::reason);
                let target = match &source {
                    Source::New(_, choice, _) => Some(choice.target),
                    Source::Mapped(_, mapping, _) => Some(self.table.mapping(*mapping).target),
                    _ => None,
                };
                Judged::Forwarded(Verdicts {
                    egress: way.0,
                    next_hop: (way.1 != out.destination().address).then_some(way.1),
                    entry: entry.rule,
                    source: source.rule().or(kept.and_then(|k| k.1)),
                    kept: kept.map(|k| k.0),
                    target,
                    out,
                })
            }
        }
    }

    /// The interface that a packet that comes in by another leaves by, by the routes as they are.
    pub(crate) fn way_of(&self, ingress: InterfaceId, packet: Packet) -> Option<InterfaceId> {
        let query = Query {
            source: Some(packet.source().address),
            ingress: Some(ingress),
            ..Query::to(packet.destination().address)
        };
        self.config.routes.find(query).map(|w| w.interface)
    }

    fn destination_step(&self, entry: &Entry, packet: Packet) -> Step {
        let (from, to) = (packet.destination(), entry.ends(packet).destination);
        let result = match entry.rule {
            Some(_) => StageResult::Translated { from, to },
            None => StageResult::Unchanged(Reason::NoRule),
        };
        self.by_rule(Stage::Destination, result, entry.rule)
    }

    /// Step 5: an external address of its own rules, or one that it answers ARP for, is never routed.
    pub(super) fn unless_claimed<O: Observer>(
        &self,
        destination: IpAddr,
        entry: &Entry,
        observer: &mut O,
    ) -> Result<(), Refusal> {
        if !self.config.claimed.contains(destination) && !self.is_living_end(destination) {
            return Ok(());
        }
        let reason = if entry.blocked { Reason::Filtered } else { Reason::NoMapping };
        let refusal = Refusal { reason, rule: None, place: entry.place };
        tell(observer, Stage::Destination, refusal);
        Err(refusal)
    }

    /// Step 5: a packet for one of its own addresses.
    fn for_itself<O: Observer>(
        &self,
        (ingress, own): (InterfaceId, InterfaceId),
        packet: Packet,
        entry: &Entry,
        observer: &mut O,
    ) -> Result<Outcome, Refusal> {
        self.accepts_own(own, packet, entry, observer)?;
        Ok(self.answer_own(ingress, packet.answer(), observer).map_or_else(Outcome::Dropped, Outcome::Answered))
    }

    /// Whether it answers a packet for one of its own addresses itself.
    pub(super) fn accepts_own<O: Observer>(
        &self,
        own: InterfaceId,
        packet: Packet,
        entry: &Entry,
        observer: &mut O,
    ) -> Result<(), Refusal> {
        let interface = &self.config.plan.interfaces[own.index()];
        let to = packet.destination();
        let answers = (packet.signal == Signal::Query && interface.ping)
            || (packet.may_begin() && interface.services.holds(packet.protocol, to.port));
        let by = By::Interface(own);
        if answers {
            let (result, place) = (StageResult::Answered, Some(interface.place));
            observer.step(|| Step { stage: Stage::Own, result, by, place });
            return Ok(());
        }
        let refusal = match entry.blocked {
            true => Refusal { reason: Reason::Filtered, rule: None, place: entry.place },
            false => Refusal::new(Reason::NoListener, interface.place),
        };
        observer.step(|| Step { by, ..lost(Stage::Own, refusal) });
        Err(refusal)
    }

    /// A step that a rule decided, if one did.
    pub(super) fn by_rule(&self, stage: Stage, result: StageResult, rule: Option<RuleId>) -> Step {
        let by = rule.map_or(By::Nothing, By::Rule);
        Step { stage, result, by, place: rule.map(|r| self.rule(r.0).place) }
    }
}

/// What is to become of a packet that belongs to no session.
enum Decision {
    /// It is for the device itself.
    Own(Outcome),
    /// It leaves, by an interface to a next hop.
    Out { entry: Entry, way: (InterfaceId, IpAddr), source: Source, out: Packet },
}

/// What becomes of a first packet.
#[derive(Debug, Clone, Copy)]
pub enum Judged {
    /// It goes no further.
    Dropped(Refusal),
    /// The device itself answers, or wants it.
    ToDevice,
    /// It leaves.
    Forwarded(Verdicts),
}

/// What was decided about a first packet that leaves.
#[derive(Debug, Clone, Copy)]
pub struct Verdicts {
    /// The interface it leaves by.
    pub egress: InterfaceId,
    /// The next hop; `None` where that is the destination itself.
    pub next_hop: Option<IpAddr>,
    /// The rule that translates its destination.
    pub entry: Option<RuleId>,
    /// The rule that decides about its source, exempt ones too.
    pub source: Option<RuleId>,
    /// Why its source stays; `None` if it does not.
    pub kept: Option<Reason>,
    /// What its source is handed out of, where that is chosen: a position among the device's targets.
    pub(crate) target: Option<u16>,
    /// The packet as it leaves.
    pub out: Packet,
}

/// The interfaces that tell the way of a session's packet.
#[derive(Debug, Default)]
pub(super) struct Sides {
    /// Where several interfaces have one prefix, the one that the session has.
    preferred: plan::InterfaceSet,
    /// The one that answers leave by as they came.
    over: Option<InterfaceId>,
}

impl Sides {
    /// What the way of a packet of the session is looked for by.
    pub(super) fn query(&self, destination: IpAddr) -> Query<'_> {
        let preferred = Some(&self.preferred).filter(|p| !p.is_empty());
        Query { preferred, over: self.over, ..Query::to(destination) }
    }
}

/// A step that nothing in the plan decided.
pub(super) fn step(stage: Stage, result: StageResult) -> Step {
    Step { stage, result, by: By::Nothing, place: None }
}

/// A step at which a packet is dropped.
fn lost(stage: Stage, refusal: Refusal) -> Step {
    let by = refusal.rule.map_or(By::Nothing, By::Rule);
    Step { stage, result: StageResult::Dropped(refusal.reason), by, place: refusal.place }
}

pub(super) fn tell<O: Observer>(observer: &mut O, stage: Stage, refusal: Refusal) {
    observer.step(|| lost(stage, refusal));
}
