//! Plays traffic, in the order of its clock.
//!
//! A flow is three moments: its first packet, the answer a round trip later, and its last packet. Where nothing can come
//! between the first two, the answer is entered at once, and the rest of the flow is entered into its sessions as a
//! span: that way a flow costs one visit, and the table at any moment still follows.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap, VecDeque};
use std::net::IpAddr;
use std::sync::Arc;

use foldhash::fast::RandomState;

use super::recording::Recording;
use super::strangers::Strangers;
use super::{DeviceTable, Halt, IcmpErrors, Moment, NotTranslated, Options, Prediction, Tally};
use crate::device::{FlowSchedule, OwnSource, SessionRef};
use crate::event::{Action, Event};
use crate::net::{Endpoint, Instant, Packet, is_link_local};
use crate::network::{FastFlow, Fate, Loss, Network, Origin, Passage, Receiver};
use crate::plan::{DeviceId, InterfaceId, Place, Plan, Renaming, RuleId};
use crate::reason::{Class, Reason};
use crate::traffic::{Batches, Flow, Item, Party};

/// First and last port that a host chooses itself (RFC 6335 §6).
const EPHEMERAL: (u16, u16) = (49_152, 65_535);

/// Predicts what `items` do to the devices of a plan. Items must come in the order of their start, and events in the
/// order of their time.
///
/// # Errors
/// When the items cannot be read or are out of order, or when their sources must be known beforehand.
pub fn predict<B: Batches>(
    plan: Arc<Plan>,
    items: B,
    events: Vec<Event>,
    options: Options,
) -> Result<Prediction, Halt<B::Error>> {
    let mut run = Run::new(plan, events, options);
    play(&mut run, items)?;
    let prediction = run.finish();
    prediction.ok_or(Halt::SourcesNeeded)
}

/// Plays items, up to the instant that the run is to come to.
pub(super) fn play<B: Batches>(run: &mut Run, mut items: B) -> Result<(), Halt<B::Error>> {
    let (mut batch, mut fast_flows) = (Vec::with_capacity(BATCH), Vec::with_capacity(BATCH));
    loop {
        batch.clear();
        let error = items.fill(&mut batch, BATCH);
        run.find_fast_flows(&batch, &mut fast_flows);
        run.play(&batch, &fast_flows)?;
        if let Some(error) = error {
            return Err(Halt::Traffic(error));
        }
        if batch.len() < BATCH {
            return Ok(());
        }
    }
}

/// So many items are read ahead: enough for their look-ups to be under way at once.
const BATCH: usize = 64;

impl Run {
    /// Finds out what can be known of a batch before it is played: what this reads, it reads for all at once.
    fn find_fast_flows(&mut self, batch: &[Item], fast_flows: &mut Vec<Option<FastFlow>>) {
        self.network.prepare_fast_paths();
        fast_flows.clear();
        fast_flows.extend(batch.iter().map(|item| match item {
            Item::Flow(flow) => self.network.fast_flow(flow),
            Item::Seen(seen) => self.network.fast_packet(seen),
            Item::Error(_) => None,
        }));
        self.network.prefetch(fast_flows);
    }

    fn play<E>(&mut self, batch: &[Item], fast_flows: &[Option<FastFlow>]) -> Result<(), Halt<E>> {
        for (item, fast) in batch.iter().zip(fast_flows) {
            let at = item.at();
            if at < self.read {
                return Err(Halt::OutOfOrder { at, after: self.read });
            }
            self.read = at;
            if at > self.until {
                continue; // only to know whether it is in order
            }
            self.advance(at);
            self.sequence += 1;
            self.judged = self.sequence;
            match item {
                Item::Flow(flow) => self.flow(flow, fast.as_ref()),
                Item::Seen(seen) => self.seen(seen, fast.as_ref()),
                Item::Error(seen) => self.seen_error(*seen),
            }
            if self.network.missed_source() {
                return Err(Halt::SourcesNeeded);
            }
        }
        Ok(())
    }
}

/// An answer that is on its way.
pub(super) struct Answer {
    pub flow: Flow,
    pub asked: Packet,
    pub origin: Origin,
    pub receiver: Receiver,
    pub arrived: Packet,
    pub passages: Vec<Passage>,
}

impl Answer {
    /// Why nothing was changed, which device that concerns, and which rule; `None` if something was. The first `forth`
    /// passages are those of the first packet.
    pub(super) fn unchanged(&self, forth: usize) -> Option<(Reason, Option<DeviceId>, Option<RuleId>)> {
        if self.passages.iter().any(|p| p.changed) {
            return None;
        }
        match (self.origin, self.receiver) {
            (Origin::Device(d, _), _) => return Some((Reason::FromDevice, Some(d), None)),
            (_, Receiver::Answering(d, _) | Receiver::Device(d)) => return Some((Reason::ToDevice, Some(d), None)),
            _ => {}
        }
        let passages = &self.passages[..forth];
        // a rule that decided so says more than that no rule did
        let by_rule = passages.iter().find(|p| p.unchanged.is_some_and(|u| u.1.is_some()));
        Some(by_rule.or(passages.first()).map_or((Reason::OnLink, None, None), |passage| {
            let (reason, rule) = passage.unchanged.unwrap_or((Reason::NoRule, None));
            (reason, Some(passage.device), rule)
        }))
    }
}

/// A prediction in the making.
pub(super) struct Run {
    pub(super) network: Network,
    pub(super) options: Options,
    pub(super) now: Instant,
    /// The start of the item last read.
    read: Instant,
    /// What starts later is read but not played.
    pub(super) until: Instant,
    events: VecDeque<Event>,
    /// Answers by the instant at which they are sent, and among equals by order.
    answers: BinaryHeap<Reverse<(Instant, u64)>>,
    underway: HashMap<u64, Answer, RandomState>,
    /// How many items have come.
    sequence: u64,
    /// Which of them is being told about.
    judged: u64,
    ephemeral: HashMap<IpAddr, u16, RandomState>,
    pub(super) tally: Tally,
    pub(super) not_translated: Vec<NotTranslated>,
    pub(super) negative: bool,
    pub(super) end: Instant,
    pub(super) peak: (u64, Instant),
    pub(super) snapshot: Option<(Instant, Vec<DeviceTable>)>,
    passages: Vec<Passage>,
    /// Whether a device got other addresses or another plan: an answer may then begin a session of its own.
    rebuilt: bool,
    pub(super) refused_before: std::collections::HashSet<(crate::net::Protocol, crate::net::Tuple), RandomState>,
    pub(super) icmp_errors: IcmpErrors,
    pub(super) unattributed: u64,
    pub(super) link_only: u64,
    pub(super) seen: u64,
    /// Flows and packets that the fast path took.
    pub(super) fast_path: u64,
    pub(super) strangers: Strangers,
    pub(super) recording: Option<Recording>,
    /// Flows that run through several devices, where events are still to come.
    running: Vec<Running>,
    /// Of devices that another plan has taken over: where the interfaces that traffic names are now.
    interfaces: HashMap<DeviceId, Vec<Option<InterfaceId>>, RandomState>,
}

/// A flow that runs, and its sessions.
#[derive(Debug)]
struct Running {
    end: Instant,
    sessions: Vec<(DeviceId, SessionRef)>,
}

impl Run {
    pub(super) fn new(plan: Arc<Plan>, events: Vec<Event>, mut options: Options) -> Self {
        let mut network = Network::new(plan, options.seed, options.sources.take());
        if options.record {
            network.keep_history();
        }
        let recording = options.record.then(Recording::default);
        Self { recording, options, events: events.into(), ..Self::at_rest(network) }
    }

    /// A run on a network, with nothing to play.
    pub(super) fn at_rest(network: Network) -> Self {
        Self {
            network,
            options: Options::default(),
            now: Instant::ZERO,
            read: Instant::ZERO,
            until: Instant::NEVER,
            events: VecDeque::new(),
            answers: BinaryHeap::new(),
            underway: HashMap::default(),
            sequence: 0,
            judged: 0,
            ephemeral: HashMap::default(),
            tally: Tally::default(),
            not_translated: Vec::new(),
            negative: false,
            end: Instant::ZERO,
            peak: (0, Instant::ZERO),
            snapshot: None,
            passages: Vec::new(),
            rebuilt: false,
            refused_before: Default::default(),
            icmp_errors: IcmpErrors::default(),
            unattributed: 0,
            link_only: 0,
            seen: 0,
            fast_path: 0,
            strangers: Strangers::default(),
            recording: None,
            running: Vec::new(),
            interfaces: HashMap::default(),
        }
    }

    /// Plays everything that is due before the first packets of `to`: events, then answers, instant by instant.
    #[inline]
    pub(super) fn advance(&mut self, to: Instant) {
        if self.events.is_empty() && self.answers.is_empty() {
            self.snapshot_before(to);
            self.now = to;
        } else {
            self.advance_by_steps(to);
        }
    }

    fn advance_by_steps(&mut self, to: Instant) {
        loop {
            let event = self.events.front().map(|e| e.at);
            let answer = self.answers.peek().map(|a| a.0.0);
            let next = event.into_iter().chain(answer).min().filter(|n| *n <= to);
            let reached = next.unwrap_or(to);
            self.snapshot_before(reached);
            self.now = reached;
            if next.is_none() {
                return;
            }
            if event == next {
                if let Some(event) = self.events.pop_front() {
                    self.end = self.end.max(event.at);
                    self.rebuilt |= matches!(event.action, Action::Lease(..) | Action::Plan(..));
                    if let Some(renaming) = self.network.act(&event) {
                        self.rename(event.device, &renaming);
                    }
                    self.break_off(event.at);
                }
            } else if let Some(Reverse((at, sequence))) = self.answers.pop()
                && let Some(answer) = self.underway.remove(&sequence)
            {
                self.judged = sequence;
                self.answer(at, answer);
            }
        }
    }

    /// A flow whose session an event has removed on one device is over on all.
    fn break_off(&mut self, now: Instant) {
        let network = &mut self.network;
        self.running.retain(|flow| {
            let is_alive =
                |(device, session): &(DeviceId, SessionRef)| network.devices()[device.index()].is_alive(*session);
            if flow.end <= now || flow.sessions.iter().all(is_alive) {
                return flow.end > now;
            }
            flow.sessions.iter().for_each(|(device, session)| network.device_mut(*device).stop(now, *session));
            false
        });
    }

    /// Rules and interfaces of a device have other numbers now.
    fn rename(&mut self, device: DeviceId, renaming: &Renaming) {
        let unchanged = || (0..renaming.interfaces.len() as u16).map(|i| Some(InterfaceId(i))).collect();
        let known = self.interfaces.entry(device).or_insert_with(unchanged);
        known.iter_mut().for_each(|i| *i = i.and_then(|i| renaming.interfaces[i.index()]));
        let flows = self.not_translated.iter_mut().map(|n| &mut n.flow);
        let flows = flows.chain(self.underway.values_mut().map(|a| &mut a.flow));
        flows.for_each(|flow| renaming.rename_ends(device, flow));
        let rename = |rule: &mut RuleId| *rule = renaming.rules[rule.index()];
        let told = self.not_translated.iter_mut().filter(|n| n.device == Some(device));
        told.filter_map(|n| n.rule.as_mut()).for_each(rename);
        let passages = self.underway.values_mut().flat_map(|a| &mut a.passages).filter(|p| p.device == device);
        passages.filter_map(|p| p.unchanged.as_mut()?.1.as_mut()).for_each(rename);
        let tables = self.snapshot.iter_mut().flat_map(|s| &mut s.1).filter(|t| t.device == device);
        tables.for_each(|t| t.rename(renaming));
        if let Some(recording) = &mut self.recording {
            recording.rename(device, renaming);
        }
    }

    /// Takes the wanted table if time is about to leave its instant.
    fn snapshot_before(&mut self, next: Instant) {
        if let (Moment::At(at), None) = (self.options.moment, &self.snapshot)
            && at < next
        {
            self.snapshot = Some((at, self.tables(at)));
        }
    }

    /// The first packet of a flow.
    fn flow(&mut self, flow: &Flow, fast: Option<&FastFlow>) {
        let now = flow.start;
        self.end = self.end.max(now);
        let answer = flow.answered_at();
        if let Some(fast) = fast
            && self.is_unwatched_until(answer)
        {
            let end = flow.ends_at();
            if self.network.enter_flow(now, fast, FlowSchedule { answer, end, ending: flow.ending() }) {
                self.end = self.end.max(end);
                self.fast_path += 1;
                self.note_peak(now);
                return self.tally.count(Class::Translated);
            }
        }
        let flow = &match self.as_things_are(flow) {
            Ok(flow) => flow,
            Err((flow, device)) => {
                let loss = Loss { reason: Reason::NoRoute, device: Some(device), rule: None, place: None };
                return self.lost(&flow, loss, &[]);
            }
        };
        let (origin, packet) = match self.first_packet(flow) {
            Ok(first) => first,
            Err((reason, device)) if reason.class() == Class::Untranslated => {
                return self.unchanged(flow, reason, device, None, &[]);
            }
            Err((reason, device)) => return self.lost(flow, Loss { reason, device, rule: None, place: None }, &[]),
        };
        let mut passages = std::mem::take(&mut self.passages);
        passages.clear();
        let fate = self.network.send(now, origin, packet, &mut passages, &mut ());
        // what was made for a packet that is lost later counts too
        self.note_peak(now);
        match fate {
            Fate::Lost(loss) => self.lost(flow, loss, &passages),
            Fate::Arrived(receiver, arrived) => {
                let at = answer;
                if self.is_certain_until(at, &passages) {
                    let answer = Answer { flow: *flow, asked: packet, origin, receiver, arrived, passages };
                    passages = self.conclude(now, answer);
                } else {
                    let forth = std::mem::take(&mut passages);
                    let answer = Answer { flow: *flow, asked: packet, origin, receiver, arrived, passages: forth };
                    self.answers.push(Reverse((at, self.sequence)));
                    self.underway.insert(self.sequence, answer);
                }
            }
        }
        self.passages = passages;
    }

    /// Whether nothing may go a shorter way than step by step.
    pub(super) fn is_stepwise(&self) -> bool {
        self.options.stepwise
    }

    /// Whether nobody looks and nothing is done between now and `at`.
    fn is_unwatched_until(&self, at: Instant) -> bool {
        let watched = match (self.options.moment, &self.snapshot) {
            (Moment::At(moment), None) => self.now <= moment && moment < at,
            _ => false,
        };
        let eventful = self.events.front().is_some_and(|e| e.at <= at);
        !self.is_stepwise() && !watched && !eventful && at.0 - self.now.0 <= 1_000_000_000
    }

    /// Whether nothing can come between now and an answer at `at` that would see the difference.
    fn is_certain_until(&self, at: Instant, passages: &[Passage]) -> bool {
        let lives = |p: &Passage| p.session.is_none_or(|s| self.network.devices()[p.device.index()].expires(s) > at);
        // of a session that was there before it was not told whether another has its answers
        let contested = |p: &Passage| {
            let known = p.session.filter(|s| !s.is_new(self.now));
            p.contested || known.is_some_and(|s| self.network.devices()[p.device.index()].is_contested(s))
        };
        let own = |p: &Passage| lives(p) && !contested(p);
        !self.rebuilt && self.is_unwatched_until(at) && passages.iter().all(own)
    }

    fn answer(&mut self, at: Instant, answer: Answer) {
        self.end = self.end.max(at);
        self.conclude(at, answer);
    }

    /// Sends the answer, tells the flow's class, and lets it run to its end.
    fn conclude(&mut self, now: Instant, mut answer: Answer) -> Vec<Passage> {
        let flow = answer.flow;
        let forth = answer.passages.len();
        let asked = (answer.origin, answer.asked);
        let fate = self.network.answer(now, answer.receiver, answer.arrived, asked, &mut answer.passages, &mut ());
        // an answer that was entered ahead of its time passes when it is due: on its flow's sessions that follows from the
        // rest of the flow, if it arrives
        let (there, back) = answer.passages.split_at(forth);
        let is_lost = matches!(fate, Fate::Lost(_));
        let runs_on = |p: &Passage| there.iter().any(|t| (t.device, t.session) == (p.device, p.session));
        for passage in back.iter().filter(|p| now < flow.answered_at() && (is_lost || !runs_on(p))) {
            if let Some(session) = passage.session {
                let device = self.network.device_mut(passage.device);
                device.put_off(session, passage.refreshes, now, flow.answered_at());
            }
        }
        if let Fate::Lost(loss) = fate {
            self.end = self.end.max(flow.answered_at());
            self.lost(&flow, loss, &answer.passages[..forth]);
            return answer.passages;
        }
        let end = flow.ends_at();
        self.end = self.end.max(end);
        for passage in &answer.passages[..forth] {
            if let Some(session) = passage.session {
                self.network.device_mut(passage.device).run_until(now, session, end, flow.ending());
            }
        }
        self.keep_running(end, &answer.passages[..forth]);
        self.classify(&flow, &answer, forth);
        answer.passages
    }

    /// Remembers a flow that runs through several devices, where an event may come before its end.
    fn keep_running(&mut self, end: Instant, passages: &[Passage]) {
        if self.events.front().is_none_or(|e| e.at > end) {
            return;
        }
        let sessions: Vec<_> = passages.iter().filter_map(|p| Some((p.device, p.session?))).collect();
        if sessions.len() > 1 {
            self.running.push(Running { end, sessions });
        }
    }

    fn classify(&mut self, flow: &Flow, answer: &Answer, forth: usize) {
        match answer.unchanged(forth) {
            None => self.tally.count(Class::Translated),
            Some((reason, device, rule)) => self.unchanged(flow, reason, device, rule, &answer.passages[..forth]),
        }
    }

    pub(super) fn unchanged(
        &mut self,
        flow: &Flow,
        reason: Reason,
        device: Option<DeviceId>,
        rule: Option<RuleId>,
        passages: &[Passage],
    ) {
        self.negative |= self.is_passed_by(reason, passages);
        self.tally.count(Class::Untranslated);
        self.record_shortage(flow, reason, device, rule, passages);
        let place = self.rule_place(device, rule);
        self.not_translated.push(NotTranslated { flow: *flow, order: self.judged, reason, device, rule, place });
    }

    /// Whether a rule was meant for a flow that none translated.
    pub(super) fn is_passed_by(&self, reason: Reason, passages: &[Passage]) -> bool {
        reason == Reason::PassedExhausted || reason == Reason::NoRule && self.network.rule_was_meant(passages)
    }

    pub(super) fn rule_place(&self, device: Option<DeviceId>, rule: Option<RuleId>) -> Option<Place> {
        device.zip(rule).map(|(d, r)| self.network.plan().devices[d.index()].rules[r.index()].place)
    }

    pub(super) fn lost(&mut self, flow: &Flow, loss: Loss, passages: &[Passage]) {
        self.negative = true;
        self.tally.count(loss.reason.class());
        let Loss { reason, device, rule, place } = loss;
        self.record_shortage(flow, reason, device, rule, passages);
        self.not_translated.push(NotTranslated { flow: *flow, order: self.judged, reason, device, rule, place });
    }

    /// A flow with the interfaces that it names as they are numbered now; or, where one is no more, with its device, and which
    /// that is.
    pub(super) fn as_things_are(&self, flow: &Flow) -> Result<Flow, (Flow, DeviceId)> {
        let (mut now, mut gone) = (*flow, None);
        for party in [&mut now.source, &mut now.destination] {
            if let Party::Interface(device, i) = *party
                && let Some(known) = self.interfaces.get(&device)
            {
                *party = known[i.index()].map_or(Party::Device(device), |i| Party::Interface(device, i));
                gone = gone.or(known[i.index()].is_none().then_some(device));
            }
        }
        gone.map_or(Ok(now), |device| Err((now, device)))
    }

    /// The first packet of a flow, or why there is none and which device is to blame.
    pub(super) fn first_packet(&mut self, flow: &Flow) -> Result<(Origin, Packet), (Reason, Option<DeviceId>)> {
        let plan = self.network.plan();
        let destination = match flow.destination {
            Party::Address(address) => address,
            Party::Host(id) => plan.hosts[id.index()].address,
            Party::Device(id) => {
                plan.devices[id.index()].interfaces.iter().find_map(|i| i.primary()).ok_or((Reason::Unrouted, None))?
            }
            Party::Interface(device, interface) => {
                let addresses = &plan.devices[device.index()].interfaces[interface.index()].addresses;
                addresses.first().ok_or((Reason::Unrouted, None))?.0
            }
        };
        let (origin, source) = match flow.source {
            Party::Address(address) => {
                // wherever its sender is, it stays there
                let unknown = if is_link_local(address) { Reason::LinkOnly } else { Reason::UnknownSource };
                (self.network.origin(address).ok_or((unknown, None))?, address)
            }
            Party::Host(id) => (Origin::Host(id), plan.hosts[id.index()].address),
            Party::Device(id) => {
                let source =
                    self.network.devices()[id.index()].own_source(destination).ok_or((Reason::NoRoute, Some(id)))?;
                (Origin::Device(id, OwnSource::ByRoute), source)
            }
            Party::Interface(device, interface) => {
                let interface = &plan.devices[device.index()].interfaces[interface.index()];
                // of another family: no way leads there
                let source = interface.address_for(destination).or(interface.addresses.first().map(|a| a.0));
                let source = source.ok_or((Reason::NoRoute, Some(device)))?;
                (Origin::Device(device, OwnSource::Given), source)
            }
        };
        if source.is_ipv4() != destination.is_ipv4() {
            return Err((Reason::UnsupportedFamily, self.network.first_device(origin)));
        }
        let port = match flow.source_port {
            Some(port) => port,
            None if flow.protocol.is_multiplexed() => {
                let next = self.ephemeral.entry(source).or_insert(EPHEMERAL.0);
                let port = *next;
                *next = if port == EPHEMERAL.1 { EPHEMERAL.0 } else { port + 1 };
                port
            }
            None => 0,
        };
        let to = Endpoint::new(destination, flow.destination_port.unwrap_or(0));
        let packet = Packet::first(flow.protocol, Endpoint::new(source, port), to);
        if self.network.stays_on_link(origin, packet) { Err((Reason::LinkOnly, None)) } else { Ok((origin, packet)) }
    }

    pub(super) fn note_peak(&mut self, now: Instant) {
        // one device has expired what was due when the packet came; of several, others may not have
        if self.network.devices().len() > 1 {
            self.expire_all(now);
        }
        let count = self.network.mapping_count();
        if count > self.peak.0 {
            self.peak = (count, now);
        }
    }
}
