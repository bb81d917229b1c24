//! A device of a plan as a document of the data models.

mod edge;
mod entries;
mod filters;
mod instances;
mod order;
mod policies;
mod standing;
mod surroundings;

use serde_json::{Map, Value};
use zarnet_core::plan::{DeviceId, DevicePlan, Plan};

use super::{Loss, LossKind, ModuleForm, member};

/// A document, and what it does not hold.
#[derive(Debug, Clone)]
pub struct Exported {
    /// The document.
    pub document: Value,
    /// What is lost, the weightiest first.
    pub losses: Vec<Loss>,
}

/// Writes a device of a plan as configuration. The same device gives the same octets.
pub fn export(plan: &Plan, device: DeviceId, form: ModuleForm) -> Exported {
    let mut export =
        Export { plan, device: &plan.devices[device.index()], form, losses: Vec::new() };
    let mut document = Map::new();
    document.insert(member::INTERFACES.into(), export.interfaces());
    put(&mut document, member::ROUTING, export.routing());
    put(&mut document, member::ACLS, export.filters());
    let (nat, rules) = export.nat();
    put(&mut document, member::NAT, nat);
    match form {
        ModuleForm::WithPolicy => put(&mut document, member::EDGE, Some(export.edge(rules))),
        ModuleForm::Standard => export.what_only_policy_holds(&rules),
    }
    export.world(device);
    let mut losses = export.losses;
    losses.sort_by_key(|l| (!l.kind.changes_traffic(), l.kind));
    Exported { document: Value::Object(document), losses }
}

/// An export in the making.
struct Export<'a> {
    plan: &'a Plan,
    device: &'a DevicePlan,
    form: ModuleForm,
    losses: Vec<Loss>,
}

impl Export<'_> {
    /// Notes that something is lost, of a thing with a name.
    fn lose(&mut self, kind: LossKind, of: &str, what: impl Into<String>) {
        self.losses.push(Loss { kind, of: vec![of.into()], what: what.into() });
    }

    /// The same, only where `zarnet-policy` does not hold it.
    fn lose_without_policy(&mut self, kind: LossKind, of: &str, what: impl Into<String>) {
        if !self.form.has_policy() {
            self.lose(kind, of, what);
        }
    }

    /// What stands around the device, and names.
    fn world(&mut self, device: DeviceId) {
        let plan = self.plan;
        let others = plan.devices.len() - 1;
        let counted = [
            (plan.hosts.len(), "host"),
            (plan.segments.iter().filter(|s| !s.inferred).count(), "segment"),
            (plan.expectations.len(), "expectation"),
            (others, "other device"),
        ];
        let told: Vec<String> = counted
            .iter()
            .filter(|c| c.0 > 0)
            .map(|(n, what)| format!("{n} {what}{}", if *n == 1 { "" } else { "s" }))
            .collect();
        if !told.is_empty() {
            let (kind, what) = (LossKind::World, told.join(", "));
            self.losses.push(Loss { kind, of: Vec::new(), what });
        }
        let rules = plan.devices[device.index()].rules.len();
        let named = |n: usize, what| match n {
            0 => None,
            1 => Some(format!("1 {what}")),
            n => Some(format!("{n} {what}s")),
        };
        let mut names = vec![named(plan.groups.len(), "named set")];
        if !self.form.has_policy() {
            names.push(named(rules, "rule"));
            names.push(named(self.device.pools.len(), "pool"));
        }
        let names: Vec<String> = names.into_iter().flatten().collect();
        if !names.is_empty() {
            let (kind, what) = (LossKind::Names, names.join(", "));
            self.losses.push(Loss { kind, of: Vec::new(), what });
        }
    }
}

/// Adds a member, if there is something.
fn put(members: &mut Map<String, Value>, name: &str, value: Option<Value>) {
    if let Some(value) = value {
        members.insert(name.into(), value);
    }
}
