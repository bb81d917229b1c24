//! What helps where ports or query ids run out.

use super::remedy::Proposals;
use super::{Kind, Resource};
use zarnet_core::device::Supply;
use zarnet_core::net::{AddressRange, Protocol};
use zarnet_core::plan::edit::{Edit, List, Table, Value};
use zarnet_core::plan::{RuleId, RuleKind, Target};

impl Proposals<'_> {
    /// The enabled rules that overload the address or target of a supply.
    pub(super) fn overloads(&self, resource: &Resource) -> Vec<(RuleId, Target)> {
        let holds = |target: Target| match resource.supply {
            Supply::Ports(address, ..) | Supply::Blocks(address, ..) => {
                self.device.listed_by(target).contains(address)
            }
            Supply::PortsOfAll(own, ..) | Supply::BlocksOfAll(own, ..) => own == target,
            Supply::Pool(_) | Supply::Mappings | Supply::Sessions => false,
        };
        let rules = self.device.rules.iter().enumerate().filter(|(_, r)| r.enabled);
        let uses = |(i, r): (usize, &zarnet_core::plan::Rule)| match r.kind {
            RuleKind::Overload { target, .. } if holds(target) => Some((RuleId(i as u16), target)),
            RuleKind::Exempt
            | RuleKind::Static(_)
            | RuleKind::Pool { .. }
            | RuleKind::Overload { .. }
            | RuleKind::Forward(_) => None,
        };
        rules.filter_map(uses).collect()
    }

    pub(super) fn more_addresses(&mut self, resource: &Resource, needed: u64, usable: u64) {
        let rules = self.overloads(resource);
        let Some((rule, target)) = rules.first().copied() else { return };
        let have = match resource.supply {
            Supply::PortsOfAll(Target::Pool(p), ..) | Supply::BlocksOfAll(Target::Pool(p), ..) => {
                self.device.pools[p.index()].listed().count() as u64
            }
            Supply::Pool(_)
            | Supply::PortsOfAll(..)
            | Supply::BlocksOfAll(..)
            | Supply::Ports(..)
            | Supply::Blocks(..)
            | Supply::Mappings
            | Supply::Sessions => 1,
        };
        let on_each = (usable / have.max(1)).max(1);
        let more = needed.div_ceil(on_each).saturating_sub(have).clamp(1, 65_536);
        let listed = match target {
            Target::Pool(p) => self.device.pools[p.index()].listed(),
            Target::Interface(i) => {
                self.device.interfaces[i.index()].own().map(AddressRange::one).collect()
            }
            Target::Address(a) => std::iter::once(AddressRange::one(a)).collect(),
        };
        // a pool hands out no address that an interface has: in its place come others
        let wanted = if matches!(target, Target::Pool(_)) { more } else { more + 1 };
        let free = self.free(wanted, &listed);
        let got: u128 = free.iter().map(|r| r.count()).sum();
        if got < u128::from(wanted) {
            let title = format!("overload {} addresses", have + more);
            return self.prevented(
                Kind::MoreAddresses,
                title,
                format!("only {got} of the device's addresses are free"),
            );
        }
        let list: Vec<String> = free.iter().map(ToString::to_string).collect();
        let (title, edits) = match target {
            Target::Pool(pool) => {
                let name = &self.device.pools[pool.index()].name;
                let append = |r: &String| {
                    Edit::Append(
                        Table::Pool(self.id, pool),
                        "addresses".to_owned(),
                        r.as_str().into(),
                    )
                };
                (
                    format!("{got} more to overload in {name}: {}", list.join(", ")),
                    list.iter().map(append).collect(),
                )
            }
            Target::Interface(_) | Target::Address(_) => {
                let name = self.fresh_pool(&self.device.rules[rule.index()].name);
                let addresses = Value::List(list.iter().map(|r| r.as_str().into()).collect());
                // a host keeps its address: hosts that all began on the lowest would fill it and
                // leave the others idle
                let fields = vec![
                    ("name", name.as_str().into()),
                    ("addresses", addresses),
                    ("pick", "by-source".into()),
                ];
                let mut edits = vec![Edit::Insert(self.id, List::Pools, None, fields)];
                edits.extend(rules.iter().map(|r| {
                    Edit::Set(Table::Rule(self.id, r.0), "as".to_owned(), name.as_str().into())
                }));
                (format!("overload {got} addresses instead of one: {}", list.join(", ")), edits)
            }
        };
        let used = u64::try_from(got).unwrap_or(u64::MAX);
        self.offer_addresses(Kind::MoreAddresses, title, used, edits);
    }

    /// Blocks of a half, a quarter and an eighth of their size.
    pub(super) fn block_sizes(&mut self, resource: &Resource) {
        const LEAST: u16 = 8;
        let is_block = matches!(resource.supply, Supply::Blocks(..) | Supply::BlocksOfAll(..));
        let Some(size) = self.device.behaviour.block_size.filter(|_| is_block) else { return };
        for smaller in [size / 2, size / 4, size / 8].into_iter().filter(|s| *s >= LEAST) {
            let edit = Edit::Set(
                Table::Behaviour(self.id),
                "block-size".to_owned(),
                Value::Number(smaller.into()),
            );
            let title = format!("hand out blocks of {smaller} ports instead of {size}");
            self.offer(Kind::BlockSize, title, vec![edit]);
            if let Some(last) = self.list.last_mut() {
                last.name = format!("{}-{smaller}", last.kind.name());
            }
        }
    }

    /// Name queries get a timer of their own.
    pub(super) fn per_port_timer(&mut self, resource: &Resource) {
        const SECONDS: u64 = 10;
        let protocol = match resource.supply {
            Supply::Ports(_, p, _)
            | Supply::PortsOfAll(_, p, _)
            | Supply::Blocks(_, p, _)
            | Supply::BlocksOfAll(_, p, _) => p,
            Supply::Pool(_) | Supply::Mappings | Supply::Sessions => return,
        };
        let timers = &self.device.timers;
        if protocol != Protocol::UDP || timers.udp.as_secs() <= SECONDS {
            return;
        }
        let title = format!("forget name queries (53/udp) after {SECONDS} s");
        if !timers.per_port.is_empty() {
            let why = "`per-port` timers are set already".to_owned();
            return self.prevented(Kind::PerPortTimer, title, why);
        }
        let entry = Value::Entry(vec![("53/udp", Value::Number(SECONDS as i64))]);
        let edit = Edit::Set(Table::Timers(self.id), "per-port".to_owned(), entry);
        self.offer(Kind::PerPortTimer, title, vec![edit]);
    }

    pub(super) fn fresh_pool(&self, rule: &str) -> String {
        let taken = |n: &str| {
            self.device.pools.iter().any(|p| p.name == n)
                || self.device.interfaces.iter().any(|i| i.name == n)
        };
        let first = format!("{rule}-addresses");
        let mut names = std::iter::once(first.clone()).chain((2..).map(|n| format!("{first}-{n}")));
        names.find(|n| !taken(n)).unwrap_or(first)
    }

    pub(super) fn limit_per_host(&mut self, resource: &Resource, usable: u64) {
        let mut hosts: Vec<_> = resource.holders.iter().map(|h| h.host).collect();
        hosts.extend(resource.refused.iter().map(|r| r.host));
        hosts.sort_unstable();
        hosts.dedup();
        if hosts.len() < 2 {
            return;
        }
        let share = self.fair_share(resource, usable, hosts.len());
        let heaviest = resource.holders.first().map_or(0, |h| h.held);
        let now = self.device.behaviour.ports_per_host.map(u64::from);
        if heaviest <= share || now.is_some_and(|n| n <= share) {
            let obstacle = format!("no host holds more than a fair share, {share}");
            return self.prevented(
                Kind::LimitPerHost,
                "a limit for each host".to_owned(),
                obstacle,
            );
        }
        let edit = Edit::Set(
            Table::Behaviour(self.id),
            "ports-per-host".to_owned(),
            Value::Number(share as i64),
        );
        self.offer(
            Kind::LimitPerHost,
            format!(
                "at most {share} mappings for each host, which leaves a tenth free with the \
                 holders of that moment"
            ),
            vec![edit],
        );
    }

    /// The most that each may have so that a tenth is left: those who want less leave theirs to the
    /// others.
    pub(super) fn fair_share(&self, resource: &Resource, usable: u64, hosts: usize) -> u64 {
        let mut wants: Vec<u64> = resource.holders.iter().map(|h| h.held).collect();
        wants.sort_unstable();
        // hosts that were refused and hold nothing want as much as the one in the middle
        let middle = wants.get(wants.len() / 2).copied().unwrap_or(1);
        wants.resize(wants.len().max(hosts), middle);
        wants.sort_unstable();
        let (mut left, mut more) = (usable * 9 / 10, wants.len() as u64);
        for want in wants {
            let share = left / more.max(1);
            if want > share {
                return share.clamp(1, 65_535);
            }
            left -= want;
            more -= 1;
        }
        u64::from(u16::MAX)
    }
}
