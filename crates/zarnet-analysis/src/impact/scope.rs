//! Where a change of a device can show at all. Where only rules differ, that is what those rules are
//! for: packets that none of them is for are as they were, and need not be gone through.

use std::collections::{HashMap, HashSet};

use crate::space::{Constraint, Field, Intervals};
use zarnet_core::device::Device;
use zarnet_core::net::AddressSet;
use zarnet_core::plan::{
    Acl, DevicePlan, Interface, InterfaceId, InterfaceSet, Policy, Pool, RealmSet, Route, Rule,
    RuleId,
};

/// More products than this are no small change: each is gone through for itself.
const MOST_PARTS: usize = 12;

/// Packets that a change may show in.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) struct Part {
    /// The packets, as a product of sets.
    pub packets: Constraint,
    /// The interfaces that they come in by; `None` for any.
    ingress: Option<InterfaceSet>,
}

impl Part {
    /// Whether it is of any account for what comes in by an interface.
    pub(super) fn concerns(&self, ingress: InterfaceId) -> bool {
        self.ingress.as_ref().is_none_or(|set| set.contains(ingress))
    }
}

/// The parts outside of which nothing changes; `None` if it may change anywhere.
pub(super) fn scope(before: &Device, after: &Device) -> Option<Vec<Part>> {
    let (old, new) = (before.plan(), after.plan());
    if !differ_in_rules_only(old, new) {
        return None;
    }
    let (gone, came) = changed_rules(before, after);
    let claimed = |a: &Device, b: &Device| {
        let (a, b) = (Intervals::addresses(a.claimed()), Intervals::addresses(b.claimed()));
        let packets = Constraint::default().with(Field::Destination, a.difference(&b));
        Part { packets, ingress: None }
    };
    let mut scope = vec![claimed(before, after), claimed(after, before)];
    for (device, rules) in [(before, gone), (after, came)] {
        scope.extend(rules.iter().flat_map(|id| of_rule(device, *id)));
    }
    let mut known = HashSet::new();
    scope.retain(|part| !part.packets.is_empty() && known.insert(part.clone()));
    // a product without a condition is everything
    let is_small =
        scope.len() <= MOST_PARTS && scope.iter().all(|part| !part.packets.is_everything());
    is_small.then_some(scope)
}

/// What a rule may take part in: packets from its senders by the interfaces that it is for, and
/// packets to its external end by any, for that is held even against those that it lets in nowhere.
fn of_rule(device: &Device, id: RuleId) -> Vec<Part> {
    let rule = &device.plan().rules[id.index()];
    let one =
        |field, set: &AddressSet| Constraint::default().with(field, Intervals::addresses(set));
    let mut by = rule.from.interfaces.clone();
    by.extend(&rule.hairpin.interfaces);
    let mut parts = vec![Part { packets: one(Field::Source, &rule.senders()), ingress: Some(by) }];
    let external = rule.kind.external().and_then(|e| device.external_of(e));
    parts.extend(
        external.map(|end| Part { packets: one(Field::Destination, &end.into()), ingress: None }),
    );
    parts
}

/// The rules of either device that the other does not have, or has otherwise or in another order.
fn changed_rules(before: &Device, after: &Device) -> (Vec<RuleId>, Vec<RuleId>) {
    let (old, new) = (before.plan(), after.plan());
    let place: HashMap<&str, usize> =
        new.rules.iter().enumerate().map(|(i, r)| (r.name.as_str(), i)).collect();
    let same = |i: usize| {
        let j = *place.get(old.rules[i].name.as_str())?;
        let (a, b) = (RuleId(i as u16), RuleId(j as u16));
        let is_same = are_the_same(&old.rules[i], &new.rules[j])
            && before.is_enabled(a) == after.is_enabled(b)
            && before.targets_of_rule(a) == after.targets_of_rule(b);
        is_same.then_some((i, j))
    };
    let pairs: Vec<(usize, usize)> = (0..old.rules.len()).filter_map(same).collect();
    let kept = longest_rise(&pairs);
    let (mut stay_old, mut stay_new) = (vec![false; old.rules.len()], vec![false; new.rules.len()]);
    for (i, j) in kept {
        (stay_old[i], stay_new[j]) = (true, true);
    }
    let others = |stay: Vec<bool>| {
        let all = stay.into_iter().enumerate().filter(|s| !s.1);
        all.map(|(i, _)| RuleId(i as u16)).collect()
    };
    (others(stay_old), others(stay_new))
}

/// The longest run of pairs, in order of the first, that is in order of the second too.
fn longest_rise(pairs: &[(usize, usize)]) -> Vec<(usize, usize)> {
    // by length, the end of a run of that length that ends lowest; and what comes before each pair
    let (mut ends, mut before): (Vec<usize>, Vec<Option<usize>>) = (Vec::new(), Vec::new());
    for (at, pair) in pairs.iter().enumerate() {
        let length = ends.partition_point(|end| pairs[*end].1 < pair.1);
        before.push(length.checked_sub(1).map(|shorter| ends[shorter]));
        if length == ends.len() {
            ends.push(at);
        } else {
            ends[length] = at;
        }
    }
    let mut run: Vec<(usize, usize)> =
        std::iter::successors(ends.last().copied(), |at| before[*at]).map(|at| pairs[at]).collect();
    run.reverse();
    run
}

fn differ_in_rules_only(a: &DevicePlan, b: &DevicePlan) -> bool {
    a.behaviour == b.behaviour
        && a.forwarding == b.forwarding
        && a.default_policy == b.default_policy
        && all(&a.interfaces, &b.interfaces, same_interface)
        && all(&a.routes, &b.routes, same_route)
        && all(&a.acls, &b.acls, same_acl)
        && all(&a.policies, &b.policies, same_policy)
        && all(&a.pools, &b.pools, same_pool)
}

fn all<T>(a: &[T], b: &[T], same: impl Fn(&T, &T) -> bool) -> bool {
    a.len() == b.len() && a.iter().zip(b).all(|(a, b)| same(a, b))
}

/// As far as first packets show it; so are the following.
fn are_the_same(a: &Rule, b: &Rule) -> bool {
    a.kind == b.kind
        && a.retired == b.retired
        && a.from.interfaces == b.from.interfaces
        && a.into.interfaces == b.into.interfaces
        && a.hairpin.interfaces == b.hairpin.interfaces
        && a.parties == b.parties
        && a.service == b.service
        && a.limit == b.limit
}

fn same_interface(a: &Interface, b: &Interface) -> bool {
    a.name == b.name
        && a.realm == b.realm
        && a.segment == b.segment
        && a.addresses == b.addresses
        && a.also == b.also
        && a.proxy_arp == b.proxy_arp
        && a.ping == b.ping
        && a.services == b.services
        && (a.ingress_acl, a.egress_acl) == (b.ingress_acl, b.egress_acl)
}

fn same_route(a: &Route, b: &Route) -> bool {
    let condition = match (&a.condition, &b.condition) {
        (None, None) => true,
        (Some(a), Some(b)) => a.source == b.source && same_realms(a.from.as_ref(), b.from.as_ref()),
        (Some(_), None) | (None, Some(_)) => false,
    };
    a.to == b.to && a.via == b.via && a.interface == b.interface && condition
}

fn same_acl(a: &Acl, b: &Acl) -> bool {
    all(&a.entries, &b.entries, |a, b| {
        a.verdict == b.verdict
            && a.service == b.service
            && a.source_service == b.source_service
            && a.parties == b.parties
            && a.answers == b.answers
    })
}

fn same_policy(a: &Policy, b: &Policy) -> bool {
    a.verdict == b.verdict
        && a.service == b.service
        && a.parties == b.parties
        && same_realms(a.from.as_ref(), b.from.as_ref())
        && same_realms(a.into.as_ref(), b.into.as_ref())
}

fn same_pool(a: &Pool, b: &Pool) -> bool {
    a.name == b.name
        && a.parts == b.parts
        && a.pick == b.pick
        && a.usable_all == b.usable_all
        && a.retired == b.retired
}

fn same_realms(a: Option<&RealmSet>, b: Option<&RealmSet>) -> bool {
    a.map(|a| &a.interfaces) == b.map(|b| &b.interfaces)
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use proptest::prelude::*;
    use zarnet_core::network::taken;

    use super::super::Pair;
    use super::*;
    use crate::space::Steps;

    /// A device with some rules, each of one of a few kinds.
    fn device(rules: &[(u8, u8, bool)]) -> Device {
        let mut text = String::from(
            "[[segment]]\nname = \"world\"\ninternet = true\n[[device]]\nname = \"edge\"\n  \
             [[device.interface]]\n  name = \"in\"\n  realm = \"internal\"\n  address = \
             \"10.0.0.1/24\"\n  [[device.interface]]\n  name = \"out\"\n  realm = \"external\"\n  \
             segment = \"world\"\n  address = \"192.0.2.1/28\"\n  [[device.route]]\n  to = \
             \"0.0.0.0/0\"\n  via = \"192.0.2.14\"\n  [[device.pool]]\n  name = \"lines\"\n  \
             addresses = \"192.0.2.4-192.0.2.9\"\n  [[device.policy]]\n  from = \"external\"\n  into \
             = \"internal\"\n  accept = \"80/tcp\"\n",
        );
        for (kind, n, enabled) in rules {
            let name = format!("r{kind}-{n}");
            let keys = match kind {
                0 => format!(
                    "type = \"static\"\n  internal = \"10.0.0.{}\"\n  external = \"192.0.2.{}\"",
                    5 + n,
                    3 + n
                ),
                1 => format!(
                    "type = \"forward\"\n  external = \"out:{}/tcp\"\n  internal = \"10.0.0.{}:80\"",
                    8000 + u16::from(*n),
                    5 + n
                ),
                2 => format!(
                    "type = \"overload\"\n  source = \"10.0.0.{}/30\"\n  as = \"out\"",
                    n * 4
                ),
                3 => format!(
                    "type = \"exempt\"\n  source = \"10.0.0.{}\"\n  destination = \"198.51.100.{n}\"",
                    4 + n
                ),
                _ => format!(
                    "type = \"pool\"\n  source = \"10.0.0.{}-10.0.0.{}\"\n  as = \"lines\"",
                    n,
                    n + 9
                ),
            };
            // some for more than one way in
            let more = match (kind, n % 2) {
                (0 | 1, 1) => "hairpin = [\"internal\"]",
                (2 | 3, 1) => "from = [\"internal\", \"external\"]",
                _ => "",
            };
            text += &format!(
                "  [[device.rule]]\n  name = \"{name}\"\n  enabled = {enabled}\n  {more}\n  \
                 {keys}\n"
            );
        }
        let loaded = zarnet_formats::plan::from_text(Path::new("p.toml"), text).unwrap();
        Device::new(&loaded.plan.devices[0], &taken(&loaded.plan), 0)
    }

    fn rules() -> impl Strategy<Value = Vec<(u8, u8, bool)>> {
        let rule = (0u8..5, 0u8..6, proptest::bool::weighted(0.8));
        proptest::collection::vec(rule, 1..8).prop_map(|mut all| {
            let mut seen = std::collections::HashSet::new();
            all.retain(|r| seen.insert((r.0, r.1)));
            all
        })
    }

    /// What is looked at closely is little, or it would be of no use.
    #[test]
    fn the_scope_of_a_small_change_is_small() {
        let rules = [(0, 1, true), (1, 2, true), (2, 3, true), (4, 4, true)];
        let mut changed = rules;
        changed[1].2 = false;
        let parts = scope(&device(&rules), &device(&changed)).unwrap();
        assert_eq!(parts.len(), 2, "its server and its external end: {parts:?}");
        assert_eq!(scope(&device(&rules), &device(&rules)), Some(Vec::new()));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(128))]

        /// A change that is looked at only where it can show is the same as one that is looked at
        /// everywhere.
        #[test]
        fn a_scope_leaves_nothing_out(
            rules in rules(),
            further in rules(),
            (out, to) in (0usize..8, 0usize..8),
            switched in 0usize..8,
        ) {
            let mut changed = rules.clone();
            if let Some(rule) = changed.get_mut(switched) {
                rule.2 = !rule.2;
            }
            if out < changed.len() && to < changed.len() {
                let rule = changed.remove(out);
                if to % 2 == 0 {
                    changed.insert(to, rule);
                }
            }
            let new = further.iter().take(1).filter(|f| changed.iter().all(|c| (c.0, c.1) != (f.0, f.1)));
            changed.extend(new.copied().collect::<Vec<_>>());
            let scoped = Pair::new(device(&rules), device(&changed));
            let whole = Pair { scope: None, before: device(&rules), after: device(&changed) };
            for i in 0..2 {
                let told = |pair: &Pair| {
                    let classes = pair.classes(InterfaceId(i), InterfaceId(i), &mut Steps::default());
                    let mut all: Vec<String> = classes
                        .unwrap_or_default()
                        .into_iter()
                        .map(|c| format!("{:?} {:?} {:?}", c.area, c.before, c.after))
                        .collect();
                    all.sort();
                    all
                };
                prop_assert_eq!(told(&scoped), told(&whole));
            }
        }
    }
}
