//! How many ports hosts have, and what blocks of ports leave unused.

use zarnet_core::device::Supply;
use zarnet_core::plan::Plan;
use zarnet_core::predict::DeviceTable;

use super::Resource;

/// Shares of a list of numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Percentiles {
    /// How many they are.
    pub count: u64,
    /// Half of them are at most this.
    pub p50: u64,
    /// 95 of a hundred are.
    pub p95: u64,
    /// 99 of a hundred are.
    pub p99: u64,
    /// The largest.
    pub most: u64,
}

impl Percentiles {
    /// Of numbers; `None` of none.
    pub fn of(mut list: Vec<u64>) -> Option<Self> {
        list.sort_unstable();
        let most = *list.last()?;
        // the smallest that so many are at most
        let at = |share: f64| list[((list.len() as f64 * share).ceil() as usize).max(1) - 1];
        let count = list.len() as u64;
        Some(Self { count, p50: at(0.5), p95: at(0.95), p99: at(0.99), most })
    }
}

/// Ports that each internal host of a device had at most at a time.
pub(super) fn ports_of_hosts(table: &DeviceTable) -> Option<Percentiles> {
    let used = table.history.as_ref()?.most_ports_of_hosts();
    Percentiles::of(used.filter(|most| *most > 0).map(u64::from).collect())
}

/// What blocks of ports come to on a supply of them.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct BlockUse {
    /// Ports of a block.
    pub size: u64,
    /// Blocks of one address.
    pub on_address: u64,
    /// Addresses that they are on.
    pub addresses: u64,
    /// Hosts that had a block or were refused one.
    pub hosts: u64,
    /// Hosts to an address: the sharing ratio.
    pub sharing: f64,
    /// Blocks of a host that has some, on the average, at the moment that holders are told of.
    pub each: f64,
    /// Ports in blocks that are somebody's and not in use, when the most blocks were.
    pub unused: u64,
}

impl BlockUse {
    /// Of a supply of blocks, among all of its device; `None` of another one.
    pub fn of(plan: &Plan, all: &[Resource], resource: &Resource) -> Option<Self> {
        let device = &plan.devices[resource.device.index()];
        let size = u64::from(device.behaviour.block_size?);
        let (addresses, ports) = match resource.supply {
            Supply::Blocks(address, p, a) => (1, Supply::Ports(address, p, a)),
            Supply::BlocksOfAll(target, p, a) => {
                let count = u64::try_from(device.listed_by(target).count()).unwrap_or(u64::MAX);
                (count.max(1), Supply::PortsOfAll(target, p, a))
            }
            Supply::Pool(_)
            | Supply::Ports(..)
            | Supply::PortsOfAll(..)
            | Supply::Mappings
            | Supply::Sessions => return None,
        };
        let usable = resource.series.usable.unwrap_or(0);
        let peak = resource.series.peak;
        let in_use = all
            .iter()
            .find(|r| r.device == resource.device && r.supply == ports)
            .map_or(0, |r| u64::from(r.series.at(peak.at)));
        let mut hosts: Vec<_> = resource.hosts.iter().map(|h| h.0).collect();
        hosts.extend(resource.refused.iter().map(|r| r.host));
        hosts.sort_unstable();
        hosts.dedup();
        let hosts = hosts.len() as u64;
        let held: u64 = resource.holders.iter().map(|h| h.held).sum();
        Some(Self {
            size,
            on_address: usable / addresses,
            addresses,
            hosts,
            sharing: hosts as f64 / addresses as f64,
            each: held as f64 / resource.holders.len().max(1) as f64,
            unused: (peak.count * size).saturating_sub(in_use),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn percentiles_are_the_smallest_that_so_many_are_at_most() {
        assert_eq!(Percentiles::of(Vec::new()), None);
        let one = Percentiles { count: 1, p50: 7, p95: 7, p99: 7, most: 7 };
        assert_eq!(Percentiles::of(vec![7]), Some(one));
        let hundred = Percentiles { count: 100, p50: 50, p95: 95, p99: 99, most: 100 };
        assert_eq!(Percentiles::of((1..=100).rev().collect()), Some(hundred));
    }
}
