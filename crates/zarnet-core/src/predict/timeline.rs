//! What became of each flow, in the order in which flows begin: one row for all that a sender sent
//! to a destination until one of them fares otherwise.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use foldhash::fast::RandomState;

use crate::net::{Instant, Protocol, Tuple};
use crate::network::Loss;
use crate::plan::{DeviceId, Place, Renaming, RuleId};
use crate::reason::{Class, Reason};
use crate::traffic::{Flow, Party};

/// A flow, or several of one sender to one destination that fared alike.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TimelineRow {
    /// The first of them, without its port where others have another.
    pub flow: Flow,
    /// When the last of them begins.
    pub until: Instant,
    /// How many flows they are.
    pub count: u64,
    /// What became of them.
    pub class: Class,
    /// Why they were not translated.
    pub reason: Option<Reason>,
    /// The device that translated them, or is to blame.
    pub device: Option<DeviceId>,
    /// Its rule.
    pub rule: Option<RuleId>,
    /// The first packet as it arrived, if it was translated; port 0 where several have others.
    pub translated: Option<Tuple>,
    /// What in the plan caused it.
    pub place: Option<Place>,
}

/// Sender, destination, protocol and port: flows that differ in nothing else are told together.
type Conversation = (Party, Party, Protocol, Option<u16>);

/// A timeline in the making. Outcomes come when answers do, rows in the order of the flows.
#[derive(Debug, Default)]
pub(super) struct Timeline {
    /// Flows that were sent and not yet answered, by their order.
    awaited: BTreeSet<u64>,
    /// Outcomes of flows that began after the first of those.
    held: BTreeMap<u64, TimelineRow>,
    rows: Vec<TimelineRow>,
    /// The last row of each conversation.
    last: HashMap<Conversation, usize, RandomState>,
}

impl Timeline {
    /// A flow waits for its answer: what began after it is told after it.
    pub(super) fn wait_for(&mut self, order: u64) {
        self.awaited.insert(order);
    }

    pub(super) fn note(&mut self, order: u64, row: TimelineRow) {
        self.awaited.remove(&order);
        self.held.insert(order, row);
        while let Some(first) = self.held.first_entry()
            && self.awaited.first().is_none_or(|awaited| first.key() < awaited)
        {
            let row = first.remove();
            self.add(row);
        }
    }

    fn add(&mut self, row: TimelineRow) {
        let Flow { source, destination, protocol, destination_port, .. } = row.flow;
        let next = self.rows.len();
        let key = (source, destination, protocol, destination_port);
        let last = self.last.insert(key, next);
        match last.filter(|last| self.rows[*last].has_outcome_of(&row)) {
            Some(last) => {
                self.rows[last].take_in(&row);
                self.last.insert(key, last);
            }
            None => self.rows.push(row),
        }
    }

    /// Rules and interfaces of a device have other numbers now, and a new plan begins new rows.
    pub(super) fn rename(&mut self, device: DeviceId, renaming: &Renaming) {
        self.last.clear();
        for row in self.rows.iter_mut().chain(self.held.values_mut()) {
            renaming.rename_ends(device, &mut row.flow);
            if let Some(rule) = row.rule.as_mut().filter(|_| row.device == Some(device)) {
                *rule = renaming.rules[rule.index()];
            }
        }
    }

    /// The rows, once every flow is judged.
    pub(super) fn rows(self) -> Vec<TimelineRow> {
        self.rows
    }
}

impl TimelineRow {
    /// Of a flow that was not translated.
    pub(super) fn lost(flow: &Flow, loss: Loss) -> Self {
        let Loss { reason, device, rule, place } = loss;
        let (flow, until, reason, translated) = (*flow, flow.start, Some(reason), None);
        let class = loss.reason.class();
        Self { flow, until, count: 1, class, reason, device, rule, translated, place }
    }

    /// Of a flow whose first packet arrived with these ends.
    pub(super) fn translated(flow: &Flow, arrived: Tuple, by: Option<DeviceId>) -> Self {
        let mut arrived = arrived;
        if flow.protocol.has_query_id() {
            arrived.destination.port = 0;
        }
        let (flow, until, class) = (*flow, flow.start, Class::Translated);
        let (reason, rule, place, translated) = (None, None, None, Some(arrived));
        Self { flow, until, count: 1, class, reason, device: by, rule, translated, place }
    }

    fn has_outcome_of(&self, other: &Self) -> bool {
        let outcome = |r: &Self| {
            let ends = r.translated.map(|t| (t.source.address, t.destination));
            (r.class, r.reason, r.device, r.rule, ends, r.place)
        };
        outcome(self) == outcome(other)
    }

    fn take_in(&mut self, later: &Self) {
        self.count += later.count;
        self.until = later.until;
        if self.flow.source_port != later.flow.source_port {
            self.flow.source_port = None;
        }
        if let (Some(own), Some(other)) = (&mut self.translated, later.translated)
            && own.source.port != other.source.port
        {
            own.source.port = 0;
        }
    }
}
