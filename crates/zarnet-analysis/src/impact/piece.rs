//! Which piece of a changed plan a class of packets is owed to: each is changed alone, and tried.

use std::sync::Arc;

use zarnet_core::device::Device;
use zarnet_core::net::AddressSet;
use zarnet_core::plan::{DevicePlan, InterfaceId, Pool};

use super::ChangedClass;
use crate::space::{Meaning, meaning};

/// More pieces than this are not tried: each is a device of its own.
const MOST_PIECES: usize = 256;

/// The old device with one piece of the new one.
struct Piece {
    name: String,
    device: Device,
}

/// Names, for each class of a device, the first piece that makes of its packets what the new plan
/// makes of them, if it is changed alone.
pub(super) fn attribute(
    (before, after): (&DevicePlan, &DevicePlan),
    (new, taken): (&Device, &Arc<AddressSet>),
    classes: &mut [ChangedClass],
) {
    let pieces = pieces(before, after, taken);
    for class in classes {
        let Some(ingress) = before.interfaces.iter().position(|i| class.from.contains(&i.name))
        else {
            continue;
        };
        let what = |device: &Device| meaning(device, InterfaceId(ingress as u16), class.witness);
        let wanted: Meaning = what(new);
        class.piece = pieces.iter().find(|p| what(&p.device) == wanted).map(|p| p.name.clone());
    }
}

/// Every piece that may be changed alone; none if the plans cannot be mixed, because interfaces
/// differ, or are too large.
fn pieces(before: &DevicePlan, after: &DevicePlan, taken: &Arc<AddressSet>) -> Vec<Piece> {
    let names = |d: &DevicePlan| d.interfaces.iter().map(|i| i.name.clone()).collect::<Vec<_>>();
    let shared = before.pools.len().min(after.pools.len());
    let alike = |n: usize| before.pools[n].name == after.pools[n].name;
    let is_mixable = names(before) == names(after) && (0..shared).all(alike);
    if !is_mixable || before.rules.len() + after.rules.len() > MOST_PIECES {
        return Vec::new();
    }
    // rules name pools by their position: those that only one plan has stand behind the others
    let further = &after.pools[shared..];
    let base = DevicePlan {
        pools: before.pools.iter().chain(further).cloned().collect(),
        ..before.clone()
    };
    let mut plans: Vec<(String, DevicePlan)> = Vec::new();
    for rule in before.rules.iter().chain(&after.rules) {
        if plans.iter().all(|p| p.0 != format!("rule {}", rule.name)) {
            plans.push((format!("rule {}", rule.name), with_rule(&base, after, &rule.name)));
        }
    }
    for (n, pool) in after.pools.iter().enumerate().take(shared) {
        plans.push((format!("pool {}", pool.name), with_pool(&base, n, pool)));
    }
    let whole = [
        ("order of rules", in_order(&base, after)),
        ("policy", with_policy(&base, after)),
        ("filters", with_filters(&base, after)),
        ("routes", DevicePlan { routes: after.routes.clone(), ..base.clone() }),
        ("interfaces", with_interfaces(&base, after)),
        ("behaviour", DevicePlan { behaviour: after.behaviour.clone(), ..base.clone() }),
        ("forwarding", DevicePlan { forwarding: after.forwarding, ..base.clone() }),
    ];
    plans.extend(whole.map(|(name, plan)| (name.to_owned(), plan)));
    let device = |plan| Device::new(&Arc::new(plan), taken, 0);
    plans.into_iter().map(|(name, plan)| Piece { name, device: device(plan) }).collect()
}

/// The old device with a rule as the new one has it, or without it.
fn with_rule(base: &DevicePlan, after: &DevicePlan, name: &str) -> DevicePlan {
    let mut plan = base.clone();
    let at = |d: &DevicePlan| d.rules.iter().position(|r| r.name == name);
    match (at(base), at(after)) {
        (Some(i), Some(j)) => plan.rules[i] = after.rules[j].clone(),
        (Some(i), None) => {
            plan.rules.remove(i);
        }
        (None, Some(j)) => {
            let before = after.rules[..j].iter().rev();
            let mut known = before.filter_map(|r| base.rules.iter().position(|b| b.name == r.name));
            plan.rules.insert(known.next().map_or(0, |i| i + 1), after.rules[j].clone());
        }
        (None, None) => {}
    }
    plan
}

fn with_pool(base: &DevicePlan, position: usize, pool: &Pool) -> DevicePlan {
    let mut plan = base.clone();
    plan.pools[position] = pool.clone();
    plan
}

fn with_policy(base: &DevicePlan, after: &DevicePlan) -> DevicePlan {
    let policies = after.policies.clone();
    DevicePlan { policies, default_policy: after.default_policy, ..base.clone() }
}

/// Filters, and where they are attached.
fn with_filters(base: &DevicePlan, after: &DevicePlan) -> DevicePlan {
    let mut plan = DevicePlan { acls: after.acls.clone(), ..base.clone() };
    for (own, new) in plan.interfaces.iter_mut().zip(&after.interfaces) {
        (own.ingress_acl, own.egress_acl) = (new.ingress_acl, new.egress_acl);
    }
    plan
}

/// Addresses, segments and realms of the interfaces; their filters are named by position in the
/// old plan's list, so they stay.
fn with_interfaces(base: &DevicePlan, after: &DevicePlan) -> DevicePlan {
    let mut plan = DevicePlan { interfaces: after.interfaces.clone(), ..base.clone() };
    for (new, own) in plan.interfaces.iter_mut().zip(&base.interfaces) {
        (new.ingress_acl, new.egress_acl) = (own.ingress_acl, own.egress_acl);
    }
    plan
}

/// The old rules in the order of the new plan.
fn in_order(base: &DevicePlan, after: &DevicePlan) -> DevicePlan {
    let mut plan = base.clone();
    let place = |name: &str| after.rules.iter().position(|r| r.name == name);
    plan.rules.sort_by_key(|r| place(&r.name).unwrap_or(usize::MAX));
    plan
}
