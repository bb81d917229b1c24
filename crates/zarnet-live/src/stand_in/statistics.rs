//! Counters and use of a device as RFC 8512 has them, and the events that thresholds ask for.

use std::collections::HashMap;
use std::net::IpAddr;

use serde_json::{Map, Value, json};
use zarnet_core::Reason;
use zarnet_core::net::Prefix;
use zarnet_core::plan::DeviceId;

use super::estate::Estate;
use super::rows::{Snapshot, Totals};

/// Ports of an address that count as its capacity (RFC 7659: of the protocol used most).
const PORTS: u64 = 65_535;

/// An instance of the running configuration.
pub(super) struct InstanceView<'a> {
    pub(super) id: u64,
    /// Whether dynamic rows with ports belong to it, or those of whole addresses, or none.
    pub(super) rows: Option<bool>,
    pub(super) content: &'a Value,
}

/// The instances of a configuration: the first of a kind has the rows of that kind.
pub(super) fn instances(running: &Value) -> Vec<InstanceView<'_>> {
    let list = running.pointer("/ietf-nat:nat/instances/instance").and_then(Value::as_array);
    let (mut with_ports, mut whole) = (false, false);
    let mut views = Vec::new();
    for content in list.into_iter().flatten() {
        let kind = content.get("type").and_then(Value::as_str).unwrap_or_default();
        let rows = match kind.rsplit(':').next() {
            Some("napt44") if !std::mem::replace(&mut with_ports, true) => Some(true),
            Some("basic-nat44") if !std::mem::replace(&mut whole, true) => Some(false),
            _ => None,
        };
        let id = content.get("id").and_then(Value::as_u64).unwrap_or_default();
        views.push(InstanceView { id, rows, content });
    }
    views
}

/// The pools of an instance: policy, number and prefix.
fn pools(instance: &Value) -> Vec<(u64, u64, Prefix)> {
    let mut list = Vec::new();
    for policy in instance.get("policy").and_then(Value::as_array).into_iter().flatten() {
        let id = policy.get("id").and_then(Value::as_u64).unwrap_or_default();
        let parts = policy.get("external-ip-address-pool").and_then(Value::as_array);
        for pool in parts.into_iter().flatten() {
            let number = pool.get("pool-id").and_then(Value::as_u64).unwrap_or_default();
            let prefix = pool.get("external-ip-pool").and_then(Value::as_str);
            list.extend(prefix.and_then(|p| p.parse().ok()).map(|p| (id, number, p)));
        }
    }
    list
}

/// Addresses of a prefix, those in use, and ports in use.
fn use_of(prefix: Prefix, by_address: &HashMap<IpAddr, u64>) -> (u64, u64, u64) {
    let all = prefix.range().count().min(u64::MAX.into()) as u64;
    let own = by_address.iter().filter(|(a, _)| prefix.contains(**a));
    let (used, ports) = own.fold((0, 0), |(n, p), (_, ports)| (n + 1, p + ports));
    (all, used, ports)
}

impl Estate<'_> {
    /// The statistics of an instance.
    pub(super) fn statistics(
        &mut self,
        id: DeviceId,
        instance: &InstanceView<'_>,
        snapshot: &Snapshot,
    ) -> Value {
        let started = self.clock.date(self.device(id).started);
        let mut out = Map::new();
        out.insert("discontinuity-time".into(), json!(started));
        let Some(with_ports) = instance.rows else { return Value::Object(out) };
        let totals = snapshot.totals(with_ports);
        out.insert("traffic-statistics".into(), self.dropped(id, with_ports));
        out.insert("mappings-statistics".into(), mappings(&totals, with_ports));
        out.insert("pools-stats".into(), pool_use(instance, &totals, with_ports, &started));
        Value::Object(out)
    }

    /// First packets that were dropped, by what RFC 8512 calls the reason. Those of a limit of
    /// mappings and of shortages belong to the rows that they would have made.
    fn dropped(&mut self, id: DeviceId, with_ports: bool) -> Value {
        let counters = self.live().network().devices()[id.index()].counters();
        let of = |reasons: &[Reason]| -> u64 {
            let own = counters.refused_by.iter().filter(|((_, r), _)| reasons.contains(r));
            own.map(|(_, n)| n).sum()
        };
        let text = |n: u64| json!(n.to_string());
        let mut out = Map::new();
        let shortages = match with_ports {
            true => vec![
                ("dropped-port-limit-packets", of(&[Reason::HostLimit, Reason::RuleLimit])),
                ("dropped-port-packets", of(&[Reason::PortsExhausted])),
            ],
            false => vec![
                ("dropped-address-limit-packets", of(&[Reason::DeviceFull])),
                ("dropped-address-packets", of(&[Reason::PoolExhausted])),
            ],
        };
        let all: u64 = match with_ports {
            // what no shortage is to blame for is counted once
            true => counters.refused - of(&[Reason::DeviceFull, Reason::PoolExhausted]),
            false => of(&[Reason::DeviceFull, Reason::PoolExhausted]),
        };
        out.insert("dropped-packets".into(), text(all));
        out.extend(shortages.into_iter().map(|(name, n)| (name.to_owned(), text(n))));
        Value::Object(out)
    }

    /// Tells of pools whose use has passed a threshold that the configuration asks for (RFC 8512,
    /// `notify-pool-usage`).
    pub(super) fn tell_thresholds(&mut self) {
        for n in 0..self.devices.len() {
            let id = DeviceId(n as u16);
            let running = self.device(id).datastore.running.clone();
            let asked: Vec<_> = instances(&running).iter().flat_map(asked).collect();
            if asked.is_empty() {
                continue;
            }
            let snapshot = self.snapshot(id);
            for ask in asked {
                let totals = snapshot.totals(ask.with_ports);
                let (all, used, ports) = use_of(ask.prefix, &totals.by_address);
                let percent = match ask.with_ports {
                    true => 100 * ports / (all * PORTS).max(1),
                    false => 100 * used / all.max(1),
                };
                let (key, passed) = ((ask.instance, ask.policy, ask.pool), percent >= ask.high);
                let before = self.device_mut(id).thresholds.insert(key, passed);
                if passed && before != Some(true) {
                    self.tell(
                        id,
                        json!({ "ietf-nat:nat-pool-event": {
                            "id": ask.instance,
                            "policy-id": ask.policy,
                            "pool-id": ask.pool,
                            "notify-pool-threshold": percent.min(100),
                        } }),
                    );
                }
            }
        }
    }
}

/// A threshold that is to be told of.
struct Asked {
    instance: u64,
    policy: u64,
    pool: u64,
    prefix: Prefix,
    high: u64,
    with_ports: bool,
}

fn asked(instance: &InstanceView<'_>) -> Vec<Asked> {
    let Some(with_ports) = instance.rows else { return Vec::new() };
    let pools = pools(instance.content);
    let policies = instance.content.get("policy").and_then(Value::as_array);
    let one = |policy: &Value| {
        let notify = policy.get("notify-pool-usage")?;
        let number = |member: &str| notify.get(member).and_then(Value::as_u64);
        let (high, pool) = (number("high-threshold")?, number("pool-id")?);
        let (policy, _, prefix) = *pools.iter().find(|p| p.1 == pool)?;
        Some(Asked { instance: instance.id, policy, pool, prefix, high, with_ports })
    };
    policies.into_iter().flatten().filter_map(one).collect()
}

fn mappings(totals: &Totals, with_ports: bool) -> Value {
    let by_protocol: Vec<Value> = totals
        .by_protocol
        .iter()
        .filter_map(|(p, n)| p.map(|p| json!({ "protocol-id": p, "total": n })))
        .collect();
    let (addresses, ports) = if with_ports { (0, totals.rows) } else { (totals.rows, 0) };
    let mut out = Map::new();
    out.insert("total-active-subscribers".into(), json!(totals.hosts));
    out.insert("total-address-mappings".into(), json!(addresses));
    out.insert("total-port-mappings".into(), json!(ports));
    if !by_protocol.is_empty() {
        out.insert("total-per-protocol".into(), json!(by_protocol));
    }
    Value::Object(out)
}

/// Use of the pools: addresses, and where ports are handed out those of the address.
fn pool_use(
    instance: &InstanceView<'_>,
    totals: &Totals,
    with_ports: bool,
    started: &str,
) -> Value {
    let pools = pools(instance.content);
    let uses: Vec<(u64, (u64, u64, u64))> =
        pools.iter().map(|(_, pool, p)| (*pool, use_of(*p, &totals.by_address))).collect();
    let gauge = |n: u64| json!(n.min(u32::MAX.into()));
    let addresses = |(all, used, _): (u64, u64, u64)| json!({ "addresses-allocated": gauge(used), "addresses-free": gauge(all - used.min(all)) });
    let ports = |(all, _, ports): (u64, u64, u64)| {
        json!({
            "ports-allocated": gauge(ports),
            "ports-free": gauge((all * PORTS).saturating_sub(ports)),
        })
    };
    let sum = uses.iter().fold((0, 0, 0), |s, (_, u)| (s.0 + u.0, s.1 + u.1, s.2 + u.2));
    let Value::Object(mut out) = addresses(sum) else { return json!({}) };
    if with_ports {
        out.insert("ports-stats".into(), ports(sum));
    }
    let per_pool: Vec<Value> = uses
        .iter()
        .map(|(pool, u)| {
            let mut entry = Map::new();
            entry.insert("pool-id".into(), json!(pool));
            entry.insert("discontinuity-time".into(), json!(started));
            entry.insert("pool-stats".into(), addresses(*u));
            if with_ports {
                entry.insert("port-stats".into(), ports(*u));
            }
            Value::Object(entry)
        })
        .collect();
    if !per_pool.is_empty() {
        out.insert("per-pool-stats".into(), json!(per_pool));
    }
    Value::Object(out)
}
