//! Changes of a plan as an engineer asks for them: rules, groups and pools, as edits of its text.

mod access;
mod around;
mod ends;
mod keys;
mod pools;
mod rules;

use zarnet_core::plan::edit::{Edit, Table, Value};
use zarnet_core::plan::{DeviceId, DevicePlan, Plan, RuleId, nearest};

use crate::AskError;

/// Keys of a new table, and their values.
type Fields = Vec<(&'static str, Value)>;

/// Makes edits of one device of a plan.
#[derive(Clone, Copy)]
pub struct PlanEditor<'a> {
    plan: &'a Plan,
    id: DeviceId,
    device: &'a DevicePlan,
}

/// What every rule may have besides what its type needs. Empty means that the default counts.
#[derive(Debug, Clone, Default)]
pub struct RuleOptions {
    /// Name of the rule; made from what it does if left out.
    pub name: Option<String>,
    /// Senders that it is for.
    pub source: Vec<String>,
    /// Receivers that it is for.
    pub destination: Vec<String>,
    /// Services that it is for.
    pub service: Vec<String>,
    /// Realms or interfaces of its internal side.
    pub from: Vec<String>,
    /// Realms or interfaces of its external side.
    pub into: Vec<String>,
    /// Realms whose hosts may use its external end.
    pub hairpin: Vec<String>,
    /// Most mappings, or sessions of a fixed rule.
    pub limit: Option<u32>,
    /// What it is for.
    pub note: Option<String>,
    /// Whether it is written disabled.
    pub disabled: bool,
    /// What of its translations is logged.
    pub log: Option<String>,
    /// The rule that it is placed before. If left out, fixed and exempt rules stand before the
    /// first that is neither, others last.
    pub before: Option<String>,
    /// Whether the policy entry that lets its traffic pass is added, and the address that must be
    /// answered for.
    pub with_access: bool,
}

pub use access::needed;
pub use around::{InterfaceOptions, PolicyOptions};
pub use keys::KeyOptions;

/// One value, or a list of several.
fn one_or_more(values: &[String]) -> Option<Value> {
    match values {
        [] => None,
        [one] => Some(one.as_str().into()),
        several => Some(Value::List(several.iter().map(|v| v.as_str().into()).collect())),
    }
}

/// A name that is not taken, made from another.
fn fresh_name(name: &str, taken: impl Fn(&str) -> bool) -> String {
    let mut names = std::iter::once(name.to_owned()).chain((2..).map(|n| format!("{name}-{n}")));
    names.find(|n| !taken(n)).unwrap_or_default()
}

impl<'a> PlanEditor<'a> {
    /// An editor of a device.
    pub fn new(plan: &'a Plan, id: DeviceId) -> Self {
        Self { plan, id, device: &plan.devices[id.index()] }
    }

    /// Enables a rule.
    ///
    /// # Errors
    /// The device has no rule of that name.
    pub fn enable(self, rule: &str) -> Result<Vec<Edit>, AskError> {
        let rule = self.named(rule)?;
        Ok(vec![Edit::Unset(Table::Rule(self.id, rule), "enabled".to_owned())])
    }

    /// Disables a rule.
    ///
    /// # Errors
    /// The device has no rule of that name.
    pub fn disable(self, rule: &str) -> Result<Vec<Edit>, AskError> {
        let table = Table::Rule(self.id, self.named(rule)?);
        Ok(vec![Edit::Set(table, "enabled".to_owned(), Value::Flag(false))])
    }

    /// Moves a rule ahead of another.
    ///
    /// # Errors
    /// The device lacks one of the rules, or they stand in that order already.
    pub fn move_rule(self, rule: &str, before: &str) -> Result<Vec<Edit>, AskError> {
        let (rule, before) = (self.named(rule)?, self.named(before)?);
        if rule.index() <= before.index() {
            let help = "it is before it already; move the other one".to_owned();
            let message = "the rule is not listed after the other one";
            return Err(AskError::new("already-so", message, help));
        }
        Ok(vec![Edit::MoveRule(self.id, rule, before)])
    }

    /// Removes a rule.
    ///
    /// # Errors
    /// The device has no rule of that name.
    pub fn remove(self, rule: &str) -> Result<Vec<Edit>, AskError> {
        Ok(vec![Edit::RemoveRule(self.id, self.named(rule)?)])
    }

    fn named(&self, name: &str) -> Result<RuleId, AskError> {
        let found = self.device.rules.iter().position(|r| r.name == name);
        found.map(|n| RuleId(n as u16)).ok_or_else(|| {
            let names: Vec<&str> = self.device.rules.iter().map(|r| r.name.as_str()).collect();
            let near = nearest(name, names.iter().copied()).map(|n| format!("did you mean `{n}`?"));
            let help =
                near.unwrap_or_else(|| format!("`{}` has {}", self.device.name, names.join(", ")));
            AskError::new("unknown-name", format!("there is no rule `{name}`"), help)
        })
    }

    fn check_name(&self, name: &str) -> Result<(), AskError> {
        let taken = |n: &str| self.device.rules.iter().any(|r| r.name == n);
        if !taken(name) {
            return Ok(());
        }
        let help = format!("`{}` is free", fresh_name(name, taken));
        Err(AskError::new(
            "duplicate-name",
            format!("`{}` has a rule `{name}` already", self.device.name),
            help,
        ))
    }
}
