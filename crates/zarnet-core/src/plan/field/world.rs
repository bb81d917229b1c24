//! Keys of the plan itself, of segments, hosts, expectations and `[check]`.

use super::rows::fields;
use super::written::{Written, WrittenTable};
use super::{DEVICE, Field, FieldValue, Keys};
use crate::plan::{Place, Placed};

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
    /// Keys of `[[segment]]`, one row each.
    SEGMENT,
    /// A segment as written.
    DraftSegment: "a segment" {
        "name" name needed: Text, "", "name of the segment", "";
        "internet" internet: Flag, "false", "whether it stands for the public network", "";
        "checks-source" checks_source: Flag, "false",
            "whether the provider drops packets from a source that is not of the line they came \
             by", "RFC 2827";
        "note" note: Prose, "", "for people", "";
        "routed" routed: Tables(ROUTED) of DraftRouted, "",
            "blocks that the provider routes to an address on it", "";
    }
}

fields! {
    /// Keys of `routed` of a segment.
    ROUTED,
    /// A block that the provider routes, as written.
    DraftRouted: "a routed prefix" {
        "to" to needed: Text, "", "prefix that is routed", "";
        "via" via needed: Text, "", "address of the next hop", "";
    }
}

fields! {
    /// Keys of `[[host]]`, one row each.
    HOST,
    /// A host as written.
    DraftHost: "a host" {
        "name" name needed: Text, "", "name of the host", "";
        "address" address needed: Text, "", "address with prefix length", "";
        "gateway" gateway: Text, "", "address of its default gateway", "";
        "listens" listens: Texts, "every service",
            "services that it answers: 443/tcp, 8000-8010/udp, icmp, any, names of [services]", "";
        "segment" segment: Text, "by prefix", "segment that it is on", "";
        "note" note: Prose, "", "for people", "";
    }
}

fields! {
    /// Keys of `[[expect]]`, one row each.
    EXPECT,
    /// An expectation as written.
    DraftExpect: "an expectation" {
        "flow" flow needed: Text, "", "the flow: SOURCE[:PORT] -> DESTINATION[:PORT]/PROTOCOL", "";
        "becomes" becomes: Text, "", "source that the receiver sees", "";
        "reaches" reaches: Text, "", "destination that the packet arrives at", "";
        "refused" refused: Flag, "", "whether a device or host decides against it", "";
        "unreachable" unreachable: Flag, "", "whether it comes to no answer", "";
        "reason" reason: Text, "", "reason for which it is not delivered", "";
        "note" note: Prose, "", "for people", "";
        "seen-by" seen_by: TableOrTables(SEEN_BY) of DraftSeenBy, "",
            "how places on the way see it", "";
    }
}

fields! {
    /// Keys of `seen-by` of an expectation.
    SEEN_BY,
    /// What must be seen at a place, as written.
    DraftSeenBy: "a view" {
        "at" at needed: Text, "", "DEVICE/INTERFACE", "";
        "source" source: Text, "", "source that the packet has there", "";
        "destination" destination: Text, "", "destination that the packet has there", "";
    }
}

fields! {
    /// Keys of `[check]`, one row each.
    CHECK {
        "allow": Texts, "", "findings that are not reported", "";
        "deny": Texts, "", "findings that count as errors", "";
    }
}
