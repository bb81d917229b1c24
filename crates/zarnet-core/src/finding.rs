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

/// A finding of `check` by its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FindingKind {
    /// Stable name of the finding.
    pub name: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// What it means, in a sentence or two.
    pub means: &'static str,
    /// What to do about it.
    pub advice: &'static str,
}

macro_rules! findings {
    ($($name:literal, $severity:ident, $means:literal, $advice:literal;)*) => {
        /// Every finding, the worst first.
        pub const FINDINGS: &[FindingKind] = &[$(FindingKind {
            name: $name,
            severity: Severity::$severity,
            means: $means,
            advice: $advice,
        }),*];
    };
}

findings! {
    "realm-without-interface", Error,
        "A rule or policy names a realm that no interface has: it matches nothing.",
        "Correct the name; the nearest is proposed.";
    "pool-empty", Error,
        "A pool has no address that can be handed out.",
        "List addresses that are not in use.";
    "overload-without-ports", Error,
        "A static binds all of the address that an overload shares: it has no port.",
        "Bind another address.";
    "external-address-not-held", Error,
        "No device answers for an external address, and it is routed nowhere: answers never come \
         back.",
        "`also`, `proxy-arp`, or `routed`.";
    "gateway-not-held", Error,
        "No device on the segment has the gateway of a host: the host reaches nothing beyond its \
         link.",
        "Correct the gateway; the addresses of the devices there are named.";
    "next-hop-not-held", Error,
        "A route leads to an address that no host or device has.",
        "Correct `via`, or declare the host or device that has it.";
    "route-circle", Error,
        "Devices send packets for a prefix to each other, round and round.",
        "Let one of the routes lead out of the circle.";
    "expectation-fails", Error,
        "An `[[expect]]` of the plan does not hold.",
        "`zarnet expect` shows what happens instead.";
    "answer-by-other-line", Warning,
        "What comes in by one line to the internet is answered by another, whose provider may \
         drop it: the address is not of its line.",
        "`answers-leave = \"as-came\"`, or a route with `source` for what the servers send.";
    "chain-ends-here", Warning,
        "A rule leads to another device, which drops what comes.",
        "Let that device forward it on, and agree on the port.";
    "device-service-open", Warning,
        "Services of the device itself are exposed to every outside host.",
        "An `ingress-acl`, or offer them on an inner interface.";
    "filter-drops-everything", Warning,
        "A filter has no entry that accepts: after its entries everything is dropped.",
        "`{ accept = \"any\" }` as its last entry, if only the others are meant.";
    "filter-entry-shadowed", Warning,
        "An entry of an attached filter has no effect, because no packet reaches it: proved over \
         all first packets.",
        "Move it up, or take it out.";
    "filter-not-attached", Warning,
        "A filter is attached to no interface and does nothing.",
        "Attach it or take it out.";
    "forward-not-listening", Warning,
        "A rule leads to a port that the host does not listen on.",
        "Correct the port, or `listens`.";
    "gateway-outside-prefix", Warning,
        "The gateway of a host is not in what the host takes for its link.",
        "Correct the gateway, or the prefix length.";
    "interface-without-realm", Warning,
        "No rule concerns what passes this interface.",
        "Give it a `realm`.";
    "open-from-outside", Warning,
        "What comes in from the internet is let through to the inside untranslated.",
        "`default-policy = \"drop\"`, and a policy entry for what is meant.";
    "policy-entry-shadowed", Warning,
        "A policy entry has no effect, because no packet reaches it: proved over all first \
         packets.",
        "Move it up, or take it out.";
    "pool-over-taken-addresses", Warning,
        "A pool lists addresses that an interface, host, next hop or static rule has: they are \
         never handed out.",
        "Leave them out.";
    "prefixes-overlap", Warning,
        "The prefix of one interface lies inside that of another: hosts with such an address on \
         the wider one are out of reach.",
        "Make one of them narrower.";
    "refused-by-policy", Warning,
        "A static or forward leads packets in, and the policy drops every one of them.",
        "Add a policy entry: a rule alone opens nothing.";
    "remote-administration-open", Warning,
        "A port for administration is exposed to every outside host.",
        "Narrow `source`, or use a private tunnel.";
    "routed-address-unused", Warning,
        "A block is routed to the device and no rule uses it: packets to it go round in circles.",
        "Use it, or drop it with a route.";
    "rule-never-matches", Warning,
        "No packet reaches an enabled rule: proved over all first packets.",
        "Look at its conditions, and at routes, filters and policy before it.";
    "rule-shadowed", Warning,
        "Rules above take everything that a rule is for: proved over all first packets.",
        "Move it up (`-v` shows the change), or take it out.";
    "static-below-overload", Warning,
        "In listed order a wide rule above a static takes its outbound traffic.",
        "Move the static up, or `rule-order = \"fixed-first\"`.";
    "timer-below-minimum", Warning,
        "A timer is below what RFC 4787, 5382 or 5508 ask for.",
        "Raise it unless that is meant.";
    "whole-host-exposed", Warning,
        "Every port of an internal host is exposed to every outside host.",
        "Limit the rule to a `service`, or let the policy pass only what is offered.";
    "hairpin-nowhere", Hint,
        "A `bcp` device without any `hairpin`: internal clients cannot use external addresses \
         (RFC 4787 REQ-9).",
        "Add `hairpin` where it is needed.";
    "not-proved", Hint,
        "A device has more classes of packets than are searched (docs/limits.md): hidden rules \
         and entries, and what the outside reaches, were not looked for.",
        "Fewer interfaces, or fewer different conditions.";
    "host-without-gateway", Hint,
        "A host has no gateway: it cannot answer beyond its link.",
        "A `gateway`, or a rule that makes the device its neighbour (`as`).";
    "pool-loses-addresses", Hint,
        "A pool can hand out fewer addresses than it lists.",
        "Nothing, or `usable = \"all\"`.";
    "pool-opens-all-ports", Hint,
        "With endpoint-independent filtering a host that borrows an address can be reached on \
         every port.",
        "`filtering = \"address-dependent\"`, or a policy.";
    "pool-smaller-than-sources", Hint,
        "A pool rule without a fallback is for more addresses than its pool can lend.",
        "`zarnet capacity` shows whether that is enough; `when-exhausted` gives the others a way.";
    "pool-unused", Hint,
        "No rule uses a pool.",
        "Use it, or take it out.";
    "realm-used-once", Hint,
        "One interface has a realm that no rule and no policy entry names.",
        "Correct the name; the nearest is proposed. Or name it in a rule.";
    "rule-disabled", Hint,
        "A rule is disabled.",
        "Enable it, or take it out.";
    "rule-partly-shadowed", Hint,
        "A rule above takes some of what a rule is for, and is no mere exception from it.",
        "If that is not meant, narrow the one or move the other.";
    "rule-redundant", Hint,
        "Without the rule, the next one would do the same for all that it is for.",
        "Take it out.";
    "server-undeclared", Hint,
        "A rule leads to an address that no host has, among hosts that are declared: a machine \
         counts as being there, which answers everything.",
        "Declare the host, so that what it listens to counts, or correct the address.";
    "translation-wider-than-policy", Hint,
        "A static or forward lets in more than the policy permits.",
        "Narrow the rule to what is meant, or widen the policy.";
}
