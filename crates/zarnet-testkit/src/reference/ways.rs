//! Step 6: which way a packet goes.

use std::net::IpAddr;

use super::{FLOOR, LANE, Model, UPLINK, Ways, ip};

impl Model {
    /// Step 6: the interface that leads to a destination.
    pub(super) fn way(&self, source: IpAddr, ingress: Option<usize>, to: IpAddr) -> usize {
        self.link_of(to).unwrap_or(if self.leads_over_lane(source, ingress) {
            LANE
        } else {
            UPLINK
        })
    }

    /// The same over one interface only, if it leads there at all.
    pub(super) fn way_over(
        &self,
        interface: usize,
        source: IpAddr,
        ingress: Option<usize>,
        to: IpAddr,
    ) -> Option<usize> {
        let leads = self.link_of(to) == Some(interface)
            || match interface {
                FLOOR => false,
                UPLINK => true,
                _ => self.b.ways.plain || self.leads_over_lane(source, ingress),
            };
        leads.then_some(interface)
    }

    /// Whether a route over the lane that is for some packets only is for this one.
    pub(super) fn leads_over_lane(&self, source: IpAddr, ingress: Option<usize>) -> bool {
        let Ways { of_source, from, .. } = self.b.ways;
        of_source.is_some_and(|s| ip(s) == source) || from.is_some() && from == ingress
    }

    /// The interface whose prefix holds an address.
    pub(super) fn link_of(&self, to: IpAddr) -> Option<usize> {
        let IpAddr::V4(to) = to else { return None };
        match to.octets() {
            [10, 0, 0, _] => Some(FLOOR),
            [192, 0, 2, 0..16] => Some(UPLINK),
            [203, 0, 113, 0..16] => Some(LANE),
            _ => None,
        }
    }
}
