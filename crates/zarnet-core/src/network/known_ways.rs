//! Flows on known ways: ways are learnt from flows that went step by step, and others are entered
//! on them at once.

use super::fast_paths::ShortWay;
use super::ways::{Classes, Hop, KnownWay, MOST_HOPS, MOST_WAYS, Way, Ways};
use super::{Network, Passage, Receiver};
use crate::device::{FlowSchedule, Key, Probe, SessionRef, tuple_of};
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

    /// Reads what flows on known ways will be looked up by on the devices of their ways, as far as
    /// it can be guessed how they reach them. First all is worked out, then all is read: of a loop
    /// of few steps the processor sees enough at a time to wait for many places together.
    pub(super) fn prefetch_ways(&mut self, all: &[ShortWay]) {
        let mut ahead = std::mem::take(&mut self.ways.ahead);
        ahead.taken.resize(self.devices.len(), Vec::new());
        for (device, probe) in ahead.probes.drain(..) {
            if let Some((port_table, _)) = probe.place {
                ahead.taken[device.index()][port_table as usize] = 0;
            }
        }
        ahead.answers.clear();
        let ways = all.iter().filter_map(|short| match short {
            ShortWay::Known(known) => Some(known),
            ShortWay::None | ShortWay::Fast(_) => None,
        });
        for known in ways.clone() {
            let mut packet = known.packet;
            for hop in &self.ways.list[known.way as usize].hops {
                let device = &self.devices[hop.device.index()];
                let tables = &mut ahead.taken[hop.device.index()];
                let taken = |port_table: u32| {
                    let port_table = port_table as usize;
                    if tables.len() <= port_table {
                        tables.resize(port_table + 1, 0);
                    }
                    tables[port_table] = tables[port_table].wrapping_add(1);
                    tables[port_table]
                };
                let (probe, source) = device.probe(&hop.decided, packet, taken);
                ahead.probes.push((hop.device, probe));
                let Some(source) = source else { break };
                packet.ends.source = source;
            }
        }
        let device = |id: &DeviceId| &self.devices[id.index()];
        let touch = |(id, probe): &(DeviceId, Probe)| device(id).touch(probe);
        std::hint::black_box(ahead.probes.iter().fold(0, |sum, probe| sum ^ touch(probe)));
        let touch = |(id, probe): &(DeviceId, Probe)| device(id).touch_host(probe);
        std::hint::black_box(ahead.probes.iter().fold(0, |sum, probe| sum ^ touch(probe)));
        let touch = |(id, probe): &(DeviceId, Probe)| device(id).touch_address(probe);
        std::hint::black_box(ahead.probes.iter().fold(0, |sum, probe| sum ^ touch(probe)));
        for known in ways {
            let hop = &self.ways.list[known.way as usize].hops[0];
            let hash = device(&hop.device).probe_answer(&hop.decided, known.packet);
            ahead.answers.extend(hash.map(|hash| (hop.device, hash)));
        }
        let touch = |(id, hash): &(DeviceId, u32)| device(id).touch_ends(*hash);
        std::hint::black_box(ahead.answers.iter().fold(0, |sum, answer| sum ^ touch(answer)));
        self.ways.ahead = ahead;
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
            let class = self.ways.classes(&plan).of(sent.protocol, sent.ends);
            let way = self.ways.list.len() as u32;
            let usual = hops.iter().all(|hop| hop.decided.is_usual());
            self.ways.list.push(Way { hops, usual });
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
            let by_source_port =
                Classes::is_by_source_port(classes.of(packet.protocol, packet.ends));
            if by_source_port || hops.iter().any(|hop| hop.device == passage.device) {
                return None;
            }
            let device = &self.devices[passage.device.index()];
            let (session, ingress) = (passage.session?, passage.ingress?);
            let decided = device.decided_hop(session, ingress, passage.egress)?;
            packet = Packet { ends: device.tuples_of(session).1, ..packet };
            let (to, out) = (packet.destination(), classes.of(packet.protocol, packet.ends));
            hops.push(Hop { device: passage.device, decided, to, out });
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
        if self.enter_usual(now, known, schedule, sessions.as_deref_mut()) {
            return true;
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
            if !hop.leads_alike(classes, packet.protocol, packet.ends) {
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

    /// The same where every hop is a usual one. `false`: nothing was done.
    fn enter_usual(
        &mut self,
        now: Instant,
        known: &KnownWay,
        schedule: FlowSchedule,
        mut sessions: Option<&mut Vec<(DeviceId, SessionRef)>>,
    ) -> bool {
        let Self { ways: Ways { classes, list, usual, .. }, devices, .. } = self;
        let (Some(way), Some(classes)) = (list.get(known.way as usize), classes) else {
            return false;
        };
        let (from, to) = (known.packet.source(), known.packet.destination());
        let ends = Key::of(from.address).zip(Key::of(to.address));
        let Some((host, peer)) = ends.filter(|_| way.usual) else { return false };
        let (mut source, mut destination) = ((host, from.port), (peer, to.port));
        usual.clear();
        for hop in &way.hops {
            let device = &mut devices[hop.device.index()];
            device.expire(now);
            let ends = (known.packet.protocol, source, destination);
            let Some(flow) = device.prepare_usual(now, &hop.decided, ends, schedule) else {
                return false;
            };
            (source, destination) = (flow.source, flow.destination);
            let ends = tuple_of(source, destination);
            if !hop.leads_alike(classes, known.packet.protocol, ends) {
                return false;
            }
            usual.push(flow);
        }
        for (hop, flow) in way.hops.iter().zip(usual.iter()) {
            let session = devices[hop.device.index()].enter_usual(&hop.decided, flow);
            if let Some(sessions) = &mut sessions {
                sessions.push((hop.device, session));
            }
        }
        true
    }
}
