//! Supplies that ran out: who holds them, and what would make room.

use std::net::IpAddr;

use zarnet_core::Reason;
use zarnet_core::device::MappingRow;
use zarnet_core::net::AddressRange;
use zarnet_core::network::Loss;
use zarnet_core::plan::edit::{Edit, Table, Value};
use zarnet_core::plan::{DeviceId, RuleId, RuleKind, Target};

use super::{At, Case, append, set};
use crate::diagnose::Cause;
use crate::diagnose::near::egress;

impl Case<'_> {
    /// Addresses, ports or room for mappings are used up.
    pub(super) fn used_up(&mut self, loss: Loss) {
        let Some(d) = loss.device else { return };
        // a shortage that is none of these is one of addresses
        let causes = [
            (Reason::PortsExhausted, Cause::PortsExhausted),
            (Reason::HostLimit, Cause::HostLimit),
            (Reason::RuleLimit, Cause::RuleLimit),
            (Reason::DeviceFull, Cause::DeviceFull),
        ];
        let known = causes.into_iter().find(|c| c.0 == loss.reason);
        let cause = known.map_or(Cause::PoolExhausted, |c| c.1);
        let device = self.device(d);
        let behaviour = &device.behaviour;
        let at = loss.rule.map_or(At::device(d, device.place), |r| self.at_rule(d, r));
        let raise = |key: &str, now: u64| {
            (set(Table::Behaviour(d), key, Value::Number(now as i64 * 2)), now * 2)
        };
        match (cause, loss.rule) {
            (Cause::HostLimit, _) => {
                let now = behaviour.ports_per_host.map_or(1, u64::from);
                let verdict = format!(
                    "{} has as many mappings as `ports-per-host` allows: {now}",
                    self.sender_name()
                );
                let (edit, more) = raise("ports-per-host", now);
                self.suspect(
                    cause,
                    at,
                    verdict,
                    format!("allow every host {more} mappings"),
                    vec![edit],
                );
            }
            (Cause::DeviceFull, _) => {
                let limits = [
                    ("max-mappings", behaviour.max_mappings),
                    ("max-sessions", behaviour.max_sessions),
                ];
                for (key, now) in limits.into_iter().filter_map(|(k, v)| Some((k, v?))) {
                    let verdict = format!("{} holds as much as `{key}` allows: {now}", device.name);
                    let (edit, more) = raise(key, now);
                    self.suspect(
                        cause,
                        at,
                        verdict,
                        format!("let {} hold {more} (`{key}`)", device.name),
                        vec![edit],
                    );
                }
            }
            (Cause::RuleLimit, Some(r)) => {
                let now = self.rule(d, r).limit.unwrap_or(1);
                let name = &self.rule(d, r).name;
                let verdict = format!("rule {name} holds as much as its `limit` allows: {now}");
                let edit = set(Table::Rule(d, r), "limit", Value::Number(i64::from(now) * 2));
                self.suspect(
                    cause,
                    at,
                    verdict,
                    format!("raise the limit of rule {name} to {}", now * 2),
                    vec![edit],
                );
            }
            (_, Some(r)) => self.exhausted(cause, d, r),
            _ => {}
        }
    }

    pub(super) fn sender_name(&self) -> String {
        let host = self.sender().map(|h| self.plan.hosts[h.index()].name.clone());
        host.or(self.sent().map(|p| p.source().address.to_string())).unwrap_or_default()
    }

    fn exhausted(&mut self, cause: Cause, d: DeviceId, r: RuleId) {
        let (device, rule) = (self.device(d), self.rule(d, r));
        let (holders, first, next) = self.holders(d, r);
        let verdict = if cause == Cause::PortsExhausted {
            format!("rule {} has no free port left for {}", rule.name, self.sender_name())
        } else {
            format!("every address of rule {} is borrowed: {holders}", rule.name)
        };
        let at = self.at_rule(d, r);
        let egress = self.last().and_then(egress).map(|i| &device.interfaces[i.index()]);
        if let (Some(interface), false) = (egress, Self::falls_back(rule)) {
            let title =
                format!("let rule {} overload {} when it is used up", rule.name, interface.name);
            let edit = set(Table::Rule(d, r), "when-exhausted", interface.name.clone());
            self.suspect(cause, at, verdict.clone(), title, vec![edit]);
        }
        let pool = match &rule.kind {
            RuleKind::Pool { pool, .. } | RuleKind::Overload { target: Target::Pool(pool), .. } => {
                Some(*pool)
            }
            RuleKind::Exempt
            | RuleKind::Static(_)
            | RuleKind::Overload { .. }
            | RuleKind::Forward(_) => None,
        };
        if let (Some(pool), Some(free)) = (pool, egress.and_then(|i| self.free_address(i))) {
            let name = &device.pools[pool.index()].name;
            let title = format!("add {free} to pool {name}");
            let edit = append(Table::Pool(d, pool), "addresses", free.to_string());
            self.suspect(cause, at, verdict.clone(), title, vec![edit]);
        }
        if let (RuleKind::Overload { .. }, Some(free)) =
            (&rule.kind, egress.and_then(|i| self.free_address(i)))
        {
            let title = format!("let rule {} overload {free} when it is used up", rule.name);
            let edit = set(Table::Rule(d, r), "when-exhausted", free.to_string());
            self.suspect(cause, at, verdict.clone(), title, vec![edit]);
        }
        let wait = next.map(|s| format!(" (or wait {s:.0} s for it)")).unwrap_or_default();
        if let Some((host, name)) = first {
            let title = format!("clear what {name} holds on {}{wait}", device.name);
            self.suspect(cause, at, verdict, title, vec![Edit::Clear(d, host)]);
        }
    }

    /// Who holds what a rule hands out, who gives it back first, and in how many seconds.
    fn holders(&self, d: DeviceId, r: RuleId) -> (String, Option<(IpAddr, String)>, Option<f64>) {
        let mut rows: Vec<MappingRow> = Vec::new();
        let device = &self.scene.network.devices()[d.index()];
        device.list_mappings(self.followed.at, &mut rows);
        rows.retain(|m| m.rule == r);
        rows.sort_by_key(|m| m.expires);
        let next =
            rows.iter().find_map(|m| m.expires).map(|e| e.seconds() - self.followed.at.seconds());
        let name = |m: &MappingRow| {
            let host = self.plan.hosts.iter().find(|h| h.address == m.internal.address);
            host.map_or(m.internal.address.to_string(), |h| h.name.clone())
        };
        let first = rows.first().map(|m| (m.internal.address, name(m)));
        let mut names: Vec<String> =
            rows.iter().map(|m| format!("{} by {}", m.external.address, name(m))).collect();
        let more = names.len().saturating_sub(4);
        names.truncate(4);
        if more > 0 {
            names.push(format!("{more} more"));
        }
        (names.join(", "), first, next)
    }

    /// An address of an interface's prefix that nobody uses.
    pub(super) fn free_address(&self, interface: &zarnet_core::plan::Interface) -> Option<IpAddr> {
        let (_, prefix) = interface.addresses.iter().find(|a| a.0.is_ipv4())?;
        let mut used = (*zarnet_core::network::taken(self.plan)).clone();
        for device in &self.plan.devices {
            device.pools.iter().for_each(|p| used.extend(&p.listed()));
            device.interfaces.iter().for_each(|i| {
                i.also.iter().for_each(|a| used.insert(AddressRange::one(*a)));
                used.extend(&i.proxy_arp);
            });
        }
        let range = prefix.range();
        let candidates = (1..range.count().saturating_sub(1)).filter_map(|n| range.nth(n));
        candidates.take(65_536).find(|a| !used.contains(*a) && self.users(*a).is_empty())
    }
}
