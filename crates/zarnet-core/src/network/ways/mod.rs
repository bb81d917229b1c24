//! Ways through the network that were found once, and hold for every flow that fares alike.
//!
//! A flow that goes step by step shows what others of its class meet: the devices on their way, the
//! rules that translate them there, and that answers come back. From then on such flows are entered
//! on all those devices in one visit. What of it depends on the table, on ports, or on what filters
//! and policies say of the very packet, is asked for each; a test holds both against each other.

mod classes;

use std::collections::HashMap;

use foldhash::fast::RandomState;

use crate::device::{DecidedHop, Prepared, Probe, UsualFlow};
use crate::net::{Endpoint, Packet, Protocol, Tuple};
use crate::plan::{DeviceId, Plan};
use classes::Class;

pub(super) use classes::Classes;

/// The ways that are known.
#[derive(Debug, Clone, Default)]
pub(super) struct Ways {
    /// What flows are told apart by; not made before it is needed.
    pub(super) classes: Option<Box<Classes>>,
    pub(super) by_class: HashMap<Class, u32, RandomState>,
    pub(super) list: Vec<Way>,
    /// How often they were forgotten.
    pub(super) issue: u32,
    /// Room for what is about to be entered.
    pub(super) prepared: Vec<Prepared>,
    pub(super) usual: Vec<UsualFlow>,
    pub(super) ahead: Ahead,
}

/// Room for what is worked out about the flows of a batch before it is played.
#[derive(Debug, Clone, Default)]
pub(super) struct Ahead {
    /// How many ports they are about to take, by device and port table.
    pub(super) taken: Vec<Vec<u16>>,
    pub(super) probes: Vec<(DeviceId, Probe)>,
    /// What answers are looked up by.
    pub(super) answers: Vec<(DeviceId, u32)>,
}

/// The devices that flows of a class pass.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Way {
    pub hops: Vec<Hop>,
    /// Whether all of them are usual ones.
    pub usual: bool,
}

/// A device on a way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Hop {
    pub device: DeviceId,
    pub decided: DecidedHop,
    /// Where the packet that showed the way went to as it left it.
    pub to: Endpoint,
    /// The class of packets as they leave it.
    pub out: Class,
}

impl Hop {
    /// Whether a packet between two ends that leaves it fares on like the one that showed the way.
    #[inline]
    pub(super) fn leads_alike(&self, classes: &Classes, protocol: Protocol, ends: Tuple) -> bool {
        // where the destination stays, its class does
        let same_end = self.decided.entry.is_none() || ends.destination == self.to;
        let same_source = classes.of_address(ends.source.address) == self.out[0];
        same_source && (same_end || classes.of(protocol, ends) == self.out)
    }
}

/// A flow whose way is known.
#[derive(Debug, Clone, Copy)]
pub(crate) struct KnownWay {
    pub(super) packet: Packet,
    pub(super) way: u32,
    /// Of the ways that it was found among.
    pub(super) issue: u32,
}

/// So many ways are remembered.
pub(super) const MOST_WAYS: usize = 1 << 18;

/// A way through more devices is not remembered.
pub(super) const MOST_HOPS: usize = 8;

impl Ways {
    /// Something was done to a device: nothing that was known holds any more.
    pub(super) fn forget(&mut self) {
        self.issue += 1;
        self.by_class.clear();
        self.list.clear();
    }

    /// There is another plan, which tells other flows apart.
    pub(super) fn replan(&mut self) {
        self.classes = None;
    }

    pub(super) fn find(&self, packet: Packet) -> Option<KnownWay> {
        let class = self.classes.as_ref()?.of(packet.protocol, packet.ends);
        if Classes::is_by_source_port(class) {
            return None;
        }
        let way = *self.by_class.get(&class)?;
        Some(KnownWay { packet, way, issue: self.issue })
    }

    pub(super) fn classes(&mut self, plan: &Plan) -> &Classes {
        self.classes.get_or_insert_with(|| Box::new(Classes::new(plan)))
    }
}
