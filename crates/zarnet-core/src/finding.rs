//! The findings of `check` by name: a plan may allow or deny each, before any is looked for.

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
    /// The stable name, as JSON and CSV have it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Error => "error",
            Self::Warning => "warning",
            Self::Hint => "hint",
        }
    }
}

/// Every finding with its severity, for the documentation to be checked against.
pub const FINDINGS: [(&str, Severity); 42] = [
    ("realm-without-interface", Severity::Error),
    ("pool-empty", Severity::Error),
    ("overload-without-ports", Severity::Error),
    ("external-address-not-held", Severity::Error),
    ("gateway-not-held", Severity::Error),
    ("next-hop-not-held", Severity::Error),
    ("route-circle", Severity::Error),
    ("expectation-fails", Severity::Error),
    ("answer-by-other-line", Severity::Warning),
    ("chain-ends-here", Severity::Warning),
    ("device-service-open", Severity::Warning),
    ("filter-drops-everything", Severity::Warning),
    ("filter-entry-shadowed", Severity::Warning),
    ("filter-not-attached", Severity::Warning),
    ("forward-not-listening", Severity::Warning),
    ("gateway-outside-prefix", Severity::Warning),
    ("interface-without-realm", Severity::Warning),
    ("open-from-outside", Severity::Warning),
    ("policy-entry-shadowed", Severity::Warning),
    ("pool-over-taken-addresses", Severity::Warning),
    ("prefixes-overlap", Severity::Warning),
    ("refused-by-policy", Severity::Warning),
    ("remote-administration-open", Severity::Warning),
    ("routed-address-unused", Severity::Warning),
    ("rule-never-matches", Severity::Warning),
    ("rule-shadowed", Severity::Warning),
    ("static-below-overload", Severity::Warning),
    ("timer-below-minimum", Severity::Warning),
    ("whole-host-exposed", Severity::Warning),
    ("hairpin-nowhere", Severity::Hint),
    ("not-proved", Severity::Hint),
    ("host-without-gateway", Severity::Hint),
    ("pool-loses-addresses", Severity::Hint),
    ("pool-opens-all-ports", Severity::Hint),
    ("pool-smaller-than-sources", Severity::Hint),
    ("pool-unused", Severity::Hint),
    ("realm-used-once", Severity::Hint),
    ("rule-disabled", Severity::Hint),
    ("rule-partly-shadowed", Severity::Hint),
    ("rule-redundant", Severity::Hint),
    ("server-undeclared", Severity::Hint),
    ("translation-wider-than-policy", Severity::Hint),
];
