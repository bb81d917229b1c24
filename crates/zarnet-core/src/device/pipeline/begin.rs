//! Step 10: what a forwarded first packet leaves behind.
//!
//! Contract: §D10 and §M5 of docs/semantics.md.

use super::destination::Entry;
use super::report::{report_refusal, step};
use super::source::Source;
use crate::device::bindings::{
    Engine, ExplicitTuple, HAIRPIN, HairpinEnd, INBOUND, Kind, KnownSession, NONE, NewMapping,
    Session, Sink, distinct,
};
use crate::device::key::{EndKey, Key};
use crate::device::outcome::{FlowSchedule, Forwarded, Refusal, SessionRef};
use crate::net::{Endpoint, Instant, Packet};
use crate::observe::{Observer, Stage, StageResult};
use crate::plan::{InterfaceId, RuleId, RuleKind, Spread};

/// A session that was made.
struct Made {
    session: SessionRef,
    /// Whether an older one has the same answers, which belong to that as long as it lives.
    contested: bool,
}

/// The interfaces that a first packet passes; the device's own comes in nowhere.
type Passed = (Option<InterfaceId>, InterfaceId);

/// An end as state is keyed by it; of one that no state is kept of, no address.
fn end_key(end: Endpoint) -> EndKey {
    (Key::of(end.address).unwrap_or(Key::NONE), end.port)
}

impl<S: Sink> Engine<'_, S> {
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
        let made = made.inspect_err(|r| report_refusal(observer, Stage::Commit, *r))?;
        observer.step(|| step(Stage::Commit, StageResult::Committed { mapping }));
        (out.session, out.contested) = (Some(made.session), made.contested);
        Ok(())
    }

    /// Makes the session of a first packet, and the mapping if it needs a new one.
    fn commit(
        &mut self,
        now: Instant,
        passed: Passed,
        sent: Packet,
        out: Packet,
        entry: &Entry,
        source: Source,
    ) -> Result<Made, Refusal> {
        self.context().check_sessions()?;
        Ok(self.make(now, passed, (sent, out), (entry, &source), None))
    }

    /// Makes the session of a flow of which nobody else has the answers, as it is when all of it
    /// has passed.
    pub(super) fn commit_flow(
        &mut self,
        now: Instant,
        passed: Passed,
        ends: (Packet, Packet),
        rules: (&Entry, &Source),
        schedule: FlowSchedule,
    ) -> SessionRef {
        self.make(now, passed, ends, rules, Some(schedule)).session
    }

    /// Makes a session. `schedule`: of a flow that is entered as a whole, whose answers are nobody
    /// else's.
    fn make(
        &mut self,
        now: Instant,
        (ingress, egress): Passed,
        (sent, out): (Packet, Packet),
        (entry, source): (&Entry, &Source),
        schedule: Option<FlowSchedule>,
    ) -> Made {
        let remote = self.remote_end((ingress, sent, out), entry, source);
        let source_mapping = self.source_mapping(now, sent, remote, source);
        let entered = entry.mapping.unwrap_or(NONE);
        let mapping = self.follows_from_mapping((ingress, remote), entry, source, source_mapping);
        let kind = mapping.map(|m| self.bindings.table.mapping(m).kind());
        let hairpin = self.hairpin_end((ingress, sent, out), entry, source_mapping);
        let answer = Packet { ends: out.ends.reversed(), ..sent };
        let twin = match schedule {
            Some(_) => None,
            None => self.session_with_answers(answer, kind),
        };
        let comes_second =
            twin.is_some_and(|hit| self.bindings.table.session(hit.id).created == now.0);
        let contested = schedule.is_none()
            && (twin.is_some() || self.context().find_explicit(answer, Some(egress)).is_some());
        let hairpin = hairpin.filter(|_| !contested);
        let (inbound_rule, outbound_rule) = (entry.rule, source.rule());
        let compact = match kind {
            Some(Kind::Endpoint) => true,
            Some(Kind::Address) => !contested,
            Some(Kind::Portless) | None => hairpin.is_some(),
        };
        let explicit = (!compact).then_some(ExplicitTuple {
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
        let inbound = inbound_rule.is_some() && outbound_rule.is_none();
        let owner = if source_mapping != NONE { source_mapping } else { entered };
        let timing = self.compiled.timing(sent.protocol, sent.destination().port);
        let mut session = Session::new(now.0, timing, owner, if inbound { INBOUND } else { 0 });
        (session.remote, session.remote_port) = end_key(remote);
        if let Some(end) = hairpin {
            self.bindings.enter_hairpin(&mut session, sent.protocol, end);
        }
        if let (true, Some(Kind::Address)) = (compact, kind) {
            let internal = if inbound { out.destination() } else { sent.source() };
            session = session.with_internal(sent.protocol, internal.port);
        }
        if let Some(FlowSchedule { end, ending, .. }) = schedule {
            session.run_from_start(end.0, ending, timing);
        }
        let id = self.open_session(session, explicit, distinct(inbound_rule, outbound_rule));
        if let Some(rule) = inbound_rule {
            self.move_to_next_server(rule);
        }
        Made { session: SessionRef { id, created: now.0 }, contested }
    }

    /// The session without tuples that has the answers of one that is about to begin, under a
    /// mapping of a kind if it follows from one. A hairpinned one is given tuples: from now on they
    /// are not its alone.
    fn session_with_answers(&mut self, answer: Packet, kind: Option<Kind>) -> Option<KnownSession> {
        let under_endpoint = kind == Some(Kind::Endpoint);
        if under_endpoint && self.bindings.hairpins.is_empty() {
            return None;
        }
        let hit = self.context().find_compact(answer)?;
        let is_hairpin = self.bindings.table.session(hit.id).has(HAIRPIN);
        if is_hairpin {
            self.spell_out(hit.id);
        }
        // of others one under the same endpoint mapping has another far end
        (is_hairpin || !under_endpoint).then_some(hit)
    }

    /// Where a fixed rule turns the first packet of a session to that is about to begin, if nothing
    /// more need be kept of it than its far end under its mapping.
    fn hairpin_end(
        &self,
        (ingress, sent, out): (Option<InterfaceId>, Packet, Packet),
        entry: &Entry,
        mapping: u32,
    ) -> Option<HairpinEnd> {
        let (rule, ingress) = entry.rule.zip(ingress)?;
        let turned = self.compiled.rule(rule.0).hairpin.interfaces.contains(ingress);
        let fixed = entry.mapping.is_none() && mapping != NONE;
        if !(turned && fixed) || self.compiled.remembers_interfaces() {
            return None;
        }
        let external = end_key(sent.destination());
        let end = HairpinEnd { rule: rule.0, internal: end_key(out.destination()) };
        let under_endpoint = self.bindings.table.mapping(mapping).kind() == Kind::Endpoint;
        (under_endpoint && self.bindings.hairpins.may_hold(sent.protocol, external, end))
            .then_some(end)
    }

    /// The far end as a mapping's filter knows it.
    fn remote_end(
        &self,
        (ingress, sent, out): (Option<InterfaceId>, Packet, Packet),
        entry: &Entry,
        source: &Source,
    ) -> Endpoint {
        let hairpins = |r: RuleId| {
            ingress.is_some_and(|i| self.compiled.rule(r.0).hairpin.interfaces.contains(i))
        };
        match (entry.rule, source.rule()) {
            (Some(_), None) => sent.source(),
            (Some(rule), Some(_)) if hairpins(rule) => sent.destination(),
            _ => out.destination(),
        }
    }

    /// The dynamic mapping of a session's source: a living one, or one that is opened for it; or
    /// [`NONE`].
    fn source_mapping(
        &mut self,
        now: Instant,
        sent: Packet,
        remote: Endpoint,
        source: &Source,
    ) -> u32 {
        match source {
            Source::Mapped(rule, mapping, _) => {
                self.share(now, *mapping, rule.0);
                *mapping
            }
            Source::New(rule, external, _) => {
                let (internal, peer) = (end_key(sent.source()), end_key(remote));
                let (rule, protocol, external) = (rule.0, sent.protocol, *external);
                self.open_mapping(now.0, &NewMapping { rule, protocol, internal, peer, external })
            }
            Source::Keep(_) | Source::Fixed(..) => NONE,
        }
    }

    /// The one mapping that the tuples of a session follow from, with its far end, if they do.
    fn follows_from_mapping(
        &self,
        (ingress, remote): (Option<InterfaceId>, Endpoint),
        entry: &Entry,
        source: &Source,
        mapping: u32,
    ) -> Option<u32> {
        if ingress.is_none() || self.compiled.remembers_interfaces() {
            return None;
        }
        match (mapping, entry.mapping.unwrap_or(NONE)) {
            (mapping, NONE) if mapping != NONE => {
                let follows = entry.rule.is_none() && self.may_follow(mapping, source.rule());
                follows.then_some(mapping)
            }
            // a session of another peer than the mapping's would not be found through it from
            // inside
            (NONE, mapping) if mapping != NONE => {
                let own = self.bindings.is_own_peer(mapping, end_key(remote));
                let follows =
                    source.untranslated().is_some() && own && self.may_follow(mapping, entry.rule);
                follows.then_some(mapping)
            }
            _ => None,
        }
    }

    /// Whether sessions of a rule may do without tuples under a mapping. Under an address mapping
    /// that several rules share, or that lets in only whom its sessions have addressed, they may
    /// not: it only counts them.
    fn may_follow(&self, mapping: u32, rule: Option<RuleId>) -> bool {
        let m = self.bindings.table.mapping(mapping);
        match m.kind() {
            Kind::Endpoint => true,
            Kind::Address => self.compiled.admits_everybody() && rule == Some(RuleId(m.rule)),
            Kind::Portless => false,
        }
    }

    /// A forward's next session goes to its next server.
    fn move_to_next_server(&mut self, rule: RuleId) {
        if let RuleKind::Forward(f) = &self.compiled.rule(rule.0).kind
            && f.servers.len() > 1
            && f.spread == Spread::InTurn
        {
            let next = &mut self.bindings.choices.next_server[rule.index()];
            *next = (*next + 1) % f.servers.len() as u32;
        }
    }

    /// Two pool rules on one pool share a host's address mapping, which then counts as the newer
    /// one's only while the older is disabled.
    fn share(&mut self, now: Instant, mapping: u32, rule: u16) {
        let owner = self.bindings.table.mapping(mapping).rule;
        if owner == rule {
            return;
        }
        let sharing = self.bindings.details.sharing.entry(mapping).or_insert_with(|| vec![owner]);
        if !sharing.contains(&rule) {
            sharing.push(rule);
        }
        if !self.active.has(owner) {
            self.hand_over(now.0, mapping, rule);
        }
    }
}
