//! Named sets of addresses and of services. A name may stand for other names; circles are refused.
//!
//! Each group is resolved once, after all that it names, as a set without repetitions: what a
//! plan's groups cost grows with what they hold in the end, and that is limited
//! ([`limits::MEMBERS`]).

use std::collections::{HashMap, HashSet};
use std::hash::Hash;
use std::net::IpAddr;
use std::sync::Arc;

use super::names::Named;
use crate::limits;
use crate::net::{AddressRange, NotationError, Prefix, Service};
use crate::plan::{Draft, Placed, PlanError, Problem, Problems};

/// Text with its place.
type Text = Placed<String>;

/// A range, and the prefix that it was written as.
pub(super) type Part = (AddressRange, Option<Prefix>);

/// The groups of a plan, resolved; a host's name stands for its address.
pub(super) struct Groups {
    addresses: Named<Arc<[Part]>>,
    services: Named<Arc<[Service]>>,
    budget: Budget,
}

/// How many more members groups and conditions may have.
struct Budget {
    left: usize,
}

impl Budget {
    /// Takes so many members, or reports, once, that there are too many.
    fn spend(&mut self, members: usize, text: &Text, problems: &mut Problems) -> bool {
        match self.left.checked_sub(members) {
            Some(left) => self.left = left,
            None if self.left > 0 => {
                let what = "address ranges and services in groups and conditions";
                problems.push(Problem::new(
                    PlanError::TooMany { what, most: limits::MEMBERS },
                    text.place,
                ));
                self.left = 0;
            }
            None => {}
        }
        members == 0 || self.left > 0
    }
}

impl Groups {
    pub(super) fn new(draft: &Draft, problems: &mut Problems) -> Self {
        let mut budget = Budget { left: limits::MEMBERS };
        let mut hosts: Named<Arc<[Part]>> = Named::default();
        for host in &draft.hosts {
            // a wrong address is reported where the host is built
            if let Ok((address, _)) = Prefix::parse_with_address(host.address.value.trim()) {
                hosts.insert(
                    host.name.value.clone(),
                    Arc::new([(AddressRange::one(address), None)]),
                );
            }
        }
        let of_addresses = Kind {
            what: "address group",
            what_is_named: "address group or host",
            parse: parse_part,
        };
        let addresses = of_addresses.resolve_all(&draft.addresses, hosts, &mut budget, problems);
        let services =
            SERVICES.resolve_all(&draft.services, Named::default(), &mut budget, problems);
        Self { addresses, services, budget }
    }

    /// The ranges that a notation or a group name stands for.
    pub(super) fn addresses(&mut self, text: &Text, problems: &mut Problems) -> Arc<[Part]> {
        let kind = Kind {
            what: "address group",
            what_is_named: "address group or host",
            parse: parse_part,
        };
        let parts = kind.resolve(text, &self.addresses, problems);
        if self.budget.spend(parts.len(), text, problems) { parts } else { Arc::new([]) }
    }

    /// What a name of `[services]` stands for.
    pub(super) fn named_services(&self, name: &str) -> Option<&[Service]> {
        self.services.get(name).map(|s| &**s)
    }

    /// The services that a notation or a group name stands for.
    pub(super) fn services(&mut self, text: &Text, problems: &mut Problems) -> Arc<[Service]> {
        let services = SERVICES.resolve(text, &self.services, problems);
        if self.budget.spend(services.len(), text, problems) { services } else { Arc::new([]) }
    }
}

fn parse_part(text: &str) -> Result<Vec<Part>, NotationError> {
    if text.trim() == "any" {
        let all = |a: IpAddr| Prefix::holding(a, 0).map(|p| (p.range(), None));
        let families = [IpAddr::from([0, 0, 0, 0]), IpAddr::from([0u16; 8])];
        return Ok(families.into_iter().filter_map(all).collect());
    }
    AddressRange::parse(text).map(|p| vec![p])
}

/// A text that starts like a number is meant as a notation, not as a name: say what is wrong with
/// it.
fn looks_like_notation(text: &str) -> bool {
    text.is_empty()
        || text.contains(['.', ':', '/'])
        || text.starts_with(|c: char| c.is_ascii_digit())
}

/// A kind of groups: what a message calls them, and how one of their members is read.
struct Kind<T> {
    what: &'static str,
    what_is_named: &'static str,
    parse: fn(&str) -> Result<Vec<T>, NotationError>,
}

const SERVICES: Kind<Service> = Kind {
    what: "service group",
    what_is_named: "service group",
    parse: |text| text.parse::<Service>().map(|s| vec![s]),
};

impl<T: Copy + Eq + Hash> Kind<T> {
    fn resolve(&self, text: &Text, known: &Named<Arc<[T]>>, problems: &mut Problems) -> Arc<[T]> {
        let name = text.value.trim();
        if let Some(values) = known.get(name) {
            return values.clone();
        }
        match (self.parse)(name) {
            Ok(values) => values.into(),
            Err(error) => {
                let error = match error {
                    e if looks_like_notation(name) => e.into(),
                    _ => {
                        let near = problems.nearest(name, known.keys().map(String::as_str));
                        PlanError::UnknownName { what: self.what_is_named, name: name.into(), near }
                    }
                };
                problems.push(Problem::new(error, text.place));
                Arc::new([])
            }
        }
    }

    /// Resolves groups that name each other: each after all that it names. Those that name each
    /// other in a circle are refused, and stand for nothing.
    fn resolve_all(
        &self,
        draft: &[(Text, Vec<Text>)],
        mut known: Named<Arc<[T]>>,
        budget: &mut Budget,
        problems: &mut Problems,
    ) -> Named<Arc<[T]>> {
        let mut positions: HashMap<&str, usize> = HashMap::new();
        for (i, group) in draft.iter().enumerate() {
            if let Some(first) = positions.insert(&group.0.value, i) {
                let error =
                    PlanError::DuplicateName { what: self.what, name: group.0.value.clone() };
                problems.push(Problem::between(
                    error,
                    group.0.place,
                    draft[first].0.place,
                    "first defined here",
                ));
            }
        }
        let order = Order::of(draft, &positions);
        for i in order.resolvable {
            let (name, elements) = &draft[i];
            let mut seen = HashSet::new();
            let mut members = Vec::new();
            for element in elements {
                let values = self.resolve(element, &known, problems);
                members.extend(values.iter().filter(|v| seen.insert(**v)));
                if members.len() > limits::MEMBERS {
                    break;
                }
            }
            if !budget.spend(members.len(), name, problems) {
                members.clear();
            }
            known.insert(name.value.clone(), members.into());
        }
        for i in order.unresolvable {
            known.insert(draft[i].0.value.clone(), Arc::new([]));
        }
        for i in order.in_circles {
            let name = &draft[i].0;
            problems.push(Problem::new(PlanError::GroupCycle(name.value.clone()), name.place));
        }
        known
    }
}

/// In which order groups can be resolved.
struct Order {
    /// Each after all that it names.
    resolvable: Vec<usize>,
    /// Those in circles, and those that name one of them.
    unresolvable: Vec<usize>,
    in_circles: Vec<usize>,
}

impl Order {
    fn of(draft: &[(Text, Vec<Text>)], positions: &HashMap<&str, usize>) -> Self {
        let named =
            |i: usize| draft[i].1.iter().filter_map(|t| positions.get(t.value.trim()).copied());
        let mut waits_for: Vec<usize> = (0..draft.len()).map(|i| named(i).count()).collect();
        let mut named_by: Vec<Vec<usize>> = vec![Vec::new(); draft.len()];
        for i in 0..draft.len() {
            named(i).for_each(|n| named_by[n].push(i));
        }
        let mut resolvable: Vec<usize> = (0..draft.len()).filter(|i| waits_for[*i] == 0).collect();
        let mut next = 0;
        while let Some(i) = resolvable.get(next).copied() {
            next += 1;
            for waiting in &named_by[i] {
                waits_for[*waiting] -= 1;
                if waits_for[*waiting] == 0 {
                    resolvable.push(*waiting);
                }
            }
        }
        let unresolvable: Vec<usize> = (0..draft.len()).filter(|i| waits_for[*i] > 0).collect();
        // what is left and is named by nothing that is left only leads to a circle
        let is_left = |i: &usize| waits_for[*i] > 0;
        let mut wanted_by: Vec<usize> =
            named_by.iter().map(|by| by.iter().filter(|i| is_left(i)).count()).collect();
        let mut outside: Vec<usize> =
            unresolvable.iter().copied().filter(|i| wanted_by[*i] == 0).collect();
        let mut leads_to_one = vec![false; draft.len()];
        while let Some(i) = outside.pop() {
            leads_to_one[i] = true;
            for n in named(i).filter(is_left) {
                wanted_by[n] -= 1;
                if wanted_by[n] == 0 {
                    outside.push(n);
                }
            }
        }
        let in_circles = unresolvable.iter().copied().filter(|i| !leads_to_one[*i]).collect();
        Self { resolvable, unresolvable, in_circles }
    }
}
