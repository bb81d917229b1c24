//! What becomes of a packet where its way ends: at a host of the plan, or at a machine that nobody
//! declared.

use super::super::{Fate, Loss, Network, Receiver};
use super::Leg;
use crate::plan::HostId;
use crate::reason::Reason;

impl Network {
    pub(super) fn at_undeclared(&self, leg: Leg) -> Fate {
        if leg.packet.destination().address != leg.next_hop {
            return leg.lost(Reason::NotForThisHost);
        }
        Fate::Arrived(Receiver::Undeclared(leg.segment), leg.packet)
    }

    pub(super) fn at_host(&self, id: HostId, leg: Leg, answers: bool) -> Fate {
        let host = &self.plan.hosts[id.index()];
        let lost = |reason| {
            Fate::Lost(Loss { reason, device: leg.device(), rule: None, place: Some(host.place) })
        };
        let packet = leg.packet;
        if packet.destination().address != host.address {
            return lost(Reason::NotForThisHost);
        }
        // queries are answered whatever the host listens to
        let asks = !answers && !packet.protocol.has_query_id();
        let listens = host
            .listens
            .as_ref()
            .is_none_or(|l| l.holds(packet.protocol, packet.destination().port));
        if asks && !listens {
            return lost(Reason::NoListener);
        }
        Fate::Arrived(Receiver::Host(id), packet)
    }
}
