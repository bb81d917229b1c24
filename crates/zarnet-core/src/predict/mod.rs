//! Traffic through a network: the table at a moment, what was counted, and what was not translated
//! and why.

mod answer;
mod capture;
mod expect;
mod finish;
mod first_packet;
mod flow;
mod follow;
mod holders;
mod live;
mod log;
mod play;
mod recording;
mod run;
mod shortage;
mod strangers;
mod tally;
mod timeline;

use std::collections::HashSet;
use std::net::IpAddr;
use std::sync::Arc;

use foldhash::fast::RandomState;

use crate::device::{AddressUse, Counters, History, MappingRow, PoolUse, SessionRow};
use crate::net::Instant;
use crate::plan::{DeviceId, Place, Plan, Renaming, RuleId};
use crate::reason::Reason;
use crate::traffic::Flow;

pub use expect::failures;
pub use expect::{Failed, Tried};
pub use follow::{
    Followed, Observation, ObservationPoint, Rehearsal, Scene, SeenEnds, follow_during,
};
pub use holders::Held;
pub use holders::Holder;
pub use live::Live;
pub use log::log;
pub use play::{network_at, predict};
pub use recording::{FirstRefusal, MOST_KEPT, Recording, RequestUse, Shortage};
pub use strangers::Elsewhere;
pub use tally::Tally;
pub use timeline::TimelineRow;

/// Addresses that send somewhere in the traffic.
pub type Sources = HashSet<IpAddr, RandomState>;

/// The moment whose table is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Moment {
    /// After everything that is due at this instant.
    At(Instant),
    /// The instant of the last packet or event of the traffic.
    End,
}

/// How a prediction is made.
#[derive(Debug, Clone)]
pub struct Options {
    /// Whose table is wanted.
    pub moment: Moment,
    /// Where random choices start from.
    pub seed: u64,
    /// Every source of the traffic, where a first attempt has shown that it matters.
    pub sources: Option<Sources>,
    /// Whether the mappings of the table are wanted, one by one; they are counted in any case.
    pub mappings: bool,
    /// Whether its sessions are.
    pub sessions: bool,
    /// Answers and last packets one by one, even where their outcome is already certain. The result
    /// is the same, later; tests hold one against the other.
    pub stepwise: bool,
    /// Whether it is kept what was in use over time, and what ran out.
    pub record: bool,
    /// Whether it is told what became of each flow. Each goes step by step then.
    pub timeline: bool,
}

impl Default for Options {
    fn default() -> Self {
        Self {
            moment: Moment::End,
            seed: 0,
            sources: None,
            mappings: true,
            sessions: true,
            stepwise: false,
            record: false,
            timeline: false,
        }
    }
}

/// Why a prediction came to no end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Halt<E> {
    /// The traffic could not be read.
    Traffic(E),
    /// An item begins before the one that was given before it: the traffic has to be sorted first.
    OutOfOrder {
        /// When the window begins.
        at: Instant,
        /// What was played up to then.
        after: Instant,
    },
    /// A packet was lost at an address that is a host only if it sends somewhere:
    /// [`Options::sources`] is needed.
    SourcesNeeded,
}

/// The result of playing traffic through a network.
#[derive(Debug, Clone)]
pub struct Prediction {
    /// The plan at the end of the traffic: with leases as they are then, and with rules that are no
    /// more behind those that are. All that follows goes by it.
    pub plan: Arc<Plan>,
    /// The moment of the tables.
    pub at: Instant,
    /// By device, in the order of the plan.
    pub tables: Vec<DeviceTable>,
    /// Number of flows in each class.
    pub tally: Tally,
    /// Flows that were not translated, in the order of their start.
    pub not_translated: Vec<NotTranslated>,
    /// The first instant with the most dynamic mappings.
    pub peak_at: Instant,
    /// How many those were.
    pub peak_mappings: u64,
    /// The instant of the last packet or event.
    pub end: Instant,
    /// Whether a flow was refused, lost, or passed by a rule that was meant for it.
    pub negative: bool,
    /// ICMP errors of captures.
    pub icmp_errors: IcmpErrors,
    /// Packets of captures that could not be told apart: sent by the device itself, or translated
    /// before they were seen.
    pub unattributed: u64,
    /// Packets of captures that stay on their link: multicast, broadcast, and from or to link-local
    /// addresses.
    pub link_only: u64,
    /// Flows, and packets of captures, that were entered at once instead of step by step: what
    /// makes it fast, and changes nothing.
    pub fast_path: u64,
    /// Where the senders of a capture are, if most of them cannot be behind the interface that it
    /// is said to be from.
    pub elsewhere: Option<Elsewhere>,
    /// What ran out, if that was wanted.
    pub recording: Option<Recording>,
    /// What became of each flow, in the order of their start, if that was wanted.
    pub timeline: Option<Vec<TimelineRow>>,
}

/// ICMP errors that came in where a capture was made. None of them changes a table (RFC 4787 §10
/// REQ-12).
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct IcmpErrors {
    /// Passed on to whom they concern, what they embed translated.
    pub translated: u64,
    /// Passed on as they were.
    pub untranslated: u64,
    /// Dropped: about a packet of no session, or filtered.
    pub dropped: u64,
}

/// The table of a device, and what it counted.
#[derive(Debug, Clone)]
pub struct DeviceTable {
    /// The device whose table it is.
    pub device: DeviceId,
    /// Its mappings, fixed ones first.
    pub mappings: Vec<MappingRow>,
    /// Its sessions, if they were wanted.
    pub sessions: Vec<SessionRow>,
    /// Its sessions, untranslated ones included.
    pub session_count: u64,
    /// Number of dynamic mappings that live at the moment.
    pub mapping_count: u64,
    /// Sessions of each rule.
    pub active: Vec<u64>,
    /// Whether each rule is enabled.
    pub enabled: Vec<bool>,
    /// What it counted over all the traffic.
    pub totals: Counters,
    /// External addresses that dynamic mappings have used: mappings at the moment, the rest over
    /// all the traffic.
    pub addresses: Vec<AddressUse>,
    /// Its pools: in use at the moment, the rest over all the traffic.
    pub pools: Vec<PoolUse>,
    /// What was in use over all the traffic, if that was wanted.
    pub history: Option<Box<History>>,
}

impl DeviceTable {
    /// The same by other numbers of rules and pools.
    fn rename(&mut self, renaming: &Renaming) {
        for m in &mut self.mappings {
            m.rule = renaming.rules[m.rule.index()];
        }
        for rule in self.sessions.iter_mut().flat_map(|s| s.rules.iter_mut().flatten()) {
            *rule = renaming.rules[rule.index()];
        }
        let (active, pools) = (std::mem::take(&mut self.active), std::mem::take(&mut self.pools));
        for (new, active) in renaming.rules.iter().zip(active) {
            put(&mut self.active, new.index(), active);
        }
        let enabled = std::mem::take(&mut self.enabled);
        for (new, enabled) in renaming.rules.iter().zip(enabled) {
            put(&mut self.enabled, new.index(), enabled);
        }
        for (new, pool) in renaming.pools.iter().zip(pools) {
            put(&mut self.pools, new.index(), pool);
        }
    }
}

fn put<T: Clone + Default>(list: &mut Vec<T>, position: usize, value: T) {
    if list.len() <= position {
        list.resize(position + 1, T::default());
    }
    list[position] = value;
}

/// A flow that was not translated.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NotTranslated {
    /// The flow that was not translated.
    pub flow: Flow,
    /// The how many-th item of the traffic it was.
    pub order: u64,
    /// The reason why it was not.
    pub reason: Reason,
    /// The device that is to blame.
    pub device: Option<DeviceId>,
    /// The rule that is to blame.
    pub rule: Option<RuleId>,
    /// What in the plan caused it.
    pub place: Option<Place>,
}
