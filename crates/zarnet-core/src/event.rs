//! What is done to devices while traffic runs, on the same clock.

use std::net::IpAddr;
use std::sync::Arc;

use crate::ids::{DeviceId, InterfaceId, PoolId, RuleId};
use crate::net::{Instant, Prefix, Protocol};
use crate::plan::Plan;

/// Something that is done to a device.
#[derive(Debug, Clone)]
pub struct Event {
    /// When it happens, from the origin of the traffic's clock.
    pub at: Instant,
    /// The device that it is done to.
    pub device: DeviceId,
    /// What is done to the device.
    pub action: Action,
}

/// What is done to a device.
#[derive(Debug, Clone)]
pub enum Action {
    /// A rule takes part no more; its sessions go on.
    Disable(RuleId),
    /// A rule takes part again.
    Enable(RuleId),
    /// Sessions end, and dynamic mappings that are left without one.
    Clear(Clearing),
    /// An interface gets another address; what was on the old one ends.
    Lease(InterfaceId, IpAddr, Prefix),
    /// The device is described anew, as that device of another plan; its sessions stay.
    Plan(Arc<Plan>, DeviceId),
    /// All dynamic state is lost.
    Restart,
}

/// Which sessions are cleared; what is `None` does not matter.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Clearing {
    /// Those of an internal host.
    pub host: Option<IpAddr>,
    /// Those of a rule.
    pub rule: Option<RuleId>,
    /// Those on addresses of a pool.
    pub pool: Option<PoolId>,
    /// Those of a protocol.
    pub protocol: Option<Protocol>,
}
