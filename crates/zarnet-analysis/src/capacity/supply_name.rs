//! What a supply of a device is called.

use zarnet_core::device::Supply;
use zarnet_core::plan::{DeviceId, Plan, Target};

/// What a supply of a device is called: its name first, then what else it goes by.
pub fn supply_name(plan: &Plan, device: DeviceId, supply: Supply) -> Vec<String> {
    let device = &plan.devices[device.index()];
    let target = |target: Target| match target {
        Target::Pool(pool) => device.pools[pool.index()].name.clone(),
        Target::Interface(i) => device.interfaces[i.index()].name.clone(),
        Target::Address(a) => a.to_string(),
    };
    match supply {
        Supply::Pool(pool) => vec![device.pools[pool.index()].name.clone()],
        Supply::PortsOfAll(all, ..) | Supply::BlocksOfAll(all, ..) => vec![target(all)],
        Supply::Ports(address, ..) | Supply::Blocks(address, ..) => {
            let own = device
                .interfaces
                .iter()
                .filter(|i| i.own().any(|a| a == address))
                .map(|i| i.name.clone());
            std::iter::once(address.to_string()).chain(own).collect()
        }
        Supply::Mappings => vec!["mappings".to_owned()],
        Supply::Sessions => vec!["sessions".to_owned()],
    }
}
