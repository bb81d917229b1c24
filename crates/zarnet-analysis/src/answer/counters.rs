//! What was counted.

use super::predict::{PredictAnswer, seconds};
use serde::Serialize;
use std::collections::BTreeMap;
use std::net::IpAddr;
use zarnet_core::device::PoolUse;
use zarnet_core::net::Instant;

/// Counters of a rule.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub struct RuleCount<'a> {
    pub device: &'a str,
    pub rule: &'a str,
    /// Whether it translates anything new at the moment.
    pub enabled: bool,
    pub opened: u64,
    pub open: u64,
    pub most: u64,
    #[serde(serialize_with = "seconds")]
    pub most_at: Instant,
    /// Dynamic mappings that were created.
    pub made: u64,
    pub expired: u64,
    pub cleared: u64,
    pub refused: u64,
    pub refused_by: BTreeMap<&'static str, u64>,
}

/// Counters of a pool.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub struct PoolCount<'a> {
    pub device: &'a str,
    pub pool: &'a str,
    pub usable: u64,
    pub in_use: u64,
    pub most: u64,
    #[serde(serialize_with = "seconds")]
    pub most_at: Instant,
    pub refused: u64,
}

/// Counters of a device.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub struct DeviceCount<'a> {
    pub device: &'a str,
    pub mappings: u64,
    pub most_mappings: u64,
    #[serde(serialize_with = "seconds")]
    pub most_mappings_at: Instant,
    pub sessions: u64,
    pub most_sessions: u64,
    #[serde(serialize_with = "seconds")]
    pub most_sessions_at: Instant,
    pub opened: u64,
    pub expired: u64,
    pub cleared: u64,
    pub refused: u64,
    pub refused_by: BTreeMap<&'static str, u64>,
}

/// Counters of an external address that dynamic mappings have used.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub struct AddressCount<'a> {
    pub device: &'a str,
    pub address: IpAddr,
    pub mappings: u64,
    pub most: u64,
    #[serde(serialize_with = "seconds")]
    pub most_at: Instant,
    pub made: u64,
}

/// All counters of a prediction's devices.
#[derive(Serialize)]
#[allow(missing_docs)]
pub struct CounterShape<'a> {
    pub rules: Vec<RuleCount<'a>>,
    pub pools: Vec<PoolCount<'a>>,
    pub devices: Vec<DeviceCount<'a>>,
    pub addresses: Vec<AddressCount<'a>>,
}

impl<'a> PredictAnswer<'a> {
    /// The counters of every device shown.
    pub fn counters(self) -> CounterShape<'a> {
        let (rules, pools, devices, addresses) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        let mut counters = CounterShape { rules, pools, devices, addresses };
        for table in self.tables() {
            let plan = &self.plan.devices[table.device.index()];
            let device = plan.name.as_str();
            let totals = &table.totals;
            let (mut refused_by, mut by_rule) =
                (BTreeMap::new(), vec![BTreeMap::new(); plan.rules.len()]);
            for ((rule, reason), n) in &totals.refused_by {
                *refused_by.entry(reason.name()).or_default() += n;
                if let Some(rule) = rule {
                    by_rule[rule.index()].insert(reason.name(), *n);
                }
            }
            let rules = plan.rules.iter().zip(&totals.rules).zip(&table.active);
            let rules = rules.zip(&table.enabled).zip(by_rule);
            for ((((rule, count), active), enabled), refused_by) in rules {
                counters.rules.push(RuleCount {
                    device,
                    rule: &rule.name,
                    enabled: *enabled,
                    opened: count.hits,
                    open: *active,
                    most: count.peak.count,
                    most_at: count.peak.at,
                    made: count.created,
                    expired: count.expired,
                    cleared: count.cleared,
                    refused: count.refused,
                    refused_by,
                });
            }
            for (pool, count) in plan.pools.iter().zip(&table.pools) {
                let pool = pool.name.as_str();
                let PoolUse { usable, in_use, peak, refused } = *count;
                let (most, most_at) = (peak.count, peak.at);
                counters.pools.push(PoolCount {
                    device,
                    pool,
                    usable,
                    in_use,
                    most,
                    most_at,
                    refused,
                });
            }
            counters.devices.push(DeviceCount {
                device,
                mappings: table.mapping_count,
                most_mappings: totals.peak_mappings.count,
                most_mappings_at: totals.peak_mappings.at,
                sessions: table.session_count,
                most_sessions: totals.peak_sessions.count,
                most_sessions_at: totals.peak_sessions.at,
                opened: totals.created,
                expired: totals.expired,
                cleared: totals.cleared,
                refused: totals.refused,
                refused_by,
            });
            counters.addresses.extend(table.addresses.iter().map(|a| AddressCount {
                device,
                address: a.address,
                mappings: a.mappings,
                most: a.peak.count,
                most_at: a.peak.at,
                made: a.created,
            }));
        }
        counters
    }

    pub(super) fn icmp_errors(self) -> BTreeMap<&'static str, u64> {
        let errors = self.prediction.icmp_errors;
        let counts = [errors.translated, errors.untranslated, errors.dropped];
        ["translated", "untranslated", "dropped"].into_iter().zip(counts).collect()
    }
}
