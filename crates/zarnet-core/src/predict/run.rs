//! Plays traffic, in the order of its clock.
//!
//! A flow is three moments: its first packet, the answer a round trip later, and its last packet.
//! Where nothing can come between the first two, the answer is entered at once, and the rest of the
//! flow is entered into its sessions as a span: that way a flow costs one visit, and the table at
//! any moment still follows.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap, VecDeque};
use std::net::IpAddr;
use std::sync::Arc;

use foldhash::fast::RandomState;

use super::answer::Answer;
use super::recording::Recording;
use super::strangers::Strangers;
use super::timeline::Timeline;
use super::{DeviceTable, IcmpErrors, Moment, NotTranslated, Options, Tally};
use crate::device::SessionRef;
use crate::event::{Action, Event};
use crate::net::Instant;
use crate::network::{Network, Passage};
use crate::plan::{DeviceId, InterfaceId, Plan, Renaming, RuleId};

/// A prediction in the making.
pub(super) struct Run {
    pub(super) network: Network,
    pub(super) options: Options,
    pub(super) now: Instant,
    /// The start of the item last read.
    pub(super) read: Instant,
    /// What starts later is read but not played.
    pub(super) until: Instant,
    pub(super) events: VecDeque<Event>,
    /// Answers by the instant at which they are sent, and among equals by order.
    pub(super) answers: BinaryHeap<Reverse<(Instant, u64)>>,
    pub(super) underway: HashMap<u64, Answer, RandomState>,
    /// How many items have come.
    pub(super) sequence: u64,
    /// Which of them is being told about.
    pub(super) judged: u64,
    pub(super) ephemeral: HashMap<IpAddr, u16, RandomState>,
    pub(super) tally: Tally,
    pub(super) not_translated: Vec<NotTranslated>,
    pub(super) negative: bool,
    pub(super) end: Instant,
    pub(super) peak: (u64, Instant),
    pub(super) snapshot: Option<(Instant, Vec<DeviceTable>)>,
    pub(super) passages: Vec<Passage>,
    /// Whether a device got other addresses or another plan: an answer may then begin a session of
    /// its own.
    pub(super) rebuilt: bool,
    pub(super) refused_before:
        std::collections::HashSet<(crate::net::Protocol, crate::net::Tuple), RandomState>,
    pub(super) icmp_errors: IcmpErrors,
    pub(super) unattributed: u64,
    pub(super) link_only: u64,
    pub(super) seen: u64,
    /// Flows and packets that the fast path took.
    pub(super) fast_path: u64,
    pub(super) strangers: Strangers,
    pub(super) recording: Option<Recording>,
    /// What became of each flow, if that is wanted.
    pub(super) timeline: Option<Timeline>,
    /// Flows that run through several devices, where events are still to come.
    pub(super) running: Vec<Running>,
    /// Of devices that another plan has taken over: where the interfaces that traffic names are
    /// now.
    pub(super) interfaces: HashMap<DeviceId, Vec<Option<InterfaceId>>, RandomState>,
}

/// A flow that runs, and its sessions.
#[derive(Debug)]
pub(super) struct Running {
    pub end: Instant,
    pub sessions: Vec<(DeviceId, SessionRef)>,
}

impl Run {
    pub(super) fn new(plan: Arc<Plan>, events: Vec<Event>, mut options: Options) -> Self {
        let mut network = Network::new(plan, options.seed, options.sources.take());
        if options.record {
            network.keep_history();
        }
        let recording = options.record.then(Recording::default);
        let timeline = options.timeline.then(Timeline::default);
        let events = events.into();
        Self { recording, timeline, options, events, ..Self::at_rest(network) }
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
            timeline: None,
            running: Vec::new(),
            interfaces: HashMap::default(),
        }
    }

    /// Plays everything that is due before the first packets of `to`: events, then answers, instant
    /// by instant.
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
            let is_alive = |(device, session): &(DeviceId, SessionRef)| {
                network.devices()[device.index()].is_alive(*session)
            };
            if flow.end <= now || flow.sessions.iter().all(is_alive) {
                return flow.end > now;
            }
            flow.sessions
                .iter()
                .for_each(|(device, session)| network.device_mut(*device).stop(now, *session));
            false
        });
    }

    /// Rules and interfaces of a device have other numbers now.
    fn rename(&mut self, device: DeviceId, renaming: &Renaming) {
        let unchanged =
            || (0..renaming.interfaces.len() as u16).map(|i| Some(InterfaceId(i))).collect();
        let known = self.interfaces.entry(device).or_insert_with(unchanged);
        known.iter_mut().for_each(|i| *i = i.and_then(|i| renaming.interfaces[i.index()]));
        let flows = self.not_translated.iter_mut().map(|n| &mut n.flow);
        let flows = flows.chain(self.underway.values_mut().map(|a| &mut a.flow));
        flows.for_each(|flow| renaming.rename_ends(device, flow));
        let rename = |rule: &mut RuleId| *rule = renaming.rules[rule.index()];
        let told = self.not_translated.iter_mut().filter(|n| n.device == Some(device));
        told.filter_map(|n| n.rule.as_mut()).for_each(rename);
        let passages =
            self.underway.values_mut().flat_map(|a| &mut a.passages).filter(|p| p.device == device);
        passages.filter_map(|p| p.unchanged.as_mut()?.1.as_mut()).for_each(rename);
        let tables = self.snapshot.iter_mut().flat_map(|s| &mut s.1).filter(|t| t.device == device);
        tables.for_each(|t| t.rename(renaming));
        if let Some(recording) = &mut self.recording {
            recording.rename(device, renaming);
        }
        if let Some(timeline) = &mut self.timeline {
            timeline.rename(device, renaming);
        }
    }

    /// Takes the wanted table if time is about to leave its instant.
    #[inline(always)]
    fn snapshot_before(&mut self, next: Instant) {
        if let (Moment::At(at), None) = (self.options.moment, &self.snapshot)
            && at < next
        {
            self.snapshot = Some((at, self.tables(at)));
        }
    }

    /// Whether nothing may go a shorter way than step by step.
    pub(super) fn is_stepwise(&self) -> bool {
        self.options.stepwise
    }

    /// Whether nobody looks and nothing is done between now and `at`.
    pub(super) fn is_unwatched_until(&self, at: Instant) -> bool {
        let watched = match (self.options.moment, &self.snapshot) {
            (Moment::At(moment), None) => self.now <= moment && moment < at,
            _ => false,
        };
        let eventful = self.events.front().is_some_and(|e| e.at <= at);
        !self.is_stepwise() && !watched && !eventful && at.0 - self.now.0 <= 1_000_000_000
    }

    /// Whether nothing can come between now and an answer at `at` that would see the difference.
    pub(super) fn is_certain_until(&self, at: Instant, passages: &[Passage]) -> bool {
        let lives = |p: &Passage| {
            p.session.is_none_or(|s| self.network.devices()[p.device.index()].expires(s) > at)
        };
        // of a session that was there before it was not told whether another has its answers
        let contested = |p: &Passage| {
            let known = p.session.filter(|s| !s.is_new(self.now));
            p.contested
                || known.is_some_and(|s| self.network.devices()[p.device.index()].is_contested(s))
        };
        let own = |p: &Passage| lives(p) && !contested(p);
        // on its way back over several devices an answer may go astray, and begin something there
        let is_straight = passages.len() < 2;
        let is_quiet = !self.rebuilt && self.is_unwatched_until(at);
        is_straight && is_quiet && passages.iter().all(own)
    }

    #[inline(always)]
    pub(super) fn note_peak(&mut self, now: Instant) {
        let count = self.network.count_mappings(now);
        if count > self.peak.0 {
            self.peak = (count, now);
        }
    }
}
