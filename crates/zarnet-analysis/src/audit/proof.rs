//! Which rules, policy entries and filter entries ever decide about a packet, and which are hidden
//! by those above them: a rule that is told to be shadowed is.

use std::collections::BTreeMap;

use super::looked::{INBOUND, Looked, Seen, do_the_same};
use super::{Finding, finding};
use zarnet_core::device::Device;
use zarnet_core::net::Packet;
use zarnet_core::plan::edit::Edit;
use zarnet_core::plan::{self, DeviceId, RuleId};

/// All that is found on a device, by what its packets have shown.
pub(super) fn find(device: &Device, id: DeviceId, looked: &Looked, findings: &mut Vec<Finding>) {
    let proof = Proof { device, id, looked };
    proof.tell_rules(findings);
    proof.tell_policies(findings);
    proof.tell_filters(findings);
}

/// That nothing can be said of a device, for there would be too much to go through.
pub(super) fn unproved(plan: &plan::DevicePlan) -> Finding {
    let message = format!(
        "`{}` has more classes of packets than are searched: nothing is proved about it",
        plan.name
    );
    let help = "docs/limits.md says why there is a limit; fewer addresses on interfaces, or fewer \
         different conditions, \
                bring it below"
        .to_owned();
    finding("not-proved", message, vec![plan.place], help)
}

struct Proof<'a> {
    device: &'a Device,
    id: DeviceId,
    looked: &'a Looked,
}

impl Proof<'_> {
    fn name(&self, rule: RuleId) -> &str {
        &self.device.plan().rules[rule.index()].name
    }

    fn tell_rules(&self, findings: &mut Vec<Finding>) {
        let plan = self.device.plan();
        for (i, seen) in self.looked.rules.iter().enumerate() {
            let (id, rule) = (RuleId(i as u16), &plan.rules[i]);
            let lost = [&rule.from, &rule.into].iter().any(|z| z.interfaces.is_empty());
            if !rule.enabled || lost {
                continue;
            }
            match (seen.applied, seen.beaten.iter().flatten().next()) {
                (false, Some((by, witness))) => {
                    findings.push(self.shadowed(id, *by, *witness, seen))
                }
                (false, None) => {
                    let message = format!(
                        "rule `{}` has no effect: no packet meets all its conditions",
                        rule.name
                    );
                    let help = "look at its `from`, `into`, `source` and `service`, and at \
                                routes, filters and policy before it"
                        .to_owned();
                    findings.push(finding("rule-never-matches", message, vec![rule.place], help));
                }
                (true, _) => self.tell_overlaps(id, seen, findings),
            }
            let fixed = rule.kind.is_fixed();
            if let Some(witness) = seen.refused.filter(|_| fixed) {
                let (name, message, help) = if seen.passed {
                    (
                        "translation-wider-than-policy",
                        format!("rule `{}` leads more in than the policy passes", rule.name),
                        "narrow the rule by `service` or `source` to what is meant, or widen the \
                         policy",
                    )
                } else {
                    (
                        "refused-by-policy",
                        format!(
                            "rule `{}` leads packets in, and the policy drops every one of them",
                            rule.name
                        ),
                        "a rule alone opens nothing: add a policy entry for it",
                    )
                };
                findings.push(
                    finding(name, message, vec![rule.place], help.to_owned()).with_witness(witness),
                );
            }
        }
    }

    fn shadowed(&self, id: RuleId, by: RuleId, witness: Option<Packet>, seen: &Seen) -> Finding {
        let plan = self.device.plan();
        let names: Vec<String> = seen
            .beaten
            .iter()
            .flatten()
            .map(|b| b.0)
            .take(3)
            .map(|r| format!("`{}`", self.name(*r)))
            .collect();
        let more = if seen.beaten.iter().map(BTreeMap::len).sum::<usize>() > 3 {
            " and others"
        } else {
            ""
        };
        let message = format!(
            "rule `{}` is never applied: {}{more} takes all that it is for",
            self.name(id),
            names.join(", ")
        );
        // what a fixed rule takes would be lost to it above
        let is_fixed = plan.rules[by.index()].kind.is_fixed();
        let help = match is_fixed {
            true => format!("take it out, or narrow `{}`", self.name(by)),
            false => format!("list it above `{}`, or take it out", self.name(by)),
        };
        let places = vec![plan.rules[id.index()].place, plan.rules[by.index()].place];
        let move_up = (by < id && !is_fixed).then_some(Edit::MoveRule(self.id, id, by));
        Finding { witness, ..finding("rule-shadowed", message, places, help) }
            .with_edits(move_up.into_iter().collect())
    }

    /// Rules above that take part of what a rule is for, and are no mere exceptions from it.
    fn tell_overlaps(&self, id: RuleId, seen: &Seen, findings: &mut Vec<Finding>) {
        let plan = self.device.plan();
        let rule = &plan.rules[id.index()];
        if let Some(Some(double)) = seen.double {
            let message = format!(
                "rule `{}` changes nothing: `{}` would do the same for all that it is for",
                rule.name,
                self.name(double)
            );
            let places = vec![rule.place, plan.rules[double.index()].place];
            findings.push(finding("rule-redundant", message, places, "take it out".to_owned()));
        }
        let fixed = |r: RuleId| plan.rules[r.index()].kind.is_fixed();
        let all =
            seen.beaten.iter().enumerate().flat_map(|(way, b)| b.iter().map(move |b| (way, b)));
        // what a fixed rule does on the way out is an exception, or told as `static-below-overload`
        let all = all.filter(|(way, (by, _))| *way == INBOUND || !fixed(id) && !fixed(**by));
        let mut conflicts = all.filter(|(way, (by, _))| {
            let inside = self.looked.rules[by.index()].company[*way]
                .as_ref()
                .is_some_and(|c| c.contains(&id));
            !inside && !do_the_same(self.device, **by, id)
        });
        let conflict = conflicts.next().map(|c| c.1);
        if let Some((by, witness)) = conflict {
            let message = format!(
                "rule `{}` is not applied to all that it is for: `{}` takes some of it",
                rule.name,
                self.name(*by)
            );
            let help = format!(
                "if that is not meant, narrow `{}`, or list `{}` above it",
                self.name(*by),
                rule.name
            );
            let places = vec![rule.place, plan.rules[by.index()].place];
            let found = finding("rule-partly-shadowed", message, places, help);
            findings.push(Finding { witness: *witness, ..found });
        }
    }

    fn tell_policies(&self, findings: &mut Vec<Finding>) {
        let plan = self.device.plan();
        for (entry, _) in
            plan.policies.iter().zip(&self.looked.policies).filter(|(_, seen)| !**seen)
        {
            let message =
                format!("this policy entry of `{}` has no effect: no packet reaches it", plan.name);
            let help = "entries above it, or filters and routes before the policy, decide about \
                        all that it is for: move it up, or take it out"
                .to_owned();
            findings.push(finding("policy-entry-shadowed", message, vec![entry.place], help));
        }
    }

    fn tell_filters(&self, findings: &mut Vec<Finding>) {
        let plan = self.device.plan();
        for (i, acl) in plan.acls.iter().enumerate() {
            let attached =
                plan.interfaces.iter().flat_map(|f| [f.ingress_acl, f.egress_acl]).flatten();
            if !attached.into_iter().any(|a| a.index() == i) {
                continue;
            }
            for (entry, _) in acl
                .entries
                .iter()
                .zip(&self.looked.entries[i])
                .filter(|(e, seen)| !**seen && !e.answers)
            {
                let message = format!(
                    "this entry of filter `{}` has no effect: no packet reaches it",
                    acl.name
                );
                let help =
                    "entries above it decide about all that it is for: move it up, or take it out"
                        .to_owned();
                findings.push(finding(
                    "filter-entry-shadowed",
                    message,
                    vec![entry.place, acl.place],
                    help,
                ));
            }
        }
    }
}
