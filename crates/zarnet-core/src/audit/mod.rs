//! Findings on a plan that can be built: what the device would do that nobody can have meant, or that is risky.

mod addresses;
mod behaviour;
mod network;
mod rules;

use crate::plan::{Device, Place, Plan};

/// How bad a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Something does not work as written.
    Error,
    /// Something is risky, or will surprise.
    Warning,
    /// Something is worth knowing.
    Hint,
}

impl Severity {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Error => "error",
            Self::Warning => "warning",
            Self::Hint => "hint",
        }
    }
}

/// Something found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// Stable name, under which the documentation explains it.
    pub name: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// What it is, in one sentence.
    pub message: String,
    /// Where: the place to look at first, then others that have to do with it.
    pub places: Vec<Place>,
    /// A way out, in one line.
    pub help: Option<String>,
}

/// Every finding with its severity, for the documentation to be checked against.
pub const FINDINGS: [(&str, Severity); 19] = [
    ("realm-without-interface", Severity::Error),
    ("pool-empty", Severity::Error),
    ("overload-without-ports", Severity::Error),
    ("external-address-not-held", Severity::Error),
    ("gateway-not-held", Severity::Error),
    ("next-hop-not-held", Severity::Error),
    ("route-circle", Severity::Error),
    ("filter-not-attached", Severity::Warning),
    ("gateway-outside-prefix", Severity::Warning),
    ("interface-without-realm", Severity::Warning),
    ("pool-over-taken-addresses", Severity::Warning),
    ("prefixes-overlap", Severity::Warning),
    ("routed-address-unused", Severity::Warning),
    ("static-below-overload", Severity::Warning),
    ("timer-below-minimum", Severity::Warning),
    ("hairpin-nowhere", Severity::Hint),
    ("host-without-gateway", Severity::Hint),
    ("pool-loses-addresses", Severity::Hint),
    ("pool-opens-all-ports", Severity::Hint),
];

/// Everything that is found on a plan, the worst first, then by place.
pub fn audit(plan: &Plan) -> Vec<Finding> {
    let (mut findings, taken) = (Vec::new(), crate::network::taken(plan));
    for device in &plan.devices {
        rules::find(device, &mut findings);
        addresses::find(plan, device, &taken, &mut findings);
        behaviour::find(device, &mut findings);
    }
    addresses::routed(plan, &mut findings);
    network::find(plan, &mut findings);
    findings.sort_by(|a, b| (a.severity, &a.places, a.name).cmp(&(b.severity, &b.places, b.name)));
    findings
}

fn finding(name: &'static str, message: String, places: Vec<Place>, help: impl Into<Option<String>>) -> Finding {
    let severity = FINDINGS.iter().find(|f| f.0 == name).map_or(Severity::Error, |f| f.1);
    Finding { name, severity, message, places, help: help.into() }
}

/// Names of realms and interfaces of a device.
fn zone_names(device: &Device) -> Vec<&str> {
    let realms = device.interfaces.iter().filter_map(|i| i.realm.as_deref());
    let mut names: Vec<&str> = realms.chain(device.interfaces.iter().map(|i| i.name.as_str())).collect();
    names.sort_unstable();
    names.dedup();
    names
}
