//! What a document of the data models cannot hold of a device.

use std::fmt;

zarnet_core::named! {
    /// What is lost in a document of the data models.
    LossKind {
        Order, "rule-order",
            "the order of rules that overlap is not kept",
            "The standard has no order of rules. Two rules that are for the same packets may be tried in another order there.",
            "Make the rules' sources disjoint, put fixed rules before others, or use a device that knows `zarnet-policy`.";
        Scope, "rule-scope",
            "the standard knows one internal and one external side",
            "A rule between other realms than all internal interfaces and one external one has no place in the standard.",
            "Use a device that knows `zarnet-policy`, or one external interface and rules for all others.";
        Destination, "rule-destination",
            "a rule for some destinations only",
            "A policy of the standard is for senders, whoever the receiver is.",
            "Use a device that knows `zarnet-policy`.";
        Service, "rule-service",
            "a rule for some services only",
            "The standard knows protocols of a rule, but not their ports, and no ports of some protocols in a filter.",
            "Use a device that knows `zarnet-policy`.";
        Source, "rule-source",
            "more sources than the entries of one rule can be written for",
            "Senders of a fixed rule are written as an entry for each; above a limit that is not done.",
            "Sum up the sources as prefixes.";
        Exempt, "rule-exempt",
            "an exemption for some senders or services",
            "The standard passes traffic by its destination alone.",
            "Use a device that knows `zarnet-policy`.";
        Direction, "rule-direction",
            "a static that is good in one direction only",
            "Entries of the standard are good in both directions.",
            "";
        Hairpin, "rule-hairpin",
            "realms that may use the external end from inside",
            "The standard does not say who may reach an external address from inside (RFC 4787 REQ-9).",
            "Use a device that knows `zarnet-policy`.";
        Servers, "rule-servers",
            "a forward to several servers",
            "An entry of the standard leads to one server.",
            "Use a device that knows `zarnet-policy`.";
        Target, "rule-target",
            "what senders become is a pool",
            "An entry of the standard can name one address that senders become, but no pool.",
            "";
        Limit, "rule-limit",
            "a limit of a rule",
            "The standard has limits of an instance and of a subscriber, not of a rule.",
            "";
        Exhausted, "rule-when-exhausted",
            "what happens when a rule's addresses or ports are used up",
            "The standard drops.",
            "";
        Leased, "rule-on-lease",
            "a fixed rule on an address that may change",
            "Entries of the standard name addresses, not interfaces: after another lease they name the old one.",
            "";
        Family, "rule-addresses",
            "addresses that are no prefixes of the standard",
            "Pools of the standard are IPv4, and IPv6 is translated prefix by prefix.",
            "";
        MatchesNothing, "rule-for-nothing",
            "a rule that matches nothing is written as disabled",
            "A list of the rule is empty: there is nothing that could be written.",
            "";
        Disabled, "rule-disabled",
            "a disabled rule is left out",
            "Entries and policies of the standard cannot be disabled.",
            "";
        Policy, "policy",
            "policies between realms",
            "The standard has filters on interfaces, and none between realms.",
            "Use a device that knows `zarnet-policy`, or filters.";
        Filter, "filter",
            "a filter that knows sessions, or has too many entries",
            "A filter of the standard does not ask whether a packet answers.",
            "Use a device that knows `zarnet-policy`.";
        Route, "route",
            "a route for some packets only, or one of several to a destination",
            "The standard has one static route to each destination.",
            "";
        AnswersFor, "proxy-arp",
            "addresses that an interface answers for",
            "The standard does not say for which addresses an interface answers.",
            "";
        Forwarding, "behaviour-of-packets",
            "how rules, policies, answers and hairpins are treated",
            "`rule-order`, `policy-sees`, `answer-arp`, `answers-leave`, `hairpin-source`, `translates-own`, `cannot`: the standard leaves them open.",
            "";
        Interface, "interface",
            "whether an interface answers echo requests, has a lease, or offers services",
            "The standard models of interfaces do not say.",
            "";
        Choice, "choice",
            "how addresses and ports are chosen",
            "The standard knows: any address, in turn, or paired; random ports, kept ones, with parity, or blocks.",
            "";
        Timer, "timers",
            "timers that the standard does not have, or counts in seconds",
            "`other-timeout` and `binding` are not in the standard; a port has one timer there, whatever the protocol.",
            "";
        Capacity, "capacity",
            "how many sessions or mappings the device holds",
            "The standard limits mappings of an instance.",
            "";
        Log, "log",
            "what rules log",
            "The standard does not say what is logged.",
            "";
        Notes, "notes",
            "notes of rules",
            "Notes stay in the plan.",
            "";
        Names, "names",
            "names of rules, pools and sets",
            "Rules are numbered, and sets are written as the addresses and services that are in them.",
            "";
        World, "world",
            "hosts, segments and expectations",
            "They are around the device, not on it, and stay in the plan.",
            "";
    }
}

impl LossKind {
    /// Whether other packets would pass, or be translated, than the plan says.
    pub fn changes_traffic(self) -> bool {
        match self {
            Self::Order
            | Self::Scope
            | Self::Destination
            | Self::Service
            | Self::Source
            | Self::Exempt
            | Self::Direction
            | Self::Hairpin
            | Self::Servers
            | Self::Target
            | Self::Limit
            | Self::Exhausted
            | Self::Leased
            | Self::Family
            | Self::Policy
            | Self::Filter
            | Self::Route
            | Self::AnswersFor
            | Self::Forwarding => true,
            Self::MatchesNothing
            | Self::Disabled
            | Self::Interface
            | Self::Choice
            | Self::Timer
            | Self::Capacity
            | Self::Log
            | Self::Notes
            | Self::Names
            | Self::World => false,
        }
    }
}

/// Something that a document does not hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Loss {
    /// What it is.
    pub kind: LossKind,
    /// The rules, interfaces or other things that it is about.
    pub of: Vec<String>,
    /// The values that are lost, or how many things there are.
    pub what: String,
}

impl Loss {
    /// What it is about, in words; nothing where the kind says all.
    pub fn things(&self) -> String {
        let of = self.of.iter().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(" and ");
        match (self.of.is_empty(), self.what.is_empty()) {
            (true, _) => self.what.clone(),
            (false, true) => of,
            (false, false) => format!("{of} ({})", self.what),
        }
    }
}

impl fmt::Display for Loss {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.things().as_str() {
            "" => f.write_str(self.kind.sentence()),
            things => write!(f, "{}: {things}", self.kind.sentence()),
        }
    }
}
