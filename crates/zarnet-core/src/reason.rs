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

macro_rules! reasons {
    ($($variant:ident, $name:literal, $class:ident, $sentence:literal;)*) => {
        $crate::named! {
            /// Why a flow was not translated.
            Reason { $($variant, $name, $sentence;)* }
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
        "The filter on the interface it came in by drops it.";
    EgressAcl, "egress-acl", Refused,
        "The filter on the interface it would leave by drops it.";
    Policy, "policy", Refused,
        "The policy between the two realms drops it.";
    Filtered, "filtered", Refused,
        "Something is mapped to the destination that does not let this sender in.";
    NoMapping, "no-mapping", Refused,
        "The external address is the device's to translate, but nothing is mapped there.";
    NoListener, "no-listener", Refused,
        "The packet reached its destination, which does not listen to this service.";
    PoolExhausted, "pool-exhausted", Refused,
        "Every address of the pool is borrowed by other hosts.";
    PortsExhausted, "ports-exhausted", Refused,
        "The external address has no free port left for this host.";
    HostLimit, "host-limit", Refused,
        "The internal host has as many mappings as `ports-per-host` allows.";
    RuleLimit, "rule-limit", Refused,
        "The rule holds as many mappings or sessions as its `limit` allows.";
    DeviceFull, "device-full", Refused,
        "The device holds as many mappings or sessions as it can.";
    UnsupportedProtocol, "unsupported-protocol", Refused,
        "A protocol without ports can be overloaded by one host for each peer only.";
    NoSession, "no-session", Refused,
        "A TCP packet from the middle of a connection that the device does not know.";
    UnsupportedFamily, "unsupported-family", Refused,
        "The rule or the flow would need a translation between or of families that is not done.";
    NoGateway, "no-gateway", Undelivered,
        "The sender has no gateway, and the destination is not on its link.";
    GatewayUnanswered, "gateway-unanswered", Undelivered,
        "Nobody answers for the gateway that the sender uses.";
    NobodyAnswers, "nobody-answers", Undelivered,
        "Nobody on the segment answers for the next address.";
    NoRoute, "no-route", Undelivered,
        "The device has no route to the destination.";
    NotForwarding, "not-forwarding", Undelivered,
        "The device does not forward between its interfaces.";
    Unrouted, "unrouted", Undelivered,
        "Nobody on the internet has a route to the destination.";
    PrivateAddressOnInternet, "private-address-on-internet", Undelivered,
        "A private or otherwise special address cannot be a source or destination on the internet.";
    UnexpectedSource, "unexpected-source", Undelivered,
        "The answer came from another endpoint than the one that was addressed.";
    NotForThisHost, "not-for-this-host", Undelivered,
        "The packet ended at a host that does not have the destination address.";
    Looped, "looped", Undelivered,
        "The packet passed more than 32 devices.";
    UnknownSource, "unknown-source", Undelivered,
        "Nothing in the plan tells where the sender is.";
    SourceOfOtherLine, "source-of-other-line", Undelivered,
        "The provider drops it: its source is not of the line that it came in by.";
    Exempt, "exempt", Untranslated,
        "A rule of type `exempt` leaves it as it is.";
    PassedExhausted, "passed-exhausted", Untranslated,
        "The rule's addresses are used up, and it lets the packet pass as it is.";
    NoRule, "no-rule", Untranslated,
        "No rule matches it; it was forwarded as it is.";
    OnLink, "on-link", Untranslated,
        "Sender and receiver are on one segment; no device was involved.";
    LinkOnly, "link-only", Untranslated,
        "Multicast, broadcast and link-local packets stay on their link; no device forwards them.";
    ToDevice, "to-device", Untranslated,
        "It was addressed to the device itself.";
    FromDevice, "from-device", Untranslated,
        "The device itself sent it, and no rule translated it.";
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
