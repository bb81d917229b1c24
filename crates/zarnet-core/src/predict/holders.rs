//! Who holds what of a supply.

use std::collections::HashMap;
use std::net::IpAddr;

use foldhash::fast::RandomState;

use crate::device::{MappingRow, Supply};
use crate::net::Instant;
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

/// Who holds what of a supply, by the mappings that draw on it.
pub(super) fn holders(supply: Supply, rows: impl Iterator<Item = MappingRow>) -> Vec<Holder> {
    let mut held = Held::default();
    rows.for_each(|row| held.add(supply, &row));
    held.take()
}

/// Holders of a supply, gathered from the mappings that draw on it.
#[derive(Debug, Default)]
pub struct Held(HashMap<IpAddr, Holder, RandomState>);

impl Held {
    /// Counts a mapping for its host.
    pub fn add(&mut self, supply: Supply, row: &MappingRow) {
        let (since, until) = (row.created.unwrap_or_default(), row.expires.unwrap_or_default());
        let holder = self.0.entry(row.internal.address).or_insert_with(|| {
            let (host, external) = (row.internal.address, Some(row.external.address));
            Holder { host, held: 0, since, until, last_active: None, rules: Vec::new(), external }
        });
        holder.held += if supply == Supply::Sessions { u64::from(row.sessions) } else { 1 };
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
        let mut list: Vec<Holder> = std::mem::take(&mut self.0).into_values().collect();
        list.iter_mut().for_each(|h| h.rules.sort_unstable());
        list.sort_by_key(|h| (std::cmp::Reverse(h.held), h.since, h.host));
        list
    }
}
