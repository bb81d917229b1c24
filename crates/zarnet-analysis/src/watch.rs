//! A device's table as it changes: what is new, what is used up, what was not predicted.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::net::IpAddr;

use zarnet_core::net::{Endpoint, Protocol};
use zarnet_core::plan::{DeviceId, DevicePlan, Plan, RuleKind, Target};
use zarnet_core::predict::Prediction;
use zarnet_formats::ietf_nat::Row;

/// What a row is known by.
type Key = (Option<Protocol>, Endpoint, Endpoint, Option<Endpoint>);

/// What happened to a row since it was looked at before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Change {
    /// It was not there.
    New,
    /// It was used.
    Used,
    /// Nothing.
    Same,
    /// It is no more.
    Gone,
}

impl Change {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::New => "new",
            Self::Used => "used",
            Self::Same => "same",
            Self::Gone => "gone",
        }
    }
}

/// A row of the table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WatchedRow {
    /// Its protocol; `None` is any.
    pub protocol: Option<Protocol>,
    /// Internal end.
    pub internal: Endpoint,
    /// External end.
    pub external: Endpoint,
    /// The peer, where it is for one.
    pub peer: Option<Endpoint>,
    /// The rule that made it, if the device tells.
    pub rule: Option<String>,
    /// State of its session that lasts longest, if the device tells.
    pub state: Option<String>,
    /// Seconds since its last packet, if the device tells.
    pub idle: Option<u32>,
    /// Seconds that it has left; none if it is there for ever.
    pub expires: Option<u32>,
    /// Sessions under it, if the device tells.
    pub sessions: Option<u32>,
    /// Whether it was configured.
    pub fixed: bool,
    /// What happened to it.
    pub change: Change,
    /// At which look that was.
    pub changed_at: u64,
    /// Whether the prediction has it; none without a prediction.
    pub predicted: Option<bool>,
}

/// Use of a pool or of the ports of an address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Usage {
    /// What is used: `pool office-lines`, `ports of 203.0.113.2/tcp`.
    pub name: String,
    /// How many are in use.
    pub used: u64,
    /// How many there are.
    pub usable: u64,
}

/// What is seen of a device.
#[derive(Debug, Clone, Default)]
pub struct Watching {
    /// Rows, what changed last first.
    pub rows: Vec<WatchedRow>,
    /// Use of pools and addresses, the fullest first.
    pub usage: Vec<Usage>,
    /// First packets that were refused since it was started, and since it was looked at before, by
    /// the counter that counts them.
    pub refused: BTreeMap<String, (u64, u64)>,
    /// Rows that are predicted and not there; none without a prediction.
    pub missing: Option<Vec<(Option<Protocol>, Endpoint, Endpoint)>>,
    /// How often it was looked.
    pub looks: u64,
}

/// The prediction that a table is held against.
pub struct Predicted(HashSet<(Option<Protocol>, Endpoint, Endpoint)>);

impl Predicted {
    /// The rows of a device by a prediction.
    pub fn of(prediction: &Prediction, device: DeviceId) -> Self {
        let tables = prediction.tables.iter().filter(|t| t.device == device);
        Self(
            tables
                .flat_map(|t| &t.mappings)
                .map(|m| (m.protocol, m.internal, m.external))
                .collect(),
        )
    }
}

impl Watching {
    /// Looks again: rows as they are now, and counters of refusals by name.
    pub fn look(
        &mut self,
        (plan, device): (&Plan, DeviceId),
        rows: &[Row],
        refused: &BTreeMap<String, u64>,
        predicted: Option<&Predicted>,
    ) {
        self.looks += 1;
        let looks = self.looks;
        let mut before: HashMap<Key, WatchedRow> = std::mem::take(&mut self.rows)
            .into_iter()
            .filter(|r| r.change != Change::Gone)
            .map(|r| ((r.protocol, r.internal, r.external, r.peer), r))
            .collect();
        let mut now: Vec<WatchedRow> = Vec::new();
        for row in rows {
            let peer = row.peer_end().filter(|_| !row.fixed);
            for (internal, external) in row.pairs() {
                let old = before.remove(&(row.protocol, internal, external, peer));
                let change = match &old {
                    None if looks == 1 => Change::Same,
                    None => Change::New,
                    Some(old) if was_used(old, row) => Change::Used,
                    Some(_) => Change::Same,
                };
                let changed_at = match (&old, change) {
                    (Some(old), Change::Same) => old.changed_at,
                    _ => looks,
                };
                let key = (row.protocol, internal, external);
                now.push(WatchedRow {
                    protocol: row.protocol,
                    internal,
                    external,
                    peer,
                    rule: row.told.rule.clone(),
                    state: row.told.state.clone(),
                    idle: row.told.idle,
                    expires: row.lifetime,
                    sessions: row.told.sessions,
                    fixed: row.fixed,
                    change,
                    changed_at,
                    predicted: predicted.map(|p| p.0.contains(&key)),
                });
            }
        }
        self.missing = predicted.map(|p| {
            let there: HashSet<_> =
                now.iter().map(|r| (r.protocol, r.internal, r.external)).collect();
            let mut missing: Vec<_> = p.0.iter().filter(|k| !there.contains(*k)).copied().collect();
            missing.sort();
            missing
        });
        // what is gone is shown once more
        now.extend(before.into_values().map(|r| WatchedRow {
            change: Change::Gone,
            changed_at: looks,
            ..r
        }));
        now.sort_by_key(|r| {
            (std::cmp::Reverse(r.changed_at), r.fixed, r.protocol, r.internal, r.external)
        });
        self.usage = usage(&plan.devices[device.index()], &now);
        self.rows = now;
        let old = std::mem::take(&mut self.refused);
        self.refused = refused
            .iter()
            .map(|(name, n)| {
                let before = old.get(name).map_or(*n, |o| o.0);
                (name.clone(), (*n, n.saturating_sub(before)))
            })
            .collect();
    }

    /// Rows that are there and were not predicted.
    pub fn unpredicted(&self) -> usize {
        self.rows.iter().filter(|r| r.predicted == Some(false) && r.change != Change::Gone).count()
    }
}

/// Whether packets passed since a row was seen before.
fn was_used(old: &WatchedRow, row: &Row) -> bool {
    match (old.idle, row.told.idle) {
        (Some(before), Some(now)) => now < before || old.state != row.told.state,
        // without idle times, what has longer to live again was used
        _ => row.lifetime > old.expires,
    }
}

/// Use of what the rules of a device hand out, the fullest first.
fn usage(device: &DevicePlan, rows: &[WatchedRow]) -> Vec<Usage> {
    let alive = || rows.iter().filter(|r| !r.fixed && r.change != Change::Gone);
    let mut list: Vec<Usage> = Vec::new();
    let mut known: HashSet<(bool, Target)> = HashSet::new();
    let ports: u64 = device
        .behaviour
        .port_classes
        .iter()
        .map(|c| u64::from(c.into.1 - c.into.0) + 1)
        .sum::<u64>()
        .max(1);
    for rule in device.rules.iter().filter(|r| r.enabled) {
        let by_port = matches!(rule.kind, RuleKind::Overload { .. });
        let own = rule.kind.target().map(|t| (by_port, t));
        let fallback = rule.kind.fallback().map(|t| (true, t));
        for (by_port, target) in own.into_iter().chain(fallback) {
            if !known.insert((by_port, target)) {
                continue;
            }
            let listed = device.listed_by(target);
            let name = match target {
                Target::Pool(pool) => format!("pool {}", device.pools[pool.index()].name),
                Target::Interface(i) => device.interfaces[i.index()].name.clone(),
                Target::Address(address) => address.to_string(),
            };
            let addresses = listed.count().min(u64::MAX.into()) as u64;
            let on = || alive().filter(|r| listed.contains(r.external.address));
            if !by_port {
                let used: HashSet<IpAddr> =
                    on().filter(|r| r.external.port == 0).map(|r| r.external.address).collect();
                list.push(Usage { name, used: used.len() as u64, usable: addresses.max(1) });
                continue;
            }
            let mut by_protocol: BTreeMap<Protocol, u64> = BTreeMap::new();
            for row in on().filter(|r| r.external.port != 0) {
                if let Some(protocol) = row.protocol {
                    *by_protocol.entry(protocol).or_default() += 1;
                }
            }
            if by_protocol.is_empty() {
                by_protocol.insert(Protocol::TCP, 0);
            }
            list.extend(by_protocol.into_iter().map(|(protocol, used)| Usage {
                name: format!("{name}, {protocol} ports"),
                used,
                usable: addresses.max(1) * ports,
            }));
        }
    }
    list.sort_by(|a, b| {
        let share = |u: &Usage| u.used as f64 / u.usable as f64;
        share(b).total_cmp(&share(a)).then_with(|| a.name.cmp(&b.name))
    });
    list
}
