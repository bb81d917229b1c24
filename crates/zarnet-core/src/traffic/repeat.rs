//! Flows that are sent again and again.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use super::Flow;
use crate::net::Instant;

/// A flow and how often it is sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Repeated {
    /// The flow, as it is sent the first time.
    pub flow: Flow,
    /// From one start to the next, in nanoseconds.
    pub every: u64,
    /// Number of times that the flow is sent, at least one.
    pub count: u64,
}

impl From<Flow> for Repeated {
    fn from(flow: Flow) -> Self {
        Self { flow, every: 0, count: 1 }
    }
}

/// The flows of a list in the order of their starts, and those that start together in the order of
/// the list.
#[derive(Debug, Clone)]
pub struct RepeatedFlows {
    list: Vec<Repeated>,
    /// The next start of each, its position in the list, and how often it was sent.
    next: BinaryHeap<Reverse<(Instant, usize, u64)>>,
}

impl RepeatedFlows {
    /// Of a list in any order.
    pub fn new(list: Vec<Repeated>) -> Self {
        let sent = list.iter().enumerate().filter(|(_, r)| r.count > 0);
        let next = sent.map(|(i, r)| Reverse((r.flow.start, i, 0))).collect();
        Self { list, next }
    }
}

impl Iterator for RepeatedFlows {
    type Item = Flow;

    fn next(&mut self) -> Option<Flow> {
        let Reverse((start, i, sent)) = self.next.pop()?;
        let Repeated { flow, every, count } = self.list[i];
        if sent + 1 < count {
            self.next.push(Reverse((Instant(start.0.saturating_add(every)), i, sent + 1)));
        }
        Some(Flow { start, ..flow })
    }
}
