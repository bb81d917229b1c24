//! What could be done about a supply that runs out: changes of the plan, each with what it costs.
//! Which of them helps is for the same traffic to tell.

use std::time::Duration;

use super::{Kind, Resource};
use zarnet_core::device::Supply;
use zarnet_core::net::{AddressRange, AddressSet};
use zarnet_core::plan::edit::{Edit, Table, Value};
use zarnet_core::plan::{
    Dependence, DeviceId, DevicePlan, Fallback, InterfaceId, Pick, Plan, PoolId, RuleId, RuleKind,
    Target, free_ranges,
};

/// A change that may help.
#[derive(Debug, Clone)]
pub struct Remedy {
    /// Which remedy it is.
    pub kind: Kind,
    /// Its name: that of its kind, and of several sizes the size.
    pub name: String,
    /// How many external addresses it uses up.
    pub addresses: u64,
    /// What it does, for a person.
    pub title: String,
    /// The changes; none where something prevents it.
    pub edits: Vec<Edit>,
    /// Why the remedy cannot be tried; `None` if it can.
    pub obstacle: Option<String>,
}

/// RFC 4787 §4.3 REQ-5 and RFC 5382 §5 REQ-5: the shortest that the standards allow.
const LEAST_UDP: Duration = Duration::from_secs(120);
const LEAST_TCP: Duration = Duration::from_secs(7440);

/// What could be done for a resource; `needed`: the size that meets the target, where one was
/// found.
pub fn remedies(plan: &Plan, resource: &Resource, needed: Option<u64>) -> Vec<Remedy> {
    let device = &plan.devices[resource.device.index()];
    let proposals = Proposals { plan, id: resource.device, device, list: Vec::new() };
    proposals.all(resource, needed)
}

pub(super) struct Proposals<'a> {
    pub plan: &'a Plan,
    pub id: DeviceId,
    pub device: &'a DevicePlan,
    pub list: Vec<Remedy>,
}

impl Proposals<'_> {
    fn all(mut self, resource: &Resource, needed: Option<u64>) -> Vec<Remedy> {
        let usable = resource.series.usable.unwrap_or(0);
        match resource.supply {
            Supply::Pool(pool) => {
                // what a forecast asks for, but no more than all that had one or were refused
                let all = resource.series.peak.count + resource.refused.len() as u64;
                let wanted = needed.unwrap_or(all).min(all);
                self.shorter_binding();
                self.whole_prefix(pool);
                self.larger_pool(pool, wanted.saturating_sub(usable).max(1));
                self.shorter_timers();
                self.fallback(pool);
                self.overload_instead(pool);
                self.picks(pool);
            }
            Supply::Ports(..)
            | Supply::PortsOfAll(..)
            | Supply::Blocks(..)
            | Supply::BlocksOfAll(..) => {
                self.more_addresses(resource, needed.unwrap_or(0), usable);
                self.block_sizes(resource);
                self.per_port_timer(resource);
                self.shorter_timers();
                self.limit_per_host(resource, usable);
                self.choices(resource);
            }
            Supply::Mappings | Supply::Sessions => {
                self.shorter_timers();
                self.limit_per_host(resource, usable);
            }
        }
        self.list
    }

    pub(super) fn offer(&mut self, kind: Kind, title: String, edits: Vec<Edit>) {
        let (name, addresses, obstacle) = (kind.name().to_owned(), 0, None);
        self.list.push(Remedy { kind, name, addresses, title, edits, obstacle });
    }

    /// The same of one that uses up external addresses.
    pub(super) fn offer_addresses(
        &mut self,
        kind: Kind,
        title: String,
        addresses: u64,
        edits: Vec<Edit>,
    ) {
        let (name, obstacle) = (kind.name().to_owned(), None);
        self.list.push(Remedy { kind, name, addresses, title, edits, obstacle });
    }

    pub(super) fn prevented(&mut self, kind: Kind, title: String, obstacle: String) {
        let (name, addresses, edits) = (kind.name().to_owned(), 0, Vec::new());
        let obstacle = Some(obstacle);
        self.list.push(Remedy { kind, name, addresses, title, edits, obstacle });
    }

    /// Addresses of the device's blocks that nobody uses; those beside `near` first.
    pub(super) fn free(&self, count: u64, near: &AddressSet) -> Vec<AddressRange> {
        let mut ranges = free_ranges(self.plan, self.id);
        let beside = |r: &AddressRange| near.ranges().any(|n| next(n) == Some(r.first()));
        ranges.sort_by_key(|r| (!beside(r), r.first()));
        ranges.dedup();
        let mut left = u128::from(count);
        let mut taken = Vec::new();
        for range in ranges {
            let part = range.count().min(left);
            if let (true, Some(last)) = (part > 0, range.nth(part.saturating_sub(1))) {
                taken.extend(AddressRange::new(range.first(), last).ok());
                left -= part;
            }
        }
        taken
    }

    pub(super) fn pool_rules(&self, pool: PoolId) -> Vec<(RuleId, Fallback)> {
        let rules = self.device.rules.iter().enumerate().filter(|(_, r)| r.enabled);
        let uses = |(i, r): (usize, &zarnet_core::plan::Rule)| match r.kind {
            RuleKind::Pool { pool: p, fallback } if p == pool => Some((RuleId(i as u16), fallback)),
            RuleKind::Exempt
            | RuleKind::Static(_)
            | RuleKind::Pool { .. }
            | RuleKind::Overload { .. }
            | RuleKind::Forward(_) => None,
        };
        rules.filter_map(uses).collect()
    }

    fn whole_prefix(&mut self, pool: PoolId) {
        let (name, lost) = {
            let pool = &self.device.pools[pool.index()];
            (pool.name.clone(), pool.lost_to_prefixes().count())
        };
        if lost > 0 {
            let edit = Edit::Set(Table::Pool(self.id, pool), "usable".to_owned(), "all".into());
            let title =
                format!("hand out the {lost} network and broadcast addresses of {name} too");
            self.offer(Kind::WholePrefix, title, vec![edit]);
        }
    }

    fn larger_pool(&mut self, pool: PoolId, more: u64) {
        let name = self.device.pools[pool.index()].name.clone();
        let free = self.free(more, &self.device.pools[pool.index()].listed());
        let got: u128 = free.iter().map(|r| r.count()).sum();
        if got == 0 {
            let title = format!("{more} addresses more in {name}");
            let why = "no address of the device's blocks is free".to_owned();
            return self.prevented(Kind::LargerPool, title, why);
        }
        let edits = free
            .iter()
            .map(|r| {
                Edit::Append(
                    Table::Pool(self.id, pool),
                    "addresses".to_owned(),
                    r.to_string().into(),
                )
            })
            .collect();
        let list: Vec<String> = free.iter().map(ToString::to_string).collect();
        let short = if got < u128::from(more) {
            format!(", all that are free of {more} wanted")
        } else {
            String::new()
        };
        let what =
            if got == 1 { "one address more".to_owned() } else { format!("{got} addresses more") };
        self.offer_addresses(
            Kind::LargerPool,
            format!("{what} in {name}: {}{short}", list.join(", ")),
            u64::try_from(got).unwrap_or(u64::MAX),
            edits,
        );
    }

    /// The interface that a rule translates into, if it has an address.
    fn egress(&self, rule: RuleId) -> Option<InterfaceId> {
        let realm_set = &self.device.rules[rule.index()].into.interfaces;
        let interfaces = self.device.interfaces.iter().enumerate();
        let mut able = interfaces
            .filter(|(i, f)| realm_set.contains(InterfaceId(*i as u16)) && f.primary().is_some());
        able.next().map(|(i, _)| InterfaceId(i as u16))
    }

    fn fallback(&mut self, pool: PoolId) {
        let rules: Vec<(RuleId, InterfaceId)> = self
            .pool_rules(pool)
            .into_iter()
            .filter(|(_, f)| !matches!(f, Fallback::Overload(_)))
            .filter_map(|(r, _)| Some((r, self.egress(r)?)))
            .collect();
        let Some((_, interface)) = rules.first() else { return };
        let name = self.device.interfaces[interface.index()].name.clone();
        let edit = |(rule, _): &(RuleId, InterfaceId)| {
            Edit::Set(
                Table::Rule(self.id, *rule),
                "when-exhausted".to_owned(),
                name.as_str().into(),
            )
        };
        let edits = rules.iter().map(edit).collect();
        self.offer(Kind::Fallback, format!("overload {name} when it is used up"), edits);
    }

    fn overload_instead(&mut self, pool: PoolId) {
        let rules = self.pool_rules(pool);
        let name = &self.device.pools[pool.index()].name;
        let title = format!("share the addresses of {name} by port from the start");
        let edits = rules
            .iter()
            .map(|(rule, _)| {
                Edit::Set(Table::Rule(self.id, *rule), "type".to_owned(), "overload".into())
            })
            .collect::<Vec<_>>();
        if !edits.is_empty() {
            self.offer(Kind::OverloadInstead, title, edits);
        }
    }

    /// A timer gets another value.
    pub(super) fn set_timer(&self, key: &str, to: Duration) -> Edit {
        let seconds = Value::Number(i64::try_from(to.as_secs()).unwrap_or(i64::MAX));
        Edit::Set(Table::Timers(self.id), key.to_owned(), seconds)
    }

    fn shorter_binding(&mut self) {
        let binding = self.device.timers.binding;
        if !binding.is_zero() {
            let title =
                format!("free an address with its last session, not {} s later", binding.as_secs());
            self.offer(
                Kind::ShorterBinding,
                title,
                vec![self.set_timer("binding", Duration::ZERO)],
            );
        }
    }

    fn shorter_timers(&mut self) {
        let timers = &self.device.timers;
        let able = [
            ("udp-timeout", timers.udp, LEAST_UDP),
            ("tcp-idle-timeout", timers.tcp_idle, LEAST_TCP),
        ];
        let able: Vec<_> = able.into_iter().filter(|t| t.1 > t.2).collect();
        if able.is_empty() {
            let title = "shorter timers".to_owned();
            return self.prevented(
                Kind::ShorterTimers,
                title,
                "they are as short as the standards allow".to_owned(),
            );
        }
        let said: Vec<String> =
            able.iter().map(|t| format!("{} {} s", t.0, t.2.as_secs())).collect();
        let edits = able.iter().map(|t| self.set_timer(t.0, t.2)).collect();
        let title = format!("the shortest timers that the standards allow: {}", said.join(", "));
        self.offer(Kind::ShorterTimers, title, edits);
    }

    fn picks(&mut self, pool: PoolId) {
        let pick = self.device.pools[pool.index()].pick;
        let table = Table::Pool(self.id, pool);
        let set = |value: &str| vec![Edit::Set(table, "pick".to_owned(), value.into())];
        if pick != Pick::BySource {
            self.offer(
                Kind::PickBySource,
                "give each host the address that its own leads to".to_owned(),
                set("by-source"),
            );
        }
        if pick != Pick::Lowest {
            self.offer(Kind::PickLowest, "give the lowest free address".to_owned(), set("lowest"));
        }
    }

    fn choices(&mut self, resource: &Resource) {
        let behaviour = &self.device.behaviour;
        let table = Table::Behaviour(self.id);
        let set = |key: &str, value: Value| Edit::Set(table, key.to_owned(), value);
        let several = matches!(resource.supply, Supply::PortsOfAll(..) | Supply::BlocksOfAll(..))
            || self.overloads(resource).iter().any(|(_, t)| match t {
                Target::Pool(p) => self.device.pools[p.index()].listed().count() > 1,
                Target::Interface(_) | Target::Address(_) => false,
            });
        let pools: Vec<PoolId> = self
            .overloads(resource)
            .into_iter()
            .filter_map(|(_, t)| if let Target::Pool(p) = t { Some(p) } else { None })
            .collect();
        if let (true, Some(pool)) = (several, pools.first()) {
            self.picks(*pool);
        }
        if several && behaviour.paired {
            let edits = vec![set("pooling", "arbitrary".into())];
            self.offer(
                Kind::ArbitraryPooling,
                "let a host use any address that has a port left".to_owned(),
                edits,
            );
        }
        if !behaviour.port_overloading {
            let mut edits = Vec::new();
            if behaviour.mapping == Dependence::EndpointIndependent {
                edits.push(set("mapping", "address-and-port-dependent".into()));
            }
            edits.push(set("port-overloading", Value::Flag(true)));
            self.offer(
                Kind::PortOverloading,
                "let a port serve several peers at a time".to_owned(),
                edits,
            );
        }
    }
}

/// The address behind a range.
fn next(range: AddressRange) -> Option<std::net::IpAddr> {
    match range.last() {
        std::net::IpAddr::V4(a) => {
            a.to_bits().checked_add(1).map(|n| std::net::IpAddr::V4(n.into()))
        }
        std::net::IpAddr::V6(a) => {
            a.to_bits().checked_add(1).map(|n| std::net::IpAddr::V6(n.into()))
        }
    }
}
