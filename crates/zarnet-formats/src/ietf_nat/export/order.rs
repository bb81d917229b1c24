//! Whether rules mean the same without their order and without realms: what the standard cannot
//! say of them.

use std::collections::BTreeSet;

use zarnet_core::net::{AddressRange, AddressSet};
use zarnet_core::plan::{InterfaceId, InterfaceSet, Rule, RuleKind};

use super::super::{Loss, LossKind};
use super::Export;
use super::standing::matches_nothing;

/// As many pairs of rules are named.
const MOST_PAIRS: usize = 100;

impl Export<'_> {
    fn enabled(&self) -> impl Iterator<Item = &Rule> {
        self.device.rules.iter().filter(|r| r.enabled && !matches_nothing(r))
    }

    /// Names the rules that would be tried in another order, or in an order that nothing says.
    pub(super) fn order(&mut self) {
        let rules: Vec<&Rule> = self.enabled().collect();
        let inside: Vec<AddressSet> = rules.iter().map(|r| inside(r)).collect();
        let mut edges: Vec<(AddressRange, usize)> = Vec::new();
        for (i, set) in inside.iter().enumerate() {
            edges.extend(set.ranges().map(|r| (r, i)));
        }
        edges.sort_by_key(|(r, i)| (r.first(), *i));
        let mut open: Vec<(AddressRange, usize)> = Vec::new();
        let mut pairs: BTreeSet<(usize, usize)> = BTreeSet::new();
        let mut more = 0;
        for (range, rule) in edges {
            open.retain(|(o, _)| o.last() >= range.first());
            for (_, other) in &open {
                let pair = (rule.min(*other), rule.max(*other));
                if pair.0 == pair.1 || pairs.contains(&pair) {
                    continue;
                }
                if needs_order(rules[pair.0], rules[pair.1]) {
                    if pairs.len() < MOST_PAIRS {
                        pairs.insert(pair);
                    } else {
                        more += 1;
                    }
                }
            }
            open.push((range, rule));
        }
        let told: Vec<Loss> = pairs
            .iter()
            .map(|(a, b)| Loss {
                kind: LossKind::Order,
                of: vec![rules[*a].name.clone(), rules[*b].name.clone()],
                what: String::new(),
            })
            .collect();
        self.losses.extend(told);
        if more > 0 {
            let what = format!("{more} more pairs");
            self.losses.push(Loss { kind: LossKind::Order, of: Vec::new(), what });
        }
    }

    /// Names the rules that are not between one external interface and all others.
    pub(super) fn scopes(&mut self) {
        let count = self.device.interfaces.len() as u16;
        let members = |set: &InterfaceSet| -> Vec<u16> {
            (0..count).filter(|i| set.contains(InterfaceId(*i))).collect()
        };
        let Some(outside) = self.enabled().next().map(|r| members(&r.into.interfaces)) else {
            return;
        };
        let others: Vec<u16> = (0..count).filter(|i| !outside.contains(i)).collect();
        let differs = |r: &&Rule| {
            outside.len() != 1
                || members(&r.into.interfaces) != outside
                || members(&r.from.interfaces) != others
        };
        let scopes: Vec<(String, String)> = self
            .enabled()
            .filter(differs)
            .map(|r| {
                let names = |set: &zarnet_core::plan::RealmSet| {
                    set.names.iter().map(|n| n.value.as_str()).collect::<Vec<_>>().join(", ")
                };
                (r.name.clone(), format!("from {} into {}", names(&r.from), names(&r.into)))
            })
            .collect();
        scopes.into_iter().for_each(|(rule, what)| self.lose(LossKind::Scope, &rule, what));
    }
}

/// The internal addresses that a rule is for.
fn inside(rule: &Rule) -> AddressSet {
    match &rule.kind {
        RuleKind::Static(s) => s.internal.into(),
        RuleKind::Forward(f) => f.servers.iter().map(|s| AddressRange::one(s.address)).collect(),
        RuleKind::Exempt | RuleKind::Pool { .. } | RuleKind::Overload { .. } => {
            rule.parties.source.clone()
        }
    }
}

/// Whether two rules mean something else if they are not tried in this order. What passes through
/// is looked at first, then entries, then policies; within each nothing says which comes first.
fn needs_order(first: &Rule, second: &Rule) -> bool {
    let rank = |r: &Rule| match r.kind {
        RuleKind::Exempt => 0,
        RuleKind::Static(_) | RuleKind::Forward(_) => 1,
        RuleKind::Pool { .. } | RuleKind::Overload { .. } => 2,
    };
    if rank(first) < rank(second) || (rank(first), rank(second)) == (0, 0) {
        return false;
    }
    if let (RuleKind::Forward(a), RuleKind::Forward(b)) = (&first.kind, &second.kind) {
        let count = |f: &zarnet_core::plan::Forward| f.ports.last - f.ports.first;
        let shares = a.servers.iter().any(|x| {
            b.servers.iter().any(|y| {
                x.address == y.address
                    && u32::from(x.port) <= u32::from(y.port) + u32::from(count(b))
                    && u32::from(y.port) <= u32::from(x.port) + u32::from(count(a))
            })
        });
        return a.protocol == b.protocol && shares;
    }
    let is_fixed = |r: &Rule| r.kind.is_fixed();
    let receivers = is_fixed(first)
        || is_fixed(second)
        || first.parties.destination.intersects(&second.parties.destination);
    receivers && (is_fixed(first) || is_fixed(second) || first.service.intersects(&second.service))
}
