//! Who holds what of a supply.

use std::collections::{HashMap, HashSet};
use std::net::IpAddr;

use foldhash::fast::RandomState;

use crate::device::{MappingRow, Supply};
use crate::net::{Instant, Protocol};
use crate::plan::RuleId;

/// What an internal host holds of a supply.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// Address of the host.
    pub host: IpAddr,
    /// Addresses, ports or mappings.
    pub held: u64,
    /// When the first of them was made.
    pub since: Instant,
    /// When the last of them ends if nothing more comes.
    pub until: Instant,
    /// When its last packet passed.
    pub last_active: Option<Instant>,
    /// The rules that made them.
    pub rules: Vec<RuleId>,
    /// The external address, where all are on one.
    pub external: Option<IpAddr>,
}

/// Who holds what of a supply, by the mappings that draw on it; `block`: the size of blocks, where
/// ports come in blocks.
pub(super) fn holders(
    supply: Supply,
    block: Option<u16>,
    rows: impl Iterator<Item = MappingRow>,
) -> Vec<Holder> {
    let mut held = Held::new(block);
    rows.for_each(|row| held.add(supply, &row));
    held.take()
}

/// Holders of a supply, gathered from the mappings that draw on it.
#[derive(Debug, Default)]
pub struct Held {
    hosts: HashMap<IpAddr, Holder, RandomState>,
    block: Option<u16>,
    /// Blocks that were counted, of a supply of blocks.
    blocks: HashSet<(IpAddr, Option<Protocol>, u16), RandomState>,
}

impl Held {
    /// Nobody holds anything; `block`: the size of blocks, where ports come in blocks.
    pub fn new(block: Option<u16>) -> Self {
        Self { block, ..Self::default() }
    }

    /// How much a mapping is of a supply: of a block, the first port of it that is met.
    fn weight(&mut self, supply: Supply, row: &MappingRow) -> u64 {
        match (supply, self.block) {
            (Supply::Sessions, _) => u64::from(row.sessions),
            (Supply::Blocks(_, _, range) | Supply::BlocksOfAll(_, _, range), Some(size)) => {
                let number = row.external.port.saturating_sub(range.0) / size.max(1);
                u64::from(self.blocks.insert((row.external.address, row.protocol, number)))
            }
            _ => 1,
        }
    }

    /// Counts a mapping for its host.
    pub fn add(&mut self, supply: Supply, row: &MappingRow) {
        let (since, until) = (row.created.unwrap_or_default(), row.expires.unwrap_or_default());
        let weight = self.weight(supply, row);
        let holder = self.hosts.entry(row.internal.address).or_insert_with(|| {
            let (host, external) = (row.internal.address, Some(row.external.address));
            Holder { host, held: 0, since, until, last_active: None, rules: Vec::new(), external }
        });
        holder.held += weight;
        holder.since = holder.since.min(since);
        holder.until = holder.until.max(until);
        holder.last_active = holder.last_active.max(row.last_active);
        holder.external = holder.external.filter(|a| *a == row.external.address);
        if !holder.rules.contains(&row.rule) {
            holder.rules.push(row.rule);
        }
    }

    /// Those with the most first.
    pub fn take(&mut self) -> Vec<Holder> {
        let mut list: Vec<Holder> = std::mem::take(&mut self.hosts).into_values().collect();
        list.iter_mut().for_each(|h| h.rules.sort_unstable());
        list.sort_by_cached_key(|h| (std::cmp::Reverse(h.held), h.since, h.host));
        list
    }
}
