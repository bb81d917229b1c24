//! Packets of a capture, one by one, as a device saw them on one of its interfaces.

use super::run::Run;
use crate::device::{FastPacket, Outcome};
use crate::net::{Endpoint, Packet, Protocol};
use crate::network::{Loss, Passage, ShortWay};
use crate::plan::InterfaceId;
use crate::reason::{Class, Reason};
use crate::traffic::{Flow, Party, Seen, SeenError};

impl Run {
    /// Plays a packet that was seen on an interface, coming in or going out.
    pub(super) fn seen(&mut self, seen: &Seen, short: &ShortWay) {
        let at = seen.at;
        self.seen += 1;
        self.end = self.end.max(at);
        if let ShortWay::Fast(fast) = short
            && !self.is_stepwise()
            && self.timeline.is_none()
        {
            let taken = self.network.enter_packet(at, fast, seen.packet.signal);
            self.fast_path += u64::from(taken != FastPacket::SlowPath);
            match taken {
                FastPacket::Known => return,
                FastPacket::New => {
                    self.note_peak(at);
                    return self.tally.count(Class::Translated);
                }
                FastPacket::SlowPath => {}
            }
        }
        self.seen_stepwise(seen);
    }

    /// The same, step by step.
    fn seen_stepwise(&mut self, seen: &Seen) {
        let Seen { at, device, interface, packet } = *seen;
        if self.network.is_link_only_at(device, interface, packet.ends) {
            self.link_only += 1;
            return;
        }
        let node = self.network.device_mut(device);
        if node.refresh_coming(at, interface, packet) {
            return;
        }
        let (ingress, packet) = if node.comes_in_by(interface, packet) {
            (interface, packet)
        } else if node.refresh_leaving(at, packet) {
            return;
        } else {
            // an answer to a packet that is refused here: the device whose capture this is let it
            // pass
            if self.refused_before.contains(&(packet.protocol, packet.ends.reversed())) {
                return;
            }
            match node.before_leaving(interface, packet).filter(|_| packet.may_begin()) {
                Some(before) => before,
                None => {
                    self.unattributed += 1;
                    if !node.is_known_as(packet.source().address) {
                        self.strangers.note(device, interface, packet.source().address);
                    }
                    return;
                }
            }
        };
        let outcome = node.receive(at, ingress, packet);
        self.note_peak(at);
        self.judge(*seen, ingress, packet, outcome);
    }

    /// Plays an ICMP error that was seen on an interface.
    pub(super) fn seen_error(&mut self, seen: SeenError) {
        let SeenError { at, device, interface, error } = seen;
        self.seen += 1;
        self.end = self.end.max(at);
        let outer =
            Packet::first(Protocol::ICMP, Endpoint::new(error.from, 0), Endpoint::new(error.to, 0));
        if self.network.is_link_only_at(device, interface, outer.ends) {
            self.link_only += 1;
            return;
        }
        let node = self.network.device_mut(device);
        // one that leaves was counted, or made, on its other side
        if !node.comes_in_by(interface, outer) {
            return;
        }
        let count = &mut self.icmp_errors;
        match node.receive_error(at, interface, error) {
            Ok(out) if out.error == error => count.untranslated += 1,
            Ok(_) => count.translated += 1,
            Err(_) => count.dropped += 1,
        }
    }

    /// Counts a packet as a flow if it begins a conversation.
    fn judge(&mut self, seen: Seen, ingress: InterfaceId, packet: Packet, outcome: Outcome) {
        let device = Some(seen.device);
        let flow = flow_of(seen, packet);
        match outcome {
            Outcome::Forwarded(out) => {
                if !out.session.is_some_and(|s| s.is_new(seen.at)) {
                    return;
                }
                if out.packet.ends != packet.ends {
                    let by = Some((seen.device, out.session));
                    self.note_translated(&flow, out.packet.ends, by);
                    return self.tally.count(Class::Translated);
                }
                let (reason, rule) = out.unchanged.unwrap_or((Reason::NoRule, None));
                let passage = Passage {
                    device: seen.device,
                    ingress: Some(ingress),
                    egress: out.interface,
                    session: out.session,
                    refreshes: out.refreshes,
                    contested: out.contested,
                    changed: false,
                    unchanged: out.unchanged,
                };
                self.unchanged(&flow, reason, device, rule, &[passage]);
            }
            // a conversation is refused once, however often its packets are sent again
            Outcome::Dropped(refusal)
                if self.refused_before.insert((packet.protocol, packet.ends)) =>
            {
                let (reason, rule, place) = (refusal.reason, refusal.rule, refusal.place);
                self.lost(&flow, Loss { reason, device, rule, place }, &[]);
            }
            Outcome::Answered(_) if self.refused_before.insert((packet.protocol, packet.ends)) => {
                self.unchanged(&flow, Reason::ToDevice, device, None, &[]);
            }
            Outcome::Answered(_) | Outcome::Consumed(..) | Outcome::Dropped(_) => {}
        }
    }
}

fn flow_of(seen: Seen, packet: Packet) -> Flow {
    let port = |port: u16| packet.protocol.is_multiplexed().then_some(port);
    Flow {
        start: seen.at,
        protocol: packet.protocol,
        source: Party::Address(packet.source().address),
        source_port: port(packet.source().port),
        destination: Party::Address(packet.destination().address),
        destination_port: port(packet.destination().port).filter(|p| *p > 0),
        lasts: 0,
        ending: None,
        round_trip: None,
    }
}
