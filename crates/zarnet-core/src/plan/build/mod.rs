//! From a draft to a plan: resolves every name, and collects everything that is wrong instead of stopping at the first.

mod behaviour;
mod conflicts;
mod device;
mod expect;
mod groups;
mod rule;
mod world;

use std::collections::HashMap;

use super::{Draft, Place, Placed, Plan, PlanError, Problem};
use crate::net::{AddressSet, NotationError, ServiceSet};
use groups::Groups;

/// Builds a plan, or reports every problem of the draft, in the order of their places.
pub fn build(draft: &Draft) -> Result<Plan, Vec<Problem>> {
    let mut problems = Vec::new();
    let groups = Groups::new(draft, &mut problems);
    let mut builder = Builder { groups, problems };
    let plan = builder.plan(draft);
    let mut problems = builder.problems;
    if problems.is_empty() {
        return Ok(plan);
    }
    problems.sort_by_key(|p| p.place);
    problems.dedup();
    Err(problems)
}

type Text = Placed<String>;

/// What building needs all along: the named groups, and the list of problems.
struct Builder {
    groups: Groups,
    problems: Vec<Problem>,
}

impl Builder {
    fn plan(&mut self, draft: &Draft) -> Plan {
        let mut plan =
            Plan { title: draft.title.as_ref().map(|t| t.value.clone()).unwrap_or_default(), ..Plan::default() };
        self.unique("segment", draft.segments.iter().map(|s| &s.name));
        self.unique("host or device", draft.hosts.iter().map(|h| &h.name).chain(draft.devices.iter().map(|d| &d.name)));
        self.segments(draft, &mut plan);
        for device in &draft.devices {
            if let Some(device) = self.device(device, &mut plan) {
                plan.devices.push(device);
            }
        }
        self.hosts(draft, &mut plan);
        self.held_twice(&plan);
        plan.expectations = draft.expects.iter().filter_map(|e| self.expectation(e, &plan)).collect();
        plan.allow = draft.allow.iter().filter_map(|t| self.finding_name("allow", t)).collect();
        plan.deny = draft.deny.iter().filter_map(|t| self.finding_name("deny", t)).collect();
        for (name, _) in &draft.addresses {
            let set = self.groups.addresses(name, &mut self.problems).into_iter().map(|p| p.0).collect();
            plan.groups.insert(name.value.clone(), set);
        }
        plan
    }

    /// The name of a finding of `check`.
    fn finding_name(&mut self, key: &'static str, text: &Text) -> Option<String> {
        let names = crate::audit::FINDINGS.iter().map(|f| (f.0, f.0)).collect::<Vec<_>>();
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
        let mut set = AddressSet::default();
        for text in texts {
            for (range, _) in self.groups.addresses(text, &mut self.problems) {
                set.insert(range);
            }
        }
        set
    }

    /// The same, everything where the list is left out.
    fn addresses_or_all(&mut self, texts: Option<&Vec<Text>>) -> AddressSet {
        texts.map_or_else(AddressSet::all, |t| self.addresses(t))
    }

    /// The services of a list of notations and group names.
    fn services(&mut self, texts: &[Text]) -> ServiceSet {
        ServiceSet(texts.iter().flat_map(|t| self.groups.services(t, &mut self.problems)).collect())
    }

    /// The same, everything where the list is left out.
    fn services_or_any(&mut self, texts: Option<&Vec<Text>>) -> ServiceSet {
        texts.map_or_else(ServiceSet::any, |t| self.services(t))
    }

    /// One of a fixed list of values.
    fn one_of<T: Copy>(&mut self, key: &'static str, text: &Text, values: &[(&str, T)]) -> Option<T> {
        let found = values.iter().find(|(name, _)| *name == text.value).map(|v| v.1);
        if found.is_none() {
            let names = || values.iter().map(|v| v.0);
            let valid = names().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(", ");
            let near = nearest(&text.value, names());
            self.report(PlanError::UnknownValue { key, value: text.value.clone(), near, valid }, text.place);
        }
        found
    }

    /// Reports names that occur twice.
    fn unique<'a>(&mut self, what: &'static str, names: impl Iterator<Item = &'a Text>) {
        let mut seen: HashMap<&str, Place> = HashMap::new();
        for name in names {
            if let Some(first) = seen.get(name.value.as_str()) {
                let error = PlanError::DuplicateName { what, name: name.value.clone() };
                self.problems.push(Problem::between(error, name.place, *first, "first defined here"));
            } else {
                seen.insert(&name.value, name.place);
            }
        }
    }

    /// The position of a name in a list, or a problem that proposes the nearest.
    fn lookup<'a>(
        &mut self,
        what: &'static str,
        text: &Text,
        names: impl Iterator<Item = &'a str> + Clone,
    ) -> Option<usize> {
        let found = names.clone().position(|n| n == text.value);
        if found.is_none() {
            let error = PlanError::UnknownName { what, name: text.value.clone(), near: nearest(&text.value, names) };
            self.report(error, text.place);
        }
        found
    }
}

/// The candidate that differs least from `wanted`, if it is near enough to be a slip.
pub fn nearest<'a>(wanted: &str, candidates: impl Iterator<Item = &'a str>) -> Option<String> {
    let distance = |c: &str| strsim::damerau_levenshtein(wanted, c);
    let (best, name) = candidates.map(|c| (distance(c), c)).min_by_key(|c| c.0)?;
    (best <= 1 + wanted.chars().count() / 3).then(|| name.to_owned())
}
