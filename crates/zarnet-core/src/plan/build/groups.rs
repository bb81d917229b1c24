//! Named sets of addresses and of services. A name may stand for other names; circles are refused.

use std::collections::HashMap;
use std::net::IpAddr;

use super::{Problem, Text, nearest};
use crate::net::{AddressRange, NotationError, Prefix, Service};
use crate::plan::{Draft, PlanError};

type Part = (AddressRange, Option<Prefix>);

/// The groups of a plan, resolved; a host's name stands for its address.
pub(super) struct Groups {
    addresses: HashMap<String, Vec<Part>>,
    services: HashMap<String, Vec<Service>>,
}

impl Groups {
    pub(super) fn new(draft: &Draft, problems: &mut Vec<Problem>) -> Self {
        let mut groups = Self { addresses: HashMap::new(), services: HashMap::new() };
        for host in &draft.hosts {
            // a wrong address is reported where the host is built
            if let Ok((address, _)) = Prefix::parse_with_address(host.address.value.trim()) {
                groups.addresses.insert(host.name.value.clone(), vec![(AddressRange::one(address), None)]);
            }
        }
        let parts = resolve_all(&draft.addresses, groups.addresses.clone(), "address group", parse_part, problems);
        groups.addresses = parts;
        let parse = |text: &str| text.parse::<Service>().map(|s| vec![s]);
        groups.services = resolve_all(&draft.services, HashMap::new(), "service group", parse, problems);
        groups
    }

    /// The ranges that a notation or a group name stands for.
    pub(super) fn addresses(&self, text: &Text, problems: &mut Vec<Problem>) -> Vec<Part> {
        resolve(text, &self.addresses, "address group or host", parse_part, problems)
    }

    /// The services that a notation or a group name stands for.
    pub(super) fn services(&self, text: &Text, problems: &mut Vec<Problem>) -> Vec<Service> {
        let parse = |text: &str| text.parse::<Service>().map(|s| vec![s]);
        resolve(text, &self.services, "service group", parse, problems)
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

/// A text that starts like a number is meant as a notation, not as a name: say what is wrong with it.
fn looks_like_notation(text: &str) -> bool {
    text.is_empty() || text.contains(['.', ':', '/']) || text.starts_with(|c: char| c.is_ascii_digit())
}

fn resolve<T: Clone>(
    text: &Text,
    known: &HashMap<String, Vec<T>>,
    what: &'static str,
    parse: impl Fn(&str) -> Result<Vec<T>, NotationError>,
    problems: &mut Vec<Problem>,
) -> Vec<T> {
    let name = text.value.trim();
    if let Some(values) = known.get(name) {
        return values.clone();
    }
    parse(name).unwrap_or_else(|error| {
        let near = nearest(name, known.keys().map(String::as_str));
        let error = match error {
            e if looks_like_notation(name) => e.into(),
            _ => PlanError::UnknownName { what, name: name.into(), near },
        };
        problems.push(Problem::new(error, text.place));
        Vec::new()
    })
}

/// Resolves groups that name each other: each when all that it names is resolved; what remains is in a circle.
fn resolve_all<T: Clone>(
    draft: &[(Text, Vec<Text>)],
    mut known: HashMap<String, Vec<T>>,
    what: &'static str,
    parse: impl Fn(&str) -> Result<Vec<T>, NotationError> + Copy,
    problems: &mut Vec<Problem>,
) -> HashMap<String, Vec<T>> {
    let mut waiting: Vec<&(Text, Vec<Text>)> = Vec::new();
    let mut names: HashMap<&str, &Text> = HashMap::new();
    for group in draft {
        if let Some(first) = names.insert(&group.0.value, &group.0) {
            let error = PlanError::DuplicateName { what, name: group.0.value.clone() };
            problems.push(Problem::between(error, group.0.place, first.place, "first defined here"));
        }
        waiting.push(group);
    }
    while !waiting.is_empty() {
        let before = waiting.len();
        let open: std::collections::HashSet<&str> = waiting.iter().map(|g| g.0.value.as_str()).collect();
        let mut later = Vec::new();
        let mut done = Vec::new();
        for group in waiting {
            if group.1.iter().any(|t| open.contains(t.value.trim())) { later.push(group) } else { done.push(group) }
        }
        for (name, elements) in done {
            let values = elements.iter().flat_map(|t| resolve(t, &known, what, parse, problems)).collect();
            known.insert(name.value.clone(), values);
        }
        if later.len() == before {
            for (name, _) in later {
                problems.push(Problem::new(PlanError::GroupCycle(name.value.clone()), name.place));
                known.insert(name.value.clone(), Vec::new());
            }
            break;
        }
        waiting = later;
    }
    known
}
