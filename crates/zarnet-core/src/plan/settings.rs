//! Behaviour and timers as a plan writes them, each with what it means.

use std::time::Duration;

use super::field::{BEHAVIOUR, TIMERS};
use super::{
    Behaviour, Dependence, HairpinSource, Lack, PortAssignment, PortClass, RuleOrder, Timers,
};

/// A key of `behaviour` or `timers`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Described {
    /// Name of the key, dotted.
    pub key: String,
    /// Its value as a plan writes it; `none` where there is none.
    pub value: String,
    /// What the key decides, in a phrase.
    pub meaning: &'static str,
    /// The standard that it comes from; empty if it is our own.
    pub source: &'static str,
}

impl Described {
    /// A key with its value; the rest stands in its row.
    fn new(key: &str, value: String) -> Self {
        let name = key.split('.').next().unwrap_or(key);
        let row = BEHAVIOUR.iter().chain(TIMERS).find(|f| f.key == name);
        let (meaning, source) = row.map_or(("", ""), |f| (f.meaning, f.source));
        Self { key: key.into(), value, meaning, source }
    }
}

fn text(value: &str) -> String {
    format!("\"{value}\"")
}

/// The values of keys that have a few, by their names: read by them, and shown by them.
pub(super) const DEPENDENCE: [(&str, Dependence); 3] = [
    ("endpoint-independent", Dependence::EndpointIndependent),
    ("address-dependent", Dependence::AddressDependent),
    ("address-and-port-dependent", Dependence::AddressAndPortDependent),
];
pub(super) const PAIRED: [(&str, bool); 2] = [("paired", true), ("arbitrary", false)];
pub(super) const PORT_ASSIGNMENT: [(&str, PortAssignment); 3] = [
    ("preserve", PortAssignment::Preserve),
    ("sequential", PortAssignment::Sequential),
    ("random", PortAssignment::Random),
];
pub(super) const HAIRPIN_SOURCE: [(&str, HairpinSource); 2] =
    [("external", HairpinSource::External), ("keep", HairpinSource::Keep)];
pub(super) const RULE_ORDER: [(&str, RuleOrder); 2] =
    [("listed", RuleOrder::Listed), ("fixed-first", RuleOrder::FixedFirst)];
pub(super) const POLICY_SEES_TRANSLATED: [(&str, bool); 2] =
    [("translated", true), ("original", false)];
pub(super) const ARP_FOR_TRANSLATED: [(&str, bool); 2] = [("translated", true), ("listed", false)];
pub(super) const ANSWERS_LEAVE_AS_CAME: [(&str, bool); 2] =
    [("by-route", false), ("as-came", true)];
pub(super) const REFRESH_BOTH: [(&str, bool); 2] = [("outbound", false), ("both", true)];

/// The name of a value.
fn named<T: PartialEq>(value: T, names: &[(&str, T)]) -> String {
    text(names.iter().find(|(_, v)| *v == value).map_or("", |(name, _)| name))
}

fn seconds(value: Duration) -> String {
    match value.subsec_nanos() {
        0 => value.as_secs().to_string(),
        _ => value.as_secs_f64().to_string(),
    }
}

impl Behaviour {
    /// Every key with its value.
    pub fn settings(&self) -> Vec<Described> {
        let number = |n: Option<u64>| n.map_or("none".into(), |n| n.to_string());
        let class = |c: &PortClass| {
            text(&format!("{}-{} -> {}-{}", c.from.0, c.from.1, c.into.0, c.into.1))
        };
        let list = |parts: Vec<String>| format!("[{}]", parts.join(", "));
        let new = Described::new;
        vec![
            new("mapping", named(self.mapping, &DEPENDENCE)),
            new("filtering", named(self.filtering, &DEPENDENCE)),
            new("pooling", named(self.paired, &PAIRED)),
            new("port-assignment", named(self.port_assignment, &PORT_ASSIGNMENT)),
            new("port-classes", list(self.port_classes.iter().map(class).collect())),
            new("port-parity", self.port_parity.to_string()),
            new("port-overloading", self.port_overloading.to_string()),
            new("ports-per-host", number(self.ports_per_host.map(u64::from))),
            new("block-size", number(self.block_size.map(u64::from))),
            new("max-mappings", number(self.max_mappings)),
            new("max-sessions", number(self.max_sessions)),
            new("hairpin-source", named(self.hairpin_source, &HAIRPIN_SOURCE)),
            new("rule-order", named(self.rule_order, &RULE_ORDER)),
            new("policy-sees", named(self.policy_sees_translated, &POLICY_SEES_TRANSLATED)),
            new("answer-arp", named(self.answers_arp_for_translated, &ARP_FOR_TRANSLATED)),
            new("hold-down-timeout", seconds(self.hold_down)),
            new("refresh", named(self.refresh_both, &REFRESH_BOTH)),
            new("answers-leave", named(self.answers_leave_as_came, &ANSWERS_LEAVE_AS_CAME)),
            new("translates-own", self.translates_own.to_string()),
            new("cannot", list(self.cannot.iter().map(|l: &Lack| text(l.name())).collect())),
        ]
    }
}

impl Timers {
    /// Every key with its value, in seconds.
    pub fn settings(&self) -> Vec<Described> {
        let mut timers = self.clone();
        let named = Self::NAMES.iter().filter_map(|name| {
            let value = *timers.by_name(name)?;
            Some(Described::new(name, seconds(value)))
        });
        let mut settings: Vec<Described> = named.collect();
        settings.extend(self.per_port.iter().map(|((protocol, port), value)| {
            Described::new(&format!("per-port.\"{port}/{protocol}\""), seconds(*value))
        }));
        settings
    }
}
