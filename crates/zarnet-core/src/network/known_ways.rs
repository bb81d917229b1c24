//! Flows on known ways: ways are learnt from flows that went step by step, and others are entered on
//! them at once.

use super::ways::{Hop, KnownWay, MOST_HOPS, MOST_WAYS, Way, Ways};
use super::{Network, Passage, Receiver};
use crate::device::{FlowSchedule, SessionRef};
use crate::net::{Instant, Packet};
use crate::plan::DeviceId;

impl Network {
    /// How often something was done to a device.
    pub(crate) fn issue(&self) -> u32 {
        self.ways.issue
    }

    /// The way of a first packet, if it is known.
    #[inline]
    pub(crate) fn known_way(&self, packet: Packet) -> Option<KnownWay> {
        if self.ways.list.is_empty() { None } else { self.ways.find(packet) }
    }

    /// Reads what a flow will be looked up by on the first device of its way.
    pub(crate) fn prefetch_way(&self, known: &KnownWay) -> u64 {
        let hop = &self.ways.list[known.way as usize].hops[0];
        self.devices[hop.device.index()].prefetch_first(&hop.decided, known.packet)
    }

    /// Reads what its answer will be looked up by there; after [`Self::prefetch_way`] for many.
    pub(crate) fn prefetch_way_back(&self, known: &KnownWay) -> u64 {
        let hop = &self.ways.list[known.way as usize].hops[0];
        self.devices[hop.device.index()].prefetch_answer(&hop.decided, known.packet)
    }

    /// Remembers the way of a flow that began at an instant and was translated step by step, for
    /// others of its class. `forth` and `back`: what its first packet and the answer passed.
    pub(crate) fn learn_way(
        &mut self,
        began: Instant,
        sent: Packet,
        receiver: Receiver,
        forth: &[Passage],
        back: &[Passage],
    ) {
        if self.ways.list.len() >= MOST_WAYS || forth.len() > MOST_HOPS {
            return;
        }
        if let Some(hops) = self.shown_hops(began, sent, receiver, forth, back) {
            let plan = self.plan.clone();
            let class = self.ways.classes(&plan).of(sent);
            let way = self.ways.list.len() as u32;
            self.ways.list.push(Way { hops });
            self.ways.by_class.insert(class, way);
        }
    }

    /// What a flow shows of the way of others; `None` where it fared as it did by chance.
    fn shown_hops(
        &mut self,
        began: Instant,
        sent: Packet,
        receiver: Receiver,
        forth: &[Passage],
        back: &[Passage],
    ) -> Option<Vec<Hop>> {
        let plan = self.plan.clone();
        let classes = self.ways.classes(&plan);
        // the very sessions, in turn, that the first packet made
        let same = |(there, back): (&Passage, &Passage)| {
            there.device == back.device && there.session == back.session
        };
        let all_made =
            forth.iter().all(|p| p.session.is_some_and(|s| s.is_new(began)) && !p.contested);
        let goes_back = forth.len() == back.len() && forth.iter().zip(back.iter().rev()).all(same);
        if !(all_made && goes_back) {
            return None;
        }
        let mut packet = sent;
        let mut hops: Vec<Hop> = Vec::with_capacity(forth.len());
        for passage in forth {
            if hops.iter().any(|hop| hop.device == passage.device)
                || classes.by_source_port.contains(packet.source().address)
            {
                return None;
            }
            let device = &self.devices[passage.device.index()];
            let (session, ingress) = (passage.session?, passage.ingress?);
            let decided = device.decided_hop(session, ingress, passage.egress)?;
            packet = Packet { ends: device.tuples_of(session).1, ..packet };
            let out = classes.of(packet);
            hops.push(Hop { device: passage.device, decided, out });
        }
        // who is only there because it sends is told by its very address
        let there = match receiver {
            Receiver::Peer | Receiver::Host(_) => true,
            Receiver::Undeclared(_) => self.world.is_server(packet.destination().address),
            Receiver::Device(_) | Receiver::Answering(..) => false,
        };
        there.then_some(hops)
    }

    /// Enters a whole flow on a known way, and tells its sessions where that is wanted. `false`:
    /// nothing was done, and it has to go step by step.
    pub(crate) fn enter_known(
        &mut self,
        now: Instant,
        known: &KnownWay,
        schedule: FlowSchedule,
        mut sessions: Option<&mut Vec<(DeviceId, SessionRef)>>,
    ) -> bool {
        if known.issue != self.ways.issue {
            return false;
        }
        let Self { ways: Ways { classes, list, prepared, .. }, devices, .. } = self;
        let (Some(way), Some(classes)) = (list.get(known.way as usize), classes) else {
            return false;
        };
        prepared.clear();
        let mut packet = known.packet;
        for hop in &way.hops {
            let device = &mut devices[hop.device.index()];
            device.expire(now);
            let Some(ready) = device.prepare(now, &hop.decided, packet, schedule.answer) else {
                return false;
            };
            packet = ready.out;
            if classes.of(packet) != hop.out {
                return false;
            }
            prepared.push(ready);
        }
        let mut packet = known.packet;
        for (hop, prepared) in way.hops.iter().zip(prepared.iter()) {
            let device = &mut devices[hop.device.index()];
            let session = device.enter_prepared(now, &hop.decided, packet, prepared, schedule);
            if let Some(sessions) = &mut sessions {
                sessions.push((hop.device, session));
            }
            packet = prepared.out;
        }
        true
    }
}
