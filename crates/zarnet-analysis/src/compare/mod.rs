//! The table that a device really has, held against the one that is predicted: what is missing,
//! what is there besides, what is different, each with its likely cause. What a device chooses
//! freely is no difference.

use std::collections::{HashMap, HashSet};
use std::net::IpAddr;

use zarnet_core::device::MappingRow;
use zarnet_core::named;
use zarnet_core::net::Protocol;
use zarnet_core::plan::{DeviceId, DevicePlan, RuleId};
use zarnet_core::predict::Prediction;
use zarnet_core::traffic::{Flow, Party};
use zarnet_formats::observed::Observed;
use zarnet_formats::traffic::Begun;

/// How the two tables differ in an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Predicted, and not there.
    Missing,
    /// There, and not predicted.
    Extra,
    /// The same internal end with another external one.
    Different,
}

impl Kind {
    /// The stable name, as JSON and CSV have it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Missing => "missing",
            Self::Extra => "extra",
            Self::Different => "different",
        }
    }
}

named! {
    /// Why an entry differs.
    Why {
        RuleMissing, "rule-missing-on-device",
            "No entry of this rule is there: the device may not have the rule, or not enabled.",
            "No entry of this rule is there. Is the rule entered on the device, and enabled?",
            "";
        ExpiredThere, "expired-there",
            "It has been idle; the device gave it up sooner than predicted.",
            "The entry has been idle. Are the device's timers shorter than the plan's?",
            "";
        NeverArrived, "never-arrived",
            "It is in use by the traffic, and the device has none: the packets may not reach it.",
            "The entry is in use by the traffic, and the device has none. Do the packets reach \
             it?",
            "";
        OldRuleAlive, "old-rule-alive",
            "A rule that is disabled explains it: its session is still alive.",
            "A rule that is disabled in the plan explains it; its sessions live until they end or \
             are cleared.",
            "";
        RefusedHere, "refused-here",
            "The traffic has it, and it was refused for want of an address, a port or room.",
            "The traffic has it, and it was refused for want of room by prediction.",
            "";
        ExpiredHere, "expired-here",
            "The traffic has it, and by prediction it has ended by now.",
            "The traffic has it, and it has ended by prediction. Are the device's timers longer?",
            "";
        NotInTraffic, "not-in-traffic",
            "A rule explains it; the traffic has nothing like it.",
            "A rule explains it; nothing in the traffic is like it. Is the traffic complete?",
            "";
        NoRuleExplains, "no-rule-explains",
            "No rule of the plan translates like this.",
            "No rule of the plan translates so. Does the device run something else?",
            "";
        OtherAddress, "other-address-chosen",
            "The same rule, another external address.",
            "The same rule, another of its addresses. A different `pick`, or another order of \
             arrival.",
            "";
        OtherPort, "other-port-chosen",
            "The same external address, another port.",
            "The same address, another port. `port-assignment` may be another.",
            "";
        OtherRule, "other-rule",
            "Another rule of the plan gives this external end.",
            "An external end that this rule cannot give, and another rule of the plan can.",
            "";
    }
}

/// An entry that differs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Difference {
    /// How the two tables differ there.
    pub kind: Kind,
    /// The likely reason of the difference.
    pub why: Why,
    /// The entry as predicted, with its device.
    pub predicted: Option<(DeviceId, MappingRow)>,
    /// The entry that is there.
    pub observed: Option<Observed>,
}

/// The result of comparing a predicted table with an observed one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Comparison {
    /// Number of entries that agree.
    pub same: u64,
    /// Those that do not, the missing first.
    pub differences: Vec<Difference>,
    /// Fixed entries without a session that the table does not list, as none of its kind.
    pub fixed_not_listed: u64,
}

/// Holds a table against a prediction. `begun` tells which internal ends began flows in the
/// traffic; ports that a host chose itself are in it as they were chosen, if they are known.
pub fn compare(prediction: &Prediction, observed: &[Observed], begun: &Begun) -> Comparison {
    let mut by_internal: HashMap<(DeviceId, IpAddr, u16), Vec<usize>> = HashMap::new();
    for (i, o) in observed.iter().enumerate() {
        by_internal.entry((o.device, o.internal.address, o.internal.port)).or_default().push(i);
    }
    let mut matched = vec![false; observed.len()];
    let mut comparison = Comparison { same: 0, differences: Vec::new(), fixed_not_listed: 0 };
    let mut missing: Vec<(DeviceId, MappingRow)> = Vec::new();
    // rules of which the device has anything at all
    let mut of_rule: HashSet<(DeviceId, RuleId)> = HashSet::new();
    for table in &prediction.tables {
        let device = &prediction.plan.devices[table.device.index()];
        for row in &table.mappings {
            let key = (table.device, row.internal.address, row.internal.port);
            let candidates = by_internal.get(&key).map_or(&[][..], Vec::as_slice);
            let fits = |i: &&usize| {
                !matched[**i]
                    && agree(row.protocol, observed[**i].protocol)
                    && same_peer(row, &observed[**i])
            };
            let exact =
                candidates.iter().filter(fits).find(|i| observed[**i].external == row.external);
            let Some(&i) = exact.or_else(|| candidates.iter().find(fits)) else {
                missing.push((table.device, *row));
                continue;
            };
            matched[i] = true;
            of_rule.insert((table.device, row.rule));
            match difference(device, row, &observed[i]) {
                None => comparison.same += 1,
                Some(why) => comparison.differences.push(Difference {
                    kind: Kind::Different,
                    why,
                    predicted: Some((table.device, *row)),
                    observed: Some(observed[i]),
                }),
            }
        }
    }
    let lists_fixed = of_rule
        .iter()
        .any(|(d, r)| prediction.plan.devices[d.index()].rules[r.index()].kind.is_fixed());
    for (device, row) in missing {
        // many devices show fixed entries only while a session uses them
        if row.fixed && row.sessions == 0 && !lists_fixed {
            comparison.fixed_not_listed += 1;
            continue;
        }
        let why = match of_rule.contains(&(device, row.rule)) {
            false => Why::RuleMissing,
            true if row.last_active.is_some_and(|l| l < prediction.at) => Why::ExpiredThere,
            true => Why::NeverArrived,
        };
        let predicted = Some((device, row));
        comparison.differences.push(Difference {
            kind: Kind::Missing,
            why,
            predicted,
            observed: None,
        });
    }
    let refused = refused(prediction);
    for (_, o) in observed.iter().enumerate().filter(|(i, _)| !matched[*i]) {
        let why = extra(prediction, o, begun, &refused);
        comparison.differences.push(Difference {
            kind: Kind::Extra,
            why,
            predicted: None,
            observed: Some(*o),
        });
    }
    let order = |d: &Difference| match d.kind {
        Kind::Missing => 0,
        Kind::Different => 1,
        Kind::Extra => 2,
    };
    comparison.differences.sort_by_key(order);
    comparison
}

fn agree(a: Option<Protocol>, b: Option<Protocol>) -> bool {
    a.is_none() || b.is_none() || a == b
}

fn same_peer(row: &MappingRow, observed: &Observed) -> bool {
    match (row.peer, observed.peer) {
        (Some(a), Some(b)) => {
            a.address == b.address && (a.port == 0 || b.port == 0 || a.port == b.port)
        }
        _ => true,
    }
}

/// Why an entry with the same internal end is not the same; `None` if the device was free to choose
/// so.
fn difference(device: &DevicePlan, row: &MappingRow, observed: &Observed) -> Option<Why> {
    if observed.external == row.external {
        return None;
    }
    let rule = &device.rules[row.rule.index()];
    let others = |enabled| is_of_rule(device, observed, enabled);
    let other = || match (others(true), others(false)) {
        (true, _) => Why::OtherRule,
        (false, true) => Why::OldRuleAlive,
        (false, false) => Why::NoRuleExplains,
    };
    let own = observed.external.address == row.external.address;
    let in_target = device.external_addresses(rule).contains(observed.external.address);
    match (own, in_target) {
        (true, _) | (false, true) if row.freely => None,
        // what a fixed rule gives is no choice
        _ if row.fixed => Some(other()),
        (true, _) => Some(Why::OtherPort),
        (false, true) => Some(Why::OtherAddress),
        (false, false) => Some(other()),
    }
}

/// Whether a rule that is enabled, or one that is not, may have made an entry.
fn is_of_rule(device: &DevicePlan, observed: &Observed, enabled: bool) -> bool {
    let Observed { protocol, internal, external, .. } = *observed;
    let mut rules = device.rules.iter().filter(|r| r.enabled == enabled);
    rules.any(|r| device.may_have_made(r, protocol, internal, external))
}

/// Internal addresses that were refused for want of something.
fn refused(prediction: &Prediction) -> HashSet<IpAddr> {
    let flows = prediction.not_translated.iter().filter(|n| n.reason.is_shortage());
    flows.filter_map(|n| source(prediction, &n.flow)).collect()
}

fn source(prediction: &Prediction, flow: &Flow) -> Option<IpAddr> {
    match flow.source {
        Party::Address(address) => Some(address),
        Party::Host(id) => Some(prediction.plan.hosts[id.index()].address),
        Party::Device(_) | Party::Interface(..) => None,
    }
}

fn extra(
    prediction: &Prediction,
    observed: &Observed,
    begun: &Begun,
    refused: &HashSet<IpAddr>,
) -> Why {
    let device = &prediction.plan.devices[observed.device.index()];
    let rule = |enabled| is_of_rule(device, observed, enabled);
    let (address, port) = (observed.internal.address, observed.internal.port);
    let protocols =
        begun.iter().filter(|b| b.1 == address && (b.2 == port || port == 0 || b.2 == 0));
    let in_traffic = protocols.into_iter().any(|b| agree(Some(b.0), observed.protocol));
    match (rule(true), rule(false)) {
        (false, true) => Why::OldRuleAlive,
        (false, false) => Why::NoRuleExplains,
        (true, _) if refused.contains(&address) => Why::RefusedHere,
        (true, _) if in_traffic => Why::ExpiredHere,
        (true, true) => Why::OldRuleAlive,
        (true, false) => Why::NotInTraffic,
    }
}
