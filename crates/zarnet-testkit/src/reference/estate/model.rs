//! What the estate asks of the model of its device.

use std::net::IpAddr;

use zarnet_core::net::{Packet, Signal};

use super::super::{Kind, Model};
use super::SessionRow;

impl Model {
    /// Whether a packet goes the way of the first one of its session.
    pub(super) fn goes_forth(&self, serial: u64, p: Packet) -> bool {
        self.sessions.iter().any(|s| s.serial == serial && s.original == p.ends)
    }

    pub(super) fn has_session(&self, serial: u64) -> bool {
        self.sessions.iter().any(|s| s.serial == serial)
    }

    /// A packet of a session passes, as of a flow that runs.
    pub(super) fn pass(&mut self, now: u64, serial: u64, forth: bool, signal: Signal) {
        let both = self.b.refresh_both;
        let session = self.sessions.iter_mut().find(|s| s.serial == serial);
        session.into_iter().for_each(|s| s.take(now, forth, signal, both));
    }

    pub(super) fn is_own(&self, address: IpAddr) -> bool {
        self.own.iter().any(|own| IpAddr::V4(*own) == address)
    }

    pub(super) fn own_address(&self, interface: usize) -> IpAddr {
        self.own[interface].into()
    }

    pub(super) fn checks(&self) -> bool {
        self.b.checks
    }

    /// Whether a rule leads to an address, and so says that a machine has it.
    pub(super) fn is_server(&self, address: IpAddr) -> bool {
        self.rules.iter().filter(|r| !r.retired).any(|r| match &r.kind {
            Kind::Forward { servers, .. } => servers.iter().any(|s| IpAddr::V4(s.0) == address),
            Kind::Static { internal, .. } => IpAddr::V4(*internal) == address,
            _ => false,
        })
    }

    pub(super) fn session_rows(&self) -> Vec<SessionRow> {
        let changed = self.sessions.iter().filter(|s| s.original != s.forwarded);
        changed.map(|s| (s.original, s.forwarded, s.created, s.last, s.expires)).collect()
    }

    /// How many sessions of a rule there are.
    pub fn open(&self, rule: usize) -> u64 {
        self.sessions.iter().filter(|s| s.rules.contains(&Some(rule))).count() as u64
    }
}
