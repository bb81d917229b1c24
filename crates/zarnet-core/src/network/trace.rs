//! The way of one packet, written down.

use std::net::IpAddr;

use crate::net::Packet;
use crate::observe::{Exit, NextHopOwner, Observer, Step};
use crate::plan::{DeviceId, InterfaceId};

/// Who was asked to take a packet on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Handover {
    /// The address that somebody has to answer for.
    pub address: IpAddr,
    /// The machine that answers; `None` if there is none.
    pub to: Option<NextHopOwner>,
}

/// One device on the way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hop {
    /// The device that the packet passes.
    pub device: DeviceId,
    /// Where the packet came in; `None` where it began here.
    pub ingress: Option<InterfaceId>,
    /// As it came in.
    pub packet: Packet,
    /// What was done with it.
    pub steps: Vec<Step>,
    /// As it left, and where; `None` if it did not.
    pub exit: Option<Exit>,
    /// Who took it from here.
    pub handed: Vec<Handover>,
}

/// The way of a packet.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Trace {
    /// Who took it from its sender.
    pub departure: Vec<Handover>,
    /// The devices that it passed.
    pub hops: Vec<Hop>,
}

impl Observer for Trace {
    fn step(&mut self, step: impl FnOnce() -> Step) {
        if let Some(hop) = self.hops.last_mut() {
            hop.steps.push(step());
        }
    }

    fn enters(&mut self, device: DeviceId, ingress: Option<InterfaceId>, packet: Packet) {
        self.hops.push(Hop {
            device,
            ingress,
            packet,
            steps: Vec::new(),
            exit: None,
            handed: Vec::new(),
        });
    }

    fn leaves(&mut self, exit: Exit) {
        if let Some(hop) = self.hops.last_mut() {
            hop.exit = Some(exit);
        }
    }

    fn handed(&mut self, address: IpAddr, to: Option<NextHopOwner>) {
        let list = self.hops.last_mut().map_or(&mut self.departure, |hop| &mut hop.handed);
        list.push(Handover { address, to });
    }
}
