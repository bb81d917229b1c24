//! A flow from its first packet to its last.

use std::cmp::Reverse;

use super::answer::Answer;
use super::run::{Run, Running};
use super::{NotTranslated, TimelineRow};
use crate::device::{FlowSchedule, SessionRef};
use crate::net::{Instant, Tuple};
use crate::network::{Fate, KnownWay, Loss, Passage, ShortWay};
use crate::plan::{DeviceId, Place, RuleId};
use crate::reason::{Class, Reason};
use crate::traffic::Flow;

impl Run {
    /// The first packet of a flow.
    pub(super) fn flow(&mut self, flow: &Flow, short: &ShortWay) {
        let now = flow.start;
        self.end = self.end.max(now);
        let answer = flow.answered_at();
        if self.timeline.is_none() && self.is_unwatched_until(answer) {
            let end = flow.ends_at();
            let schedule = FlowSchedule { answer, end, ending: flow.ending() };
            if self.enter_at_once(now, short, schedule) {
                self.end = self.end.max(end);
                self.fast_path += 1;
                if flow.source_port.is_none() {
                    self.choose_port(flow);
                }
                self.note_peak(now);
                if let Some(recording) = &mut self.recording {
                    recording.serve(flow);
                }
                return self.tally.count(Class::Translated);
            }
        }
        let flow = &match self.as_things_are(flow) {
            Ok(flow) => flow,
            Err((flow, device)) => {
                let loss =
                    Loss { reason: Reason::NoRoute, device: Some(device), rule: None, place: None };
                return self.lost(&flow, loss, &[]);
            }
        };
        let (origin, packet) = match self.first_packet(flow) {
            Ok(first) => first,
            Err((reason, device)) if reason.class() == Class::Untranslated => {
                return self.unchanged(flow, reason, device, None, &[]);
            }
            Err((reason, device)) => {
                return self.lost(flow, Loss { reason, device, rule: None, place: None }, &[]);
            }
        };
        let mut passages = std::mem::take(&mut self.passages);
        passages.clear();
        let fate = self.network.send(now, origin, packet, &mut passages, &mut ());
        // what was made for a packet that is lost later counts too
        self.note_peak(now);
        match fate {
            Fate::Lost(loss) => self.lost(flow, loss, &passages),
            Fate::Arrived(receiver, arrived) => {
                let (at, flow, asked) = (answer, *flow, packet);
                let is_certain = self.is_certain_until(at, &passages);
                let (forth, issue) = (std::mem::take(&mut passages), self.network.issue());
                let answer =
                    Answer { flow, asked, origin, receiver, arrived, passages: forth, issue };
                if is_certain {
                    passages = self.conclude(now, answer);
                } else {
                    self.answers.push(Reverse((at, self.sequence)));
                    if let Some(timeline) = &mut self.timeline {
                        timeline.wait_for(self.sequence);
                    }
                    self.underway.insert(self.sequence, answer);
                }
            }
        }
        self.passages = passages;
    }

    /// Enters a whole flow at once. `false`: nothing was done, and it has to go step by step.
    #[inline(always)]
    fn enter_at_once(&mut self, now: Instant, short: &ShortWay, schedule: FlowSchedule) -> bool {
        match short {
            ShortWay::None => false,
            ShortWay::Fast(fast) => self.network.enter_flow(now, fast, schedule),
            ShortWay::Known(known) => self.enter_known(now, known, schedule),
        }
    }

    fn enter_known(&mut self, now: Instant, known: &KnownWay, schedule: FlowSchedule) -> bool {
        let mut sessions = Vec::new();
        let eventful = self.events.front().is_some_and(|e| e.at <= schedule.end);
        let wanted = eventful.then_some(&mut sessions);
        if self.rebuilt || !self.network.enter_known(now, known, schedule, wanted) {
            return false;
        }
        if sessions.len() > 1 {
            self.running.push(Running { end: schedule.end, sessions });
        }
        true
    }

    pub(super) fn answer(&mut self, at: Instant, answer: Answer) {
        self.end = self.end.max(at);
        self.conclude(at, answer);
    }

    /// Sends the answer, tells the flow's class, and lets it run to its end.
    fn conclude(&mut self, now: Instant, mut answer: Answer) -> Vec<Passage> {
        let flow = answer.flow;
        let forth = answer.passages.len();
        let asked = (answer.origin, answer.asked);
        let fate = self.network.answer(
            now,
            answer.receiver,
            answer.arrived,
            asked,
            &mut answer.passages,
            &mut (),
        );
        // an answer that was entered ahead of its time passes when it is due: on its flow's
        // sessions that follows from the rest of the flow, if it arrives
        let (there, back) = answer.passages.split_at(forth);
        let is_lost = matches!(fate, Fate::Lost(_));
        let runs_on =
            |p: &Passage| there.iter().any(|t| (t.device, t.session) == (p.device, p.session));
        for passage in back.iter().filter(|p| now < flow.answered_at() && (is_lost || !runs_on(p)))
        {
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
        let may_show = !self.is_stepwise() && answer.issue == self.network.issue();
        if may_show && answer.passages.iter().any(|p| p.changed) {
            let (there, back) = answer.passages.split_at(forth);
            self.network.learn_way(flow.start, answer.asked, answer.receiver, there, back);
        }
        self.classify(&flow, &answer, forth);
        answer.passages
    }

    /// Remembers a flow that runs through several devices, where an event may come before its end.
    fn keep_running(&mut self, end: Instant, passages: &[Passage]) {
        if self.events.front().is_none_or(|e| e.at > end) {
            return;
        }
        let sessions: Vec<_> =
            passages.iter().filter_map(|p| Some((p.device, p.session?))).collect();
        if sessions.len() > 1 {
            self.running.push(Running { end, sessions });
        }
    }

    fn classify(&mut self, flow: &Flow, answer: &Answer, forth: usize) {
        match answer.unchanged(forth) {
            None => {
                self.tally.count(Class::Translated);
                if let Some(recording) = &mut self.recording {
                    recording.serve(flow);
                }
                let by = answer.passages.iter().find(|p| p.changed);
                self.note_translated(flow, answer.arrived.ends, by.map(|p| (p.device, p.session)));
            }
            Some((reason, device, rule)) => {
                self.unchanged(flow, reason, device, rule, &answer.passages[..forth])
            }
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
        let place = self.rule_place(device, rule);
        self.note_not_translated(flow, Loss { reason, device, rule, place }, passages);
    }

    /// Whether a rule was meant for a flow that none translated.
    pub(super) fn is_passed_by(&self, reason: Reason, passages: &[Passage]) -> bool {
        reason == Reason::PassedExhausted
            || reason == Reason::NoRule && self.network.rule_was_meant(passages)
    }

    pub(super) fn rule_place(
        &self,
        device: Option<DeviceId>,
        rule: Option<RuleId>,
    ) -> Option<Place> {
        device.zip(rule).map(|(d, r)| self.network.plan().devices[d.index()].rules[r.index()].place)
    }

    pub(super) fn lost(&mut self, flow: &Flow, loss: Loss, passages: &[Passage]) {
        self.negative = true;
        self.note_not_translated(flow, loss, passages);
    }

    fn note_not_translated(&mut self, flow: &Flow, loss: Loss, passages: &[Passage]) {
        let Loss { reason, device, rule, place } = loss;
        self.tally.count(reason.class());
        self.record_shortage(flow, reason, device, rule, passages);
        if let Some(timeline) = &mut self.timeline {
            timeline.note(self.judged, TimelineRow::lost(flow, loss));
        }
        self.not_translated.push(NotTranslated {
            flow: *flow,
            order: self.judged,
            reason,
            device,
            rule,
            place,
        });
    }

    /// Notes that a flow was translated, by which device in which session, if a timeline is wanted.
    pub(super) fn note_translated(
        &mut self,
        flow: &Flow,
        arrived: Tuple,
        by: Option<(DeviceId, Option<SessionRef>)>,
    ) {
        let Some(timeline) = &mut self.timeline else { return };
        let mut row = TimelineRow::translated(flow, arrived, by.map(|b| b.0));
        if let Some((device, Some(session))) = by {
            let device = &self.network.devices()[device.index()];
            row.rule = device.rules_of(session).into_iter().flatten().next();
            row.place = row.rule.map(|rule| device.plan().rules[rule.index()].place);
        }
        timeline.note(self.judged, row);
    }
}
