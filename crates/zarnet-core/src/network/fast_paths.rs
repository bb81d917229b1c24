//! Ways through the network on which nothing can object, known beforehand: see [`FastPath`].

use super::ways::KnownWay;
use crate::device::{FastPath, FlowKey, Key};
use crate::net::IntervalMap;
use crate::plan::DeviceId;

/// Every fast path, and which sources are on it.
#[derive(Debug, Clone, Default)]
pub(super) struct FastPaths {
    pub list: Vec<(DeviceId, FastPath)>,
    /// Whether it has to be waited for where a host's next port is entered, on any of them.
    pub have_far_ports: bool,
    /// Whether more decides about a new port on any of them than which ones are free.
    pub are_careful: bool,
    /// By source: the fast path, and the rule on it.
    pub by_source: Option<IntervalMap<Option<(u16, u16)>>>,
    /// How often they were forgotten.
    pub issue: u32,
    /// Whether they were found since.
    pub found: bool,
}

impl FastPaths {
    /// The fast path that flows of a source are on, and the rule that translates them there.
    #[inline(always)]
    pub(super) fn of(&self, source: Key) -> Option<(u16, u16)> {
        *self.by_source.as_ref()?.get(source.number())
    }

    /// Something was done to a device: nothing that was known holds any more.
    pub(super) fn forget(&mut self) {
        *self = Self { issue: self.issue + 1, ..Self::default() };
    }
}

/// A shorter way than step by step.
#[derive(Debug, Clone, Copy)]
pub(crate) enum ShortWay {
    /// There is none.
    None,
    /// Straight out of an edge.
    Fast(FastFlow),
    /// As others of its class went before.
    Known(KnownWay),
}

impl ShortWay {
    #[inline(always)]
    pub(super) fn fast(&self) -> Option<&FastFlow> {
        if let Self::Fast(fast) = self { Some(fast) } else { None }
    }
}

/// What is entered on a fast path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum FastKind {
    /// A flow from its first packet to its last.
    Flow,
    /// A packet that was seen coming in.
    Forth,
    /// A packet that was seen going out to who began its flow.
    Back,
}

/// A flow or a packet whose way is known.
#[derive(Debug, Clone, Copy)]
pub(crate) struct FastFlow {
    pub(super) kind: FastKind,
    pub(super) key: FlowKey,
    pub(super) device: DeviceId,
    /// Of the fast paths that it was found by.
    pub(super) issue: u32,
}
