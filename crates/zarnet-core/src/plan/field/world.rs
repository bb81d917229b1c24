//! Keys of the plan itself, of segments, hosts, expectations and `[check]`.

use super::FieldValue::{Flag, NamedTexts, Table, TableOrTables, Tables, Text, Texts};
use super::{DEVICE, Field, fields};

fields! {
    /// Keys of the plan itself.
    PLAN {
        "plan": Text, "", "what the plan is called", "";
        "include": Texts, "", "other files of the plan, relative to this one", "";
        "addresses": NamedTexts, "", "named groups of addresses", "";
        "services": NamedTexts, "", "named groups of services", "";
        "segment": Tables(SEGMENT), "", "layer-2 networks", "";
        "host": Tables(HOST), "", "machines that do not translate", "";
        "device": Tables(DEVICE), "", "routers and firewalls that translate", "";
        "expect": Tables(EXPECT), "", "what must hold of flows", "";
        "check": Table(CHECK), "", "findings to allow or to deny", "";
    }
}

fields! {
    /// Keys of `[[segment]]`.
    SEGMENT {
        "name" needed: Text, "", "name of the segment", "";
        "internet": Flag, "false", "whether it stands for the public network", "";
        "checks-source": Flag, "false",
            "whether the provider drops packets from a source that is not of the line they came \
             by", "RFC 2827";
        "note": Text, "", "for people", "";
        "routed": Tables(ROUTED), "", "blocks that the provider routes to an address on it", "";
    }
}

fields! {
    /// Keys of `routed` of a segment.
    ROUTED {
        "to" needed: Text, "", "prefix that is routed", "";
        "via" needed: Text, "", "address of the next hop", "";
    }
}

fields! {
    /// Keys of `[[host]]`.
    HOST {
        "name" needed: Text, "", "name of the host", "";
        "address" needed: Text, "", "address with prefix length", "";
        "gateway": Text, "", "address of its default gateway", "";
        "listens": Texts, "every service",
            "services that it answers: 443/tcp, 8000-8010/udp, icmp, any, names of [services]", "";
        "segment": Text, "by prefix", "segment that it is on", "";
        "note": Text, "", "for people", "";
    }
}

fields! {
    /// Keys of `[[expect]]`.
    EXPECT {
        "flow" needed: Text, "", "the flow: SOURCE[:PORT] -> DESTINATION[:PORT]/PROTOCOL", "";
        "becomes": Text, "", "source that the receiver sees", "";
        "reaches": Text, "", "destination that the packet arrives at", "";
        "refused": Flag, "", "whether a device or host decides against it", "";
        "unreachable": Flag, "", "whether it comes to no answer", "";
        "reason": Text, "", "reason for which it is not delivered", "";
        "note": Text, "", "for people", "";
        "seen-by": TableOrTables(SEEN_BY), "", "how places on the way see it", "";
    }
}

fields! {
    /// Keys of `seen-by` of an expectation.
    SEEN_BY {
        "at" needed: Text, "", "DEVICE/INTERFACE", "";
        "source": Text, "", "source that the packet has there", "";
        "destination": Text, "", "destination that the packet has there", "";
    }
}

fields! {
    /// Keys of `[check]`.
    CHECK {
        "allow": Texts, "", "findings that are not reported", "";
        "deny": Texts, "", "findings that count as errors", "";
    }
}
