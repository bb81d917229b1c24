//! Behaviour and timers as a plan writes them, each with what it means.

use std::time::Duration;

use super::{Behaviour, Dependence, HairpinSource, Lack, PortAssignment, PortClass, RuleOrder, Timers};

/// A key of `behaviour` or `timers`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Described {
    /// The key.
    pub key: String,
    /// Its value as a plan writes it; `none` where there is none.
    pub value: String,
    /// What it decides.
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

fn dependence(value: Dependence) -> String {
    text(match value {
        Dependence::EndpointIndependent => "endpoint-independent",
        Dependence::AddressDependent => "address-dependent",
        Dependence::AddressAndPortDependent => "address-and-port-dependent",
    })
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
        let either = |on: bool, a: &str, b: &str| text(if on { a } else { b });
        let class = |c: &PortClass| text(&format!("{}-{} -> {}-{}", c.from.0, c.from.1, c.into.0, c.into.1));
        let list = |parts: Vec<String>| format!("[{}]", parts.join(", "));
        let assignment = match self.port_assignment {
            PortAssignment::Preserve => "preserve",
            PortAssignment::Sequential => "sequential",
            PortAssignment::Random => "random",
        };
        let order = self.rule_order == RuleOrder::Listed;
        let new = Described::new;
        vec![
            new("mapping", dependence(self.mapping), "when another peer reuses a mapping", "4787-REQ-1"),
            new("filtering", dependence(self.filtering), "which peers a dynamic mapping lets in", "4787-REQ-8"),
            new(
                "pooling",
                either(self.paired, "paired", "arbitrary"),
                "one external address a host, or any",
                "4787-REQ-2",
            ),
            new("port-assignment", text(assignment), "how an external port is found", "RFC 4787 4.2.1"),
            new(
                "port-classes",
                list(self.port_classes.iter().map(class).collect()),
                "which external ports an internal one becomes",
                "4787-REQ-3a",
            ),
            new("port-parity", self.port_parity.to_string(), "whether odd stays odd and even stays even", "4787-REQ-4"),
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
            new("max-mappings", number(self.max_mappings), "dynamic mappings on the device", "ours"),
            new("max-sessions", number(self.max_sessions), "sessions on the device", "ours"),
            new(
                "hairpin-source",
                either(self.hairpin_source == HairpinSource::External, "external", "keep"),
                "what a hairpinned packet shows as its source",
                "4787-REQ-9a",
            ),
            new("rule-order", either(order, "listed", "fixed-first"), "in which order source rules are tried", "ours"),
            new(
                "policy-sees",
                either(self.policy_sees_translated, "translated", "original"),
                "which destination the policy looks at",
                "ours",
            ),
            new(
                "answer-arp",
                either(self.answers_arp_for_translated, "translated", "listed"),
                "for which external addresses ARP is answered",
                "ours",
            ),
            new("hold-down-timeout", seconds(self.hold_down), "seconds that a freed external port rests", "6888-REQ-8"),
            new("refresh", either(self.refresh_both, "both", "outbound"), "which packets keep UDP alive", "4787-REQ-6"),
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
            Described::new(&key, seconds(*value), "instead, for this destination port", "4787-REQ-5a")
        }));
        settings
    }
}
