//! Names looked up while a plan is built: each list is indexed once, for a plan may look up as many
//! names as it has.

use std::collections::HashMap;
use std::net::IpAddr;

use foldhash::fast::RandomState;

use crate::plan::{
    AclId, DeviceId, DraftDevice, HostId, Interface, InterfaceId, InterfaceSet, Plan, PoolId,
    SegmentId,
};

/// What names stand for.
pub(super) type Named<T> = HashMap<String, T, RandomState>;

/// The first position of each name.
fn positions<'a>(names: impl Iterator<Item = &'a str>) -> Named<usize> {
    let mut positions = Named::default();
    for (i, name) in names.enumerate() {
        positions.entry(name.to_owned()).or_insert(i);
    }
    positions
}

/// Names of segments, hosts and devices.
#[derive(Debug, Default)]
pub(super) struct World {
    segments: Named<usize>,
    hosts: Named<usize>,
    devices: Named<usize>,
    /// How many hosts have an address.
    addresses: HashMap<IpAddr, usize, RandomState>,
}

impl World {
    /// Enters the segments that are declared.
    pub(super) fn enter_segments(&mut self, plan: &Plan) {
        self.segments = positions(plan.segments.iter().map(|s| s.name.as_str()));
    }

    /// Enters hosts and devices, once they are built.
    pub(super) fn enter(&mut self, plan: &Plan) {
        self.hosts = positions(plan.hosts.iter().map(|h| h.name.as_str()));
        self.devices = positions(plan.devices.iter().map(|d| d.name.as_str()));
        for host in &plan.hosts {
            *self.addresses.entry(host.address).or_default() += 1;
        }
    }

    pub(super) fn segment(&self, name: &str) -> Option<SegmentId> {
        self.segments.get(name).map(|i| SegmentId(*i as u16))
    }

    pub(super) fn host(&self, name: &str) -> Option<HostId> {
        self.hosts.get(name).map(|i| HostId(*i as u32))
    }

    pub(super) fn device(&self, name: &str) -> Option<DeviceId> {
        self.devices.get(name).map(|i| DeviceId(*i as u16))
    }

    /// Whether several hosts have an address.
    pub(super) fn is_of_several(&self, address: IpAddr) -> bool {
        self.addresses.get(&address).is_some_and(|n| *n > 1)
    }
}

/// Names of a device: its interfaces, the realms of these, its filters and pools.
#[derive(Debug, Default)]
pub(super) struct Scope {
    interfaces: Named<usize>,
    filters: Named<usize>,
    pools: Named<usize>,
    /// Interfaces by their own name and by that of their realm.
    realms: Named<InterfaceSet>,
}

impl Scope {
    /// The filters of a device, which its interfaces name.
    pub(super) fn of_draft(device: &DraftDevice) -> Self {
        Self {
            filters: positions(device.acls.iter().map(|a| a.name.value.as_str())),
            ..Self::default()
        }
    }

    /// Enters the interfaces, once they are built.
    pub(super) fn enter_interfaces(&mut self, interfaces: &[Interface]) {
        self.interfaces = positions(interfaces.iter().map(|i| i.name.as_str()));
        for (i, interface) in interfaces.iter().enumerate() {
            for name in std::iter::once(&interface.name).chain(&interface.realm) {
                self.realms.entry(name.clone()).or_default().insert(InterfaceId(i as u16));
            }
        }
    }

    /// Enters a pool under its name.
    pub(super) fn enter_pool(&mut self, name: &str, id: PoolId) {
        self.pools.entry(name.to_owned()).or_insert(id.index());
    }

    pub(super) fn interface(&self, name: &str) -> Option<InterfaceId> {
        self.interfaces.get(name).map(|i| InterfaceId(*i as u16))
    }

    pub(super) fn filter(&self, name: &str) -> Option<AclId> {
        self.filters.get(name).map(|i| AclId(*i as u16))
    }

    pub(super) fn pool(&self, name: &str) -> Option<PoolId> {
        self.pools.get(name).map(|i| PoolId(*i as u16))
    }

    /// Every name of an interface or realm.
    pub(super) fn realm_names(&self) -> impl Iterator<Item = &str> {
        self.realms.keys().map(String::as_str)
    }

    /// The interfaces of a name: its own, or that of their realm.
    pub(super) fn realm(&self, name: &str) -> Option<&InterfaceSet> {
        self.realms.get(name)
    }
}
