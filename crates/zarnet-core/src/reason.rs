//! Why a packet was not delivered, or a flow not translated: one list, a sentence each.

/// The fate of a flow: that of its first packet and of the answer to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Class {
    /// Both arrived, and some device changed an address or port.
    Translated,
    /// Both arrived as they were sent.
    Untranslated,
    /// Somebody decided against one of them.
    Refused,
    /// One of them got lost.
    Undelivered,
}

impl Class {
    /// The stable name, as JSON and CSV have it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Translated => "translated",
            Self::Untranslated => "untranslated",
            Self::Refused => "refused",
            Self::Undelivered => "undelivered",
        }
    }
}

macro_rules! reasons {
    ($(
        $variant:ident, $name:literal, $class:ident,
        $sentence:literal, $means:literal, $advice:literal;
    )*) => {
        $crate::named! {
            /// Why a flow was not translated.
            Reason { $($variant, $name, $sentence, $means, $advice;)* }
        }

        impl Reason {
            /// The class of a flow that ends so.
            pub fn class(self) -> Class {
                match self { $(Self::$variant => Class::$class),* }
            }
        }
    };
}

reasons! {
    IngressAcl, "ingress-acl", Refused,
        "The filter on the interface it came in by drops it.",
        "The filter on the interface it came in by drops it; the place is the entry, or the \
         filter whose end was reached.",
        "Add an `accept` entry above it, or take the filter off the interface.";
    EgressAcl, "egress-acl", Refused,
        "The filter on the interface it would leave by drops it.",
        "The filter on the interface it would leave by drops it. It looks at the packet as it \
         leaves.",
        "The same; write the entry for the translated addresses.";
    Policy, "policy", Refused,
        "The policy between the two realms drops it.",
        "The policy between the two realms drops it; the place is the entry or `default-policy`.",
        "Add a `[[device.policy]]` that accepts it. `policy-sees` says which destination it looks \
         at.";
    Filtered, "filtered", Refused,
        "Something is mapped to the destination that does not let this sender in.",
        "Something is mapped to the destination that does not let this sender in: by `source`, \
         realm, direction, `filtering`, or because its rule is disabled.",
        "Widen `source` of the rule at the place given, or have the inside speak first.";
    NoMapping, "no-mapping", Refused,
        "The external address is the device's to translate, but nothing is mapped there.",
        "The destination is an external address of the device, but nothing is mapped there.",
        "Add a static or forward, or wait for the host to borrow the address.";
    NoListener, "no-listener", Refused,
        "The packet reached its destination, which does not listen to this service.",
        "The destination was reached and does not listen to this service.",
        "Correct the port, or add the service to `listens` or `services`.";
    PoolExhausted, "pool-exhausted", Refused,
        "Every address of the pool is borrowed by other hosts.",
        "Every address of the pool is borrowed by other hosts.",
        "Enlarge the pool, set `when-exhausted`, or shorten `binding` and timers.";
    PortsExhausted, "ports-exhausted", Refused,
        "The external address has no free port left for this host.",
        "The external address has no free port of the class left for this host.",
        "Overload a pool of several addresses, or shorten timers.";
    HostLimit, "host-limit", Refused,
        "The internal host has as many mappings as `ports-per-host` allows.",
        "The internal host has as many endpoint mappings as `ports-per-host` allows.",
        "Raise it, or look at what the host does.";
    RuleLimit, "rule-limit", Refused,
        "The rule holds as many mappings or sessions as its `limit` allows.",
        "The rule holds as many mappings (pool, overload) or sessions (static, forward) as its \
         `limit` allows.",
        "Raise `limit`.";
    DeviceFull, "device-full", Refused,
        "The device holds as many mappings or sessions as it can.",
        "`max-mappings` or `max-sessions` is reached.",
        "Raise it, or shorten timers.";
    UnsupportedProtocol, "unsupported-protocol", Refused,
        "A protocol without ports can be overloaded by one host for each peer only.",
        "A protocol without ports can be overloaded by one internal host for each peer only.",
        "Give the second host an address of its own (static or pool).";
    NoSession, "no-session", Refused,
        "A TCP packet from the middle of a connection that the device does not know.",
        "A TCP packet from the middle of a connection that the device does not know, where a rule \
         would translate it.",
        "The connection was opened before the table was, or its session has timed out.";
    UnsupportedFamily, "unsupported-family", Refused,
        "The rule or the flow would need a translation between or of families that is not done.",
        "The two ends are of two families, or a rule would have to translate IPv6.",
        "Use addresses of one family; IPv6 passes untranslated.";
    NoGateway, "no-gateway", Undelivered,
        "The sender has no gateway, and the destination is not on its link.",
        "The sender has no gateway, and the destination is not on its link.",
        "Give the host a `gateway`.";
    GatewayUnanswered, "gateway-unanswered", Undelivered,
        "Nobody answers for the gateway that the sender uses.",
        "Nobody answers for the gateway that the sender uses.",
        "Correct the gateway's address.";
    NobodyAnswers, "nobody-answers", Undelivered,
        "Nobody on the segment answers for the next address.",
        "Nobody on the segment answers for the next address.",
        "Correct the address; or hold it with `also`, `proxy-arp`.";
    NoRoute, "no-route", Undelivered,
        "The device has no route to the destination.",
        "The device has no route to the destination.",
        "Add a `[[device.route]]`.";
    NotForwarding, "not-forwarding", Undelivered,
        "The device does not forward between its interfaces.",
        "`forwarding = false`.",
        "Turn it on.";
    Unrouted, "unrouted", Undelivered,
        "Nobody on the internet has a route to the destination.",
        "Nobody on the internet has a route to the destination.",
        "Have the block `routed` to the device.";
    PrivateAddressOnInternet, "private-address-on-internet", Undelivered,
        "A private or otherwise special address cannot be a source or destination on the \
         internet.",
        "A private or otherwise special address is source or destination on the internet: the \
         packet left untranslated, or is for an address that cannot be reached there.",
        "Look for the rule that should have matched.";
    UnexpectedSource, "unexpected-source", Undelivered,
        "The answer came from another endpoint than the one that was addressed.",
        "The answer came from another endpoint than the one that was addressed: the client drops \
         it.",
        "Translate the source too (`hairpin-source = \"external\"`), or send the answer back the \
         same way.";
    NotForThisHost, "not-for-this-host", Undelivered,
        "The packet ended at a host that does not have the destination address.",
        "The packet ended at a host that does not have the destination address.",
        "Correct the next hop.";
    Looped, "looped", Undelivered,
        "The packet passed more than 32 devices.",
        "It passed more than 32 devices.",
        "Correct the routes.";
    UnknownSource, "unknown-source", Undelivered,
        "Nothing in the plan says where the sender is.",
        "Nothing in the plan says where the sender is.",
        "Declare it as a host, or correct the address.";
    SourceOfOtherLine, "source-of-other-line", Undelivered,
        "The provider drops it: its source is not of the line that it came in by.",
        "The provider drops it: its segment has `checks-source`, and the source is neither of the \
         prefixes of the interface that it left by nor of a block that is routed there (RFC \
         2827).",
        "`answers-leave = \"as-came\"`, or a route with `source`.";
    Exempt, "exempt", Untranslated,
        "A rule of type `exempt` leaves it as it is.",
        "A rule of type `exempt` leaves it as it is.",
        "";
    PassedExhausted, "passed-exhausted", Untranslated,
        "The rule's addresses are used up, and it lets the packet pass as it is.",
        "The rule's addresses are used up, and `when-exhausted = \"pass\"` lets it pass. Exit \
         code 1.",
        "";
    NoRule, "no-rule", Untranslated,
        "No rule matches it; it was forwarded as it is.",
        "No rule matches it. Exit code 1 where a rule that translates is meant for the realms it \
         passed.",
        "";
    OnLink, "on-link", Untranslated,
        "Sender and receiver are on one segment; no device was involved.",
        "Sender and receiver are on one segment; no device was involved.",
        "";
    LinkOnly, "link-only", Untranslated,
        "Multicast, broadcast and link-local packets stay on their link; no device forwards them.",
        "Multicast, broadcast and link-local packets stay on the link that they were sent on; no \
         device forwards them. In captures such packets are counted and passed over.",
        "";
    ToDevice, "to-device", Untranslated,
        "It was addressed to the device itself.",
        "It was addressed to the device itself.",
        "";
    FromDevice, "from-device", Untranslated,
        "The device itself sent it, and no rule translated it.",
        "The device itself sent it, and no rule translated it: none looks at it, unless \
         `translates-own = true`.",
        "";
}

impl Reason {
    /// Whether something had run out.
    pub fn is_shortage(self) -> bool {
        let refused = [
            Self::PoolExhausted,
            Self::PortsExhausted,
            Self::HostLimit,
            Self::RuleLimit,
            Self::DeviceFull,
        ];
        refused.contains(&self) || self == Self::PassedExhausted
    }
}
