//! Behaviour and timers as a plan writes them, each with what it means.

use std::time::Duration;

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
    /// What the key decides, in one sentence.
    pub meaning: &'static str,
    /// Where that comes from.
    pub source: &'static str,
}

impl Described {
    fn new(key: &str, value: String, meaning: &'static str, source: &'static str) -> Self {
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
            new(
                "mapping",
                named(self.mapping, &DEPENDENCE),
                "when another peer reuses a mapping",
                "4787-REQ-1",
            ),
            new(
                "filtering",
                named(self.filtering, &DEPENDENCE),
                "which peers a dynamic mapping lets in",
                "4787-REQ-8",
            ),
            new(
                "pooling",
                named(self.paired, &PAIRED),
                "one external address a host, or any",
                "4787-REQ-2",
            ),
            new(
                "port-assignment",
                named(self.port_assignment, &PORT_ASSIGNMENT),
                "how an external port is found",
                "RFC 4787 4.2.1",
            ),
            new(
                "port-classes",
                list(self.port_classes.iter().map(class).collect()),
                "which external ports an internal one becomes",
                "4787-REQ-3a",
            ),
            new(
                "port-parity",
                self.port_parity.to_string(),
                "whether odd stays odd and even stays even",
                "4787-REQ-4",
            ),
            new(
                "port-overloading",
                self.port_overloading.to_string(),
                "whether peers share one external end",
                "7857-S3",
            ),
            new(
                "ports-per-host",
                number(self.ports_per_host.map(u64::from)),
                "endpoint mappings that a host may have",
                "6888-REQ-4",
            ),
            new(
                "block-size",
                number(self.block_size.map(u64::from)),
                "ports are handed out in blocks of so many",
                "RFC 7422",
            ),
            new(
                "max-mappings",
                number(self.max_mappings),
                "dynamic mappings on the device",
                "ours",
            ),
            new("max-sessions", number(self.max_sessions), "sessions on the device", "ours"),
            new(
                "hairpin-source",
                named(self.hairpin_source, &HAIRPIN_SOURCE),
                "what a hairpinned packet shows as its source",
                "4787-REQ-9a",
            ),
            new(
                "rule-order",
                named(self.rule_order, &RULE_ORDER),
                "in which order source rules are tried",
                "ours",
            ),
            new(
                "policy-sees",
                named(self.policy_sees_translated, &POLICY_SEES_TRANSLATED),
                "which destination the policy looks at",
                "ours",
            ),
            new(
                "answer-arp",
                named(self.answers_arp_for_translated, &ARP_FOR_TRANSLATED),
                "for which external addresses ARP is answered",
                "ours",
            ),
            new(
                "hold-down-timeout",
                seconds(self.hold_down),
                "seconds that a freed external port rests",
                "6888-REQ-8",
            ),
            new(
                "refresh",
                named(self.refresh_both, &REFRESH_BOTH),
                "which packets keep UDP alive",
                "4787-REQ-6",
            ),
            new(
                "answers-leave",
                named(self.answers_leave_as_came, &ANSWERS_LEAVE_AS_CAME),
                "by which interface answers leave",
                "ours",
            ),
            new(
                "translates-own",
                self.translates_own.to_string(),
                "whether rules look at its own traffic",
                "ours",
            ),
            new(
                "cannot",
                list(self.cannot.iter().map(|l: &Lack| text(l.name())).collect()),
                "what it lacks: a rule needing it is an error",
                "ours",
            ),
        ]
    }
}

impl Timers {
    /// Every key with its value, in seconds.
    pub fn settings(&self) -> Vec<Described> {
        const MEANINGS: [(&str, &str); 9] = [
            ("UDP without traffic", "4787-REQ-5"),
            ("TCP, established, without traffic", "5382-REQ-5"),
            ("TCP, not yet established", "5382-REQ-5"),
            ("TCP, after FIN both ways", "5382-REQ-5"),
            ("an unsolicited SYN is held (not predicted)", "5382-REQ-4"),
            ("ICMP query without traffic", "5508-REQ-2"),
            ("fragments wait for the first one", "RFC 6146"),
            ("other protocols without traffic", "ours"),
            ("an address mapping outlives its sessions", "ours"),
        ];
        let mut timers = self.clone();
        let mut settings: Vec<Described> = Self::NAMES
            .iter()
            .zip(MEANINGS)
            .filter_map(|(name, (meaning, source))| {
                let value = *timers.by_name(name)?;
                Some(Described::new(name, seconds(value), meaning, source))
            })
            .collect();
        settings.extend(self.per_port.iter().map(|((protocol, port), value)| {
            let key = format!("per-port.\"{port}/{protocol}\"");
            Described::new(
                &key,
                seconds(*value),
                "instead, for this destination port",
                "4787-REQ-5a",
            )
        }));
        settings
    }
}
