//! What is known of a hop through a device from a packet that took it.

use crate::plan::{InterfaceId, RuleId};

/// What the first packets of a kind meet on a device.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct DecidedHop {
    pub ingress: InterfaceId,
    pub egress: InterfaceId,
    /// The fixed rule that translates the destination.
    pub entry: Option<RuleId>,
    /// The rule that translates the source.
    pub source: Option<RuleId>,
    pub(super) gives: Gives,
    /// Whether neither filter nor policy says anything of such packets, nor the device itself
    /// receives them.
    pub(super) open: bool,
}

/// What the rule that translates the source gives a host, whatever there is besides.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Gives {
    /// That has to be found out for each packet.
    Any,
    /// The next port of a target; whether the device could as well choose another.
    NextPort(u16, bool),
    /// A whole address of a target.
    Whole(u16),
}

impl DecidedHop {
    /// Whether a packet on it is asked nothing but for its port: see `usual_hop`.
    pub(crate) fn is_usual(&self) -> bool {
        self.open && self.gives != Gives::Any
    }
}
