//! What a table that a device really has says of its supplies: what is in use now, and by whom.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use super::{Holder, Resource};
use zarnet_core::device::{self, Device, Series, Supply};
use zarnet_core::net::{AddressRange, Instant};
use zarnet_core::network::taken;
use zarnet_core::plan::{self, DeviceId, Plan, Pool, RuleId, RuleKind};
use zarnet_formats::observed::Observed;

/// Resources as a table shows them. Since when and until when it does not say.
pub fn of_table(plan: &Plan, table: &[Observed]) -> Vec<Resource> {
    let taken = taken(plan);
    let mut list = Vec::new();
    for (d, device) in plan.devices.iter().enumerate() {
        let id = DeviceId(d as u16);
        let rows: Vec<&Observed> = table.iter().filter(|o| o.device == id).collect();
        if rows.is_empty() {
            continue;
        }
        let usable = device::usable_by_pool(device, &taken);
        let node = Device::new(device, &taken, 0);
        let mut by_supply: BTreeMap<Supply, (BTreeMap<IpAddr, Holder>, BTreeSet<IpAddr>)> =
            BTreeMap::new();
        for (supply, rule, row) in
            rows.iter().filter_map(|o| supply_of(device, o).map(|(s, r)| (s, r, o)))
        {
            let (holders, addresses) = by_supply.entry(supply).or_default();
            addresses.insert(row.external.address);
            let new = Holder {
                host: row.internal.address,
                held: 0,
                since: Instant::ZERO,
                until: Instant::ZERO,
                last_active: None,
                rules: vec![rule],
                external: Some(row.external.address),
            };
            let holder = holders.entry(row.internal.address).or_insert(new);
            holder.held += 1;
            holder.external = holder.external.filter(|a| *a == row.external.address);
        }
        for (supply, (holders, addresses)) in by_supply {
            let size = match supply {
                Supply::Pool(pool) => usable[pool.index()].map(u64::from),
                Supply::Ports(address, protocol, range) => {
                    Some(node.usable_ports(address, protocol, range))
                }
                Supply::PortsOfAll(..)
                | Supply::Blocks(..)
                | Supply::Mappings
                | Supply::Sessions => None,
            };
            let mut holders: Vec<Holder> = holders.into_values().collect();
            holders.sort_by_key(|h| (std::cmp::Reverse(h.held), h.host));
            let whole = matches!(supply, Supply::Pool(_));
            let in_use =
                if whole { addresses.len() as u64 } else { holders.iter().map(|h| h.held).sum() };
            let mut series = Series::new(size);
            series.note(0, u32::try_from(in_use).unwrap_or(u32::MAX), false, 2);
            list.push(Resource {
                device: id,
                supply,
                series,
                at: Instant::ZERO,
                in_use,
                next_release: None,
                holders,
                refused: Vec::new(),
                refused_flows: 0,
            });
        }
    }
    list
}

/// The supply that an entry draws on, by the rule that explains it; `None` for one of a fixed rule,
/// or of none.
fn supply_of(device: &plan::DevicePlan, row: &Observed) -> Option<(Supply, RuleId)> {
    let (internal, external) = (row.internal.address, row.external);
    let explains = |(_, rule): &&(usize, &plan::Rule)| {
        let whole = matches!(rule.kind, RuleKind::Pool { .. });
        let gives = |target| device.listed_by(target).contains(external.address);
        rule.parties.source.contains(internal)
            && rule.kind.target().is_some_and(gives)
            && (!whole || external.port == 0)
    };
    let rules: Vec<(usize, &plan::Rule)> = device.rules.iter().enumerate().collect();
    let (i, rule) = rules.iter().find(explains)?;
    let supply = match rule.kind {
        RuleKind::Pool { pool, .. } => Supply::Pool(pool),
        RuleKind::Exempt
        | RuleKind::Static(_)
        | RuleKind::Overload { .. }
        | RuleKind::Forward(_) => {
            let into = device.behaviour.port_classes.iter().map(|c| c.into);
            let range = into.into_iter().find(|r| (r.0..=r.1).contains(&row.external.port))?;
            Supply::Ports(row.external.address, row.protocol?, range)
        }
    };
    Some((supply, RuleId(*i as u16)))
}

/// How many addresses a pool lists.
pub fn listed(pool: &Pool) -> u128 {
    pool.listed().ranges().map(AddressRange::count).sum()
}
