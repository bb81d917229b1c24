//! What a table that a device really has says of its supplies: what is in use now, and by whom.

use std::collections::{BTreeMap, HashSet};
use std::net::IpAddr;

use super::{Holder, Resource};
use zarnet_core::device::{Device, Series, Supply};
use zarnet_core::net::{AddressRange, Endpoint, Instant, Protocol};
use zarnet_core::network::taken;
use zarnet_core::plan::{self, DeviceId, Plan, Pool, PoolId, RuleId, RuleKind};
use zarnet_formats::observed::Observed;

/// What a table says of supplies.
#[derive(Debug, Clone, Default)]
pub struct Observation {
    /// What is in use, and by whom.
    pub resources: Vec<Resource>,
    /// Rows that no enabled rule explains.
    pub unexplained: u64,
    /// Rows of overloads on ports that are not handed out.
    pub outside: u64,
    /// Rows that say again what another one says.
    pub repeated: u64,
}

/// Resources as a table shows them. Since when and until when somebody has something is known where
/// the table says it.
pub fn of_table(plan: &Plan, table: &[Observed]) -> Observation {
    let taken = taken(plan);
    let mut found = Observation::default();
    for (d, device) in plan.devices.iter().enumerate() {
        let id = DeviceId(d as u16);
        let rows: Vec<&Observed> = table.iter().filter(|o| o.device == id).collect();
        if rows.is_empty() {
            continue;
        }
        // it was not taken before the newest of its rows was made
        let at = rows.iter().filter_map(|r| r.created).max().unwrap_or_default();
        let node = Device::new(device, &taken, 0);
        let usable = node.usable_by_pool();
        let mut by_supply: BTreeMap<Supply, Users> = BTreeMap::new();
        let mut seen: HashSet<(Supply, Option<Protocol>, Endpoint)> = HashSet::new();
        let mut places = 0;
        for row in rows {
            let drawn = match supply_of(device, row) {
                Drawn::Fixed => continue,
                Drawn::Nothing => {
                    found.unexplained += 1;
                    continue;
                }
                Drawn::Outside => {
                    found.outside += 1;
                    continue;
                }
                Drawn::From(supply, rule) => (supply, rule),
            };
            let (supply, rule) = drawn;
            // a row for each peer is one port all the same
            if !seen.insert((supply, row.protocol, row.external)) {
                found.repeated += 1;
                continue;
            }
            places += 1;
            by_supply.entry(supply).or_default().add(row, rule);
            if let (Some(size), Supply::Ports(address, protocol, range)) =
                (device.behaviour.block_size, supply)
            {
                let block = (row.external.port - range.0) / size.max(1);
                let supply = Supply::Blocks(address, protocol, range);
                let end = Endpoint { address, port: block };
                if seen.insert((supply, row.protocol, end)) {
                    by_supply.entry(supply).or_default().add(row, rule);
                }
            }
        }
        for (supply, users) in by_supply {
            let size = match supply {
                Supply::Pool(pool) => usable[pool.index()].map(u64::from),
                Supply::Ports(address, protocol, range) => {
                    Some(node.usable_ports(address, protocol, range))
                }
                Supply::Blocks(_, _, (first, last)) => {
                    let size = device.behaviour.block_size.unwrap_or(1).max(1);
                    Some((u64::from(last - first) + 1) / u64::from(size))
                }
                Supply::PortsOfAll(..)
                | Supply::BlocksOfAll(..)
                | Supply::Mappings
                | Supply::Sessions => None,
            };
            found.resources.push(users.resource((id, at), supply, size));
        }
        if let Some(most) = device.behaviour.max_mappings {
            let users = Users { in_use: places, ..Users::default() };
            found.resources.push(users.resource((id, at), Supply::Mappings, Some(most)));
        }
    }
    found
}

/// Who has something of a supply.
#[derive(Default)]
struct Users {
    holders: BTreeMap<IpAddr, Holder>,
    in_use: u64,
}

impl Users {
    fn add(&mut self, row: &Observed, rule: RuleId) {
        let host = row.internal.address;
        let holder = self.holders.entry(host).or_insert_with(|| Holder {
            host,
            held: 0,
            since: row.created.unwrap_or_default(),
            until: Instant::ZERO,
            last_active: None,
            rules: Vec::new(),
            external: Some(row.external.address),
        });
        holder.held += 1;
        holder.since = holder.since.min(row.created.unwrap_or_default());
        holder.until = holder.until.max(row.expires.unwrap_or_default());
        holder.external = holder.external.filter(|a| *a == row.external.address);
        if !holder.rules.contains(&rule) {
            holder.rules.push(rule);
        }
        self.in_use += 1;
    }

    fn resource(
        self,
        (device, at): (DeviceId, Instant),
        supply: Supply,
        size: Option<u64>,
    ) -> Resource {
        let mut holders: Vec<Holder> = self.holders.into_values().collect();
        holders.sort_by_key(|h| (std::cmp::Reverse(h.held), h.host));
        let hosts = holders.iter().map(|h| (h.host, h.held as u32)).collect();
        let mut series = Series::new(size);
        series.note(0, u32::try_from(self.in_use).unwrap_or(u32::MAX), false, 2);
        Resource {
            device,
            supply,
            series,
            at,
            in_use: self.in_use,
            next_release: None,
            holders,
            refused: Vec::new(),
            refused_flows: 0,
            lost: Vec::new(),
            hosts,
        }
    }
}

/// What an entry draws on, by the rule that explains it.
enum Drawn {
    From(Supply, RuleId),
    /// It is of a fixed rule.
    Fixed,
    /// Of an overload, on a port that is not handed out.
    Outside,
    /// No enabled rule explains it.
    Nothing,
}

fn supply_of(device: &plan::DevicePlan, row: &Observed) -> Drawn {
    let external = row.external;
    let of_pool = |pool: PoolId| device.pools[pool.index()].listed().contains(external.address);
    let explains = |(_, rule): &(usize, &plan::Rule)| {
        let fits = match rule.kind {
            // by port it can only be on the fallback
            RuleKind::Pool { pool, .. } => of_pool(pool) == (external.port == 0),
            RuleKind::Exempt
            | RuleKind::Static(_)
            | RuleKind::Overload { .. }
            | RuleKind::Forward(_) => true,
        };
        rule.enabled && fits && device.may_have_made(rule, row.protocol, row.internal, external)
    };
    let Some((i, rule)) = device.rules.iter().enumerate().find(explains) else {
        return Drawn::Nothing;
    };
    let rule_id = RuleId(i as u16);
    match (&rule.kind, row.protocol) {
        (RuleKind::Static(_) | RuleKind::Forward(_) | RuleKind::Exempt, _) => Drawn::Fixed,
        (RuleKind::Pool { pool, .. }, _) if of_pool(*pool) => {
            Drawn::From(Supply::Pool(*pool), rule_id)
        }
        (RuleKind::Overload { .. } | RuleKind::Pool { .. }, Some(protocol)) => {
            let mut into = device.behaviour.port_classes.iter().map(|c| c.into);
            match into.find(|r| (r.0..=r.1).contains(&external.port)) {
                Some(range) => {
                    Drawn::From(Supply::Ports(external.address, protocol, range), rule_id)
                }
                None => Drawn::Outside,
            }
        }
        (RuleKind::Overload { .. } | RuleKind::Pool { .. }, None) => Drawn::Outside,
    }
}

/// How many addresses a pool lists.
pub fn listed(pool: &Pool) -> u128 {
    pool.listed().ranges().map(AddressRange::count).sum()
}
