//! From a draft to a plan: resolves every name, and collects everything that is wrong instead of
//! stopping at the first.

mod behaviour;
mod conflicts;
mod device;
mod expect;
mod groups;
mod names;
mod rule;
mod rule_ends;
mod world;

use std::collections::HashMap;
use std::sync::Arc;

use foldhash::fast::RandomState;

use super::{Draft, Place, Placed, Plan, PlanError, Problem, Problems};
use crate::limits;
use crate::net::{AddressSet, NotationError, ServiceSet};
use groups::Groups;
use names::{Scope, World};

/// Builds a plan, or reports every problem of the draft, in the order of their places.
///
/// # Errors
/// What is wrong with the draft; of very many problems those that were found first, and their
/// number.
pub fn build(draft: &Draft) -> Result<Plan, Problems> {
    let mut problems = Problems::default();
    if !within_limits(draft, &mut problems) {
        return Err(problems);
    }
    let groups = Groups::new(draft, &mut problems);
    let mut builder =
        Builder { groups, problems, world: World::default(), scope: Scope::default() };
    let plan = builder.plan(draft);
    let mut problems = builder.problems;
    if problems.is_empty() {
        return Ok(plan);
    }
    problems.sort();
    Err(problems)
}

/// Whether there is no more of anything than can be numbered, or than a plan may have.
fn within_limits(draft: &Draft, problems: &mut Problems) -> bool {
    let mut fits = problems.limit("hosts", limits::HOSTS, draft.hosts.iter().map(|h| h.place));
    fits &= problems.limit("segments", limits::SEGMENTS, draft.segments.iter().map(|s| s.place));
    fits &= problems.limit("devices", limits::DEVICES, draft.devices.iter().map(|d| d.place));
    for device in &draft.devices {
        fits &= problems.limit(
            "interfaces",
            limits::INTERFACES,
            device.interfaces.iter().map(|i| i.place),
        );
        fits &= problems.limit("routes", limits::ROUTES, device.routes.iter().map(|r| r.place));
        fits &= problems.limit(
            "policy entries",
            limits::ENTRIES,
            device.policies.iter().map(|p| p.place),
        );
        let entries = device.acls.iter().flat_map(|a| a.entries.iter().map(|e| e.place));
        fits &= problems.limit("entries of filters", limits::ENTRIES, entries);
        fits &= problems.limit("filters", limits::FILTERS, device.acls.iter().map(|a| a.place));
        fits &= problems.limit("pools", limits::POOLS, device.pools.iter().map(|p| p.place));
        fits &= problems.limit("rules", limits::RULES, device.rules.iter().map(|r| r.place));
    }
    fits
}

type Text = Placed<String>;

/// What building needs all along: the named groups, and the list of problems.
struct Builder {
    groups: Groups,
    problems: Problems,
    /// Who is called what in the plan.
    world: World,
    /// What is called what on the device that is being built.
    scope: Scope,
}

impl Builder {
    fn plan(&mut self, draft: &Draft) -> Plan {
        let mut plan = Plan {
            title: draft.title.as_ref().map(|t| t.value.clone()).unwrap_or_default(),
            ..Plan::default()
        };
        self.unique("segment", draft.segments.iter().map(|s| &s.name));
        self.unique(
            "host or device",
            draft.hosts.iter().map(|h| &h.name).chain(draft.devices.iter().map(|d| &d.name)),
        );
        self.segments(draft, &mut plan);
        for device in &draft.devices {
            if let Some(device) = self.device(device, &mut plan) {
                plan.devices.push(Arc::new(device));
            }
        }
        if plan.segments.len() > limits::SEGMENTS {
            let place = draft.devices.last().map_or_else(Place::default, |d| d.place);
            self.report(PlanError::TooMany { what: "segments", most: limits::SEGMENTS }, place);
            return plan;
        }
        self.hosts(draft, &mut plan);
        self.world.enter(&plan);
        self.held_twice(&plan);
        plan.expectations =
            draft.expects.iter().filter_map(|e| self.expectation(e, &plan)).collect();
        plan.allow = draft.allow.iter().filter_map(|t| self.finding_name("allow", t)).collect();
        plan.deny = draft.deny.iter().filter_map(|t| self.finding_name("deny", t)).collect();
        for (name, _) in &draft.addresses {
            let set = self.groups.addresses(name, &mut self.problems).iter().map(|p| p.0).collect();
            plan.groups.insert(name.value.clone(), set);
        }
        plan
    }

    /// The name of a finding of `check`.
    fn finding_name(&mut self, key: &'static str, text: &Text) -> Option<String> {
        let names = crate::finding::FINDINGS.iter().map(|f| (f.name, f.name)).collect::<Vec<_>>();
        self.one_of(key, text, &names).map(str::to_owned)
    }

    fn report(&mut self, error: impl Into<PlanError>, place: Place) {
        self.problems.push(Problem::new(error.into(), place));
    }

    /// Takes the value of a result, or reports its error at `place`.
    fn take<T, E: Into<PlanError>>(&mut self, result: Result<T, E>, place: Place) -> Option<T> {
        result.map_err(|e| self.report(e, place)).ok()
    }

    /// Parses one piece of notation.
    fn parse<T: std::str::FromStr<Err = NotationError>>(&mut self, text: &Text) -> Option<T> {
        self.take(text.value.trim().parse(), text.place)
    }

    /// The addresses of a list of notations and group names.
    fn addresses(&mut self, texts: &[Text]) -> AddressSet {
        let parts: Vec<_> =
            texts.iter().map(|t| self.groups.addresses(t, &mut self.problems)).collect();
        parts.iter().flat_map(|p| p.iter().map(|part| part.0)).collect()
    }

    /// The same, everything where the list is left out.
    fn addresses_or_all(&mut self, texts: Option<&Vec<Text>>) -> AddressSet {
        texts.map_or_else(AddressSet::all, |t| self.addresses(t))
    }

    /// The services of a list of notations and group names.
    fn services(&mut self, texts: &[Text]) -> ServiceSet {
        let named: Vec<_> =
            texts.iter().map(|t| self.groups.services(t, &mut self.problems)).collect();
        ServiceSet(named.iter().flat_map(|n| n.iter().copied()).collect())
    }

    /// The same, everything where the list is left out.
    fn services_or_any(&mut self, texts: Option<&Vec<Text>>) -> ServiceSet {
        texts.map_or_else(ServiceSet::any, |t| self.services(t))
    }

    /// One of a fixed list of values.
    fn one_of<T: Copy>(
        &mut self,
        key: &'static str,
        text: &Text,
        values: &[(&str, T)],
    ) -> Option<T> {
        let found = values.iter().find(|(name, _)| *name == text.value).map(|v| v.1);
        if found.is_none() {
            let names = || values.iter().map(|v| v.0);
            let valid = names().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(", ");
            let near = self.problems.nearest(&text.value, names());
            self.report(
                PlanError::UnknownValue { key, value: text.value.clone(), near, valid },
                text.place,
            );
        }
        found
    }

    /// Reports names that occur twice.
    fn unique<'a>(&mut self, what: &'static str, names: impl Iterator<Item = &'a Text>) {
        let mut seen: HashMap<&str, Place, RandomState> = HashMap::default();
        for name in names {
            if let Some(first) = seen.get(name.value.as_str()) {
                let error = PlanError::DuplicateName { what, name: name.value.clone() };
                self.problems.push(Problem::between(
                    error,
                    name.place,
                    *first,
                    "first defined here",
                ));
            } else {
                seen.insert(&name.value, name.place);
            }
        }
    }

    /// Reports a name that nothing has, with the nearest that something has.
    fn unknown<'a>(
        &mut self,
        what: &'static str,
        text: &Text,
        names: impl Iterator<Item = &'a str>,
    ) {
        let near = self.problems.nearest(&text.value, names);
        self.report(PlanError::UnknownName { what, name: text.value.clone(), near }, text.place);
    }
}
