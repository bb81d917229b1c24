//! Findings on a plan that can be built: what the device would do that nobody can have meant, or
//! that is risky.

mod addresses;
mod all_packets;
mod behaviour;
mod exposure;
mod first_listed;
mod forwards;
mod lines;
mod looked;
mod network;
mod proof;
mod rules;
mod supply;

use zarnet_core::device;
use zarnet_core::finding::{FINDINGS, Severity};
use zarnet_core::net::Packet;
use zarnet_core::plan::{DevicePlan, Edit, Place, Plan};

/// A finding of `check`: what is risky or without effect, where, and how to repair it.
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
    /// A packet that shows it.
    pub witness: Option<Packet>,
    /// Changes of the plan that repair it, where that can be done so.
    pub edits: Vec<Edit>,
}

impl Finding {
    fn with_witness(self, witness: Packet) -> Self {
        Self { witness: Some(witness), ..self }
    }

    fn with_edits(self, edits: Vec<Edit>) -> Self {
        Self { edits, ..self }
    }
}

/// Everything that is found on a plan, the worst first, then by place.
pub fn audit(plan: &Plan) -> Vec<Finding> {
    audit_devices(plan, |_| true)
}

/// The same, but that the packets of those devices alone are gone through that are asked for, by
/// position.
pub fn audit_devices(plan: &Plan, is_asked: impl Fn(usize) -> bool) -> Vec<Finding> {
    let (mut findings, taken) = (Vec::new(), zarnet_core::network::taken(plan));
    let devices: Vec<device::Device> =
        plan.devices.iter().map(|d| device::Device::new(d, &taken, 0)).collect();
    for (device, node) in plan.devices.iter().zip(&devices) {
        rules::find(device, &mut findings);
        let sizes = node.usable_by_pool();
        addresses::find(plan, device, &taken, &sizes, &mut findings);
        behaviour::find(device, &mut findings);
        supply::find(device, &sizes, &mut findings);
    }
    all_packets::find(plan, &devices, &is_asked, &mut findings);
    forwards::find(plan, &devices, &mut findings);
    lines::find(plan, &devices, &mut findings);
    supply::expectations(plan, &mut findings);
    addresses::routed(plan, &mut findings);
    network::find(plan, &mut findings);
    findings.retain(|f| !plan.allow.iter().any(|n| n == f.name));
    for f in findings.iter_mut().filter(|f| plan.deny.iter().any(|n| n == f.name)) {
        f.severity = Severity::Error;
    }
    findings.sort_by(|a, b| (a.severity, &a.places, a.name).cmp(&(b.severity, &b.places, b.name)));
    findings
}

fn finding(
    name: &'static str,
    message: String,
    places: Vec<Place>,
    help: impl Into<Option<String>>,
) -> Finding {
    let severity = FINDINGS.iter().find(|f| f.name == name).map_or(Severity::Error, |f| f.severity);
    Finding { name, severity, message, places, help: help.into(), witness: None, edits: Vec::new() }
}

/// Names of realms and interfaces of a device.
fn realm_names(device: &DevicePlan) -> Vec<&str> {
    let realms = device.interfaces.iter().filter_map(|i| i.realm.as_deref());
    let mut names: Vec<&str> =
        realms.chain(device.interfaces.iter().map(|i| i.name.as_str())).collect();
    names.sort_unstable();
    names.dedup();
    names
}
