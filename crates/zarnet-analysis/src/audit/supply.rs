//! Findings on pools that nobody uses or that are small for those who use them, and on what the
//! plan expects of itself.

use std::sync::Arc;

use super::{Finding, finding};
use zarnet_core::plan::{DevicePlan, Fallback, Plan, Rule, RuleKind, Target, Verdict};
use zarnet_core::predict::Rehearsal;

pub(super) fn find(device: &DevicePlan, sizes: &[Option<u32>], findings: &mut Vec<Finding>) {
    let mut used = vec![false; device.pools.len()];
    for target in device.rules.iter().flat_map(targets) {
        if let Target::Pool(pool) = target {
            used[pool.index()] = true;
        }
    }
    for (i, pool) in device.pools.iter().enumerate() {
        if !used[i] {
            let message = format!("no rule uses pool `{}`", pool.name);
            findings.push(finding(
                "pool-unused",
                message,
                vec![pool.place],
                "use it, or take it out".to_owned(),
            ));
        }
    }
    for rule in device.rules.iter().filter(|r| r.enabled) {
        let RuleKind::Pool { pool, fallback: Fallback::Drop } = rule.kind else { continue };
        let (usable, hosts) = (sizes[pool.index()].unwrap_or(0), rule.parties.source.count());
        // whoever wrote 0.0.0.0/0 did not count
        if usable > 0 && hosts > u128::from(usable) && !rule.parties.source.is_all() {
            let message = format!(
                "rule `{}` is for {hosts} addresses, and its pool can lend {usable}",
                rule.name
            );
            let help =
                "`zarnet capacity` shows whether that is enough; `when-exhausted` gives the \
                 others a way"
                    .to_owned();
            let places = vec![rule.place, device.pools[pool.index()].place];
            findings.push(finding("pool-smaller-than-sources", message, places, help));
        }
    }
    for acl in &device.acls {
        if !acl.entries.is_empty() && acl.entries.iter().all(|e| e.verdict == Verdict::Drop) {
            let message = format!(
                "filter `{}` accepts nothing: after its entries everything is dropped",
                acl.name
            );
            let help = "add `{ accept = \"any\" }` as its last entry if only the others are meant"
                .to_owned();
            findings.push(finding("filter-drops-everything", message, vec![acl.place], help));
        }
    }
    for rule in device.rules.iter().filter(|r| !r.enabled) {
        let message = format!("rule `{}` is disabled", rule.name);
        let help = "`enabled = true`, or take it out".to_owned();
        findings.push(finding("rule-disabled", message, vec![rule.place], help));
    }
}

/// What a rule takes addresses from.
fn targets(rule: &Rule) -> impl Iterator<Item = Target> {
    let fallback =
        |fallback: &Fallback| if let Fallback::Overload(t) = fallback { Some(*t) } else { None };
    let both = match &rule.kind {
        RuleKind::Pool { pool, fallback: f } => [Some(Target::Pool(*pool)), fallback(f)],
        RuleKind::Overload { target, fallback: f } => [Some(*target), fallback(f)],
        RuleKind::Static(s) => [s.translate_as, None],
        RuleKind::Forward(f) => [f.translate_as, None],
        RuleKind::Exempt => [None, None],
    };
    both.into_iter().flatten()
}

/// Expectations that do not hold.
pub(super) fn expectations(plan: &Plan, findings: &mut Vec<Finding>) {
    if plan.expectations.is_empty() {
        return;
    }
    let mut rehearsal = Rehearsal::new(Arc::new(plan.clone()), 0);
    for expectation in &plan.expectations {
        if !rehearsal.expect(expectation).failed.is_empty() {
            let message = "this expectation does not hold".to_owned();
            let help =
                "`zarnet expect` shows what happens instead, `zarnet why` what to do".to_owned();
            findings.push(finding("expectation-fails", message, vec![expectation.place], help));
        }
    }
}
