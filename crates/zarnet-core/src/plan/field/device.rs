//! Keys of devices, and of what stands inside them.

use super::rows::fields;
use super::written::{Written, WrittenTable};
use super::{Field, FieldValue, Keys};
use crate::plan::{Place, Placed};

const PRESETS: &[&str] = &["bcp", "symmetric", "carrier"];
const VERDICTS: &[&str] = &["accept", "drop"];
const DEPENDENCE: &[&str] =
    &["endpoint-independent", "address-dependent", "address-and-port-dependent"];

fields! {
    /// Keys of `[[device]]`, one row each.
    DEVICE {
        "name" needed: Text, "", "name of the device", "";
        "note": Prose, "", "for people", "";
        "behaviour": OneOfOrTable(PRESETS, BEHAVIOUR), "bcp",
            "how it translates where rules leave it open", "RFC 4787";
        "default-policy": OneOf(VERDICTS), "accept",
            "what becomes of packets that no policy entry matches", "";
        "forwarding": Flag, "true", "whether it forwards between its interfaces", "";
        "timers": Table(TIMERS), "", "how long its state lasts", "RFC 8512";
        "interface": Tables(INTERFACE), "", "its interfaces", "";
        "route": Tables(ROUTE), "", "static routes", "";
        "acl": Tables(ACL), "", "filters that interfaces name", "RFC 8519";
        "policy": Tables(POLICY), "", "entries between realms; the first that matches decides", "";
        "pool": Tables(POOL), "", "external addresses to hand out", "";
        "rule": Tables(RULE), "", "translation rules, in their priority", "RFC 2663";
    }
}

fields! {
    /// Keys of `behaviour`, one row each.
    BEHAVIOUR {
        "preset": OneOf(PRESETS), "bcp", "what the other keys are if left out", "";
        "mapping": OneOf(DEPENDENCE), "endpoint-independent",
            "when another peer reuses a mapping", "RFC 4787 REQ-1";
        "filtering": OneOf(DEPENDENCE), "endpoint-independent",
            "which peers a dynamic mapping lets in", "RFC 4787 REQ-8";
        "pooling": OneOf(&["paired", "arbitrary"]), "paired",
            "one external address a host, or any", "RFC 4787 REQ-2";
        "port-assignment": OneOf(&["preserve", "sequential", "random"]), "preserve",
            "how an external port is found", "RFC 4787 section 4.2.1";
        "port-classes": TextList, "1-1023 -> 1-1023, 1024-65535 -> 1024-65535",
            "which external ports an internal one becomes", "RFC 4787 REQ-3";
        "port-parity": Flag, "false", "whether odd stays odd and even stays even", "RFC 4787 REQ-4";
        "port-overloading": Flag, "false",
            "whether peers share one external end", "RFC 7857 section 3";
        "ports-per-host": Number, "",
            "most endpoint mappings of an internal address", "RFC 6888 REQ-4";
        "block-size": Number, "", "ports are handed out in blocks of so many", "RFC 7422";
        "max-mappings": Number, "", "most dynamic mappings on the device", "";
        "max-sessions": Number, "", "most sessions on the device", "";
        "hairpin-source": OneOf(&["external", "keep"]), "external",
            "what a hairpinned packet shows as its source", "RFC 4787 REQ-9";
        "rule-order": OneOf(&["listed", "fixed-first"]), "listed",
            "in which order source rules are tried", "";
        "policy-sees": OneOf(&["translated", "original"]), "translated",
            "which destination the policy looks at", "";
        "answer-arp": OneOf(&["translated", "listed"]), "translated",
            "for which external addresses ARP is answered", "";
        "hold-down-timeout": Time, "0", "how long a freed external port rests", "RFC 6888 REQ-8";
        "refresh": OneOf(&["outbound", "both"]), "outbound",
            "which packets keep UDP alive", "RFC 4787 REQ-6";
        "answers-leave": OneOf(&["by-route", "as-came"]), "by-route",
            "by which interface answers leave", "";
        "translates-own": Flag, "false", "whether rules look at the device's own traffic", "";
        "cannot": Texts, "",
            "what it lacks: port-change, hairpin, icmp, ranges, spread, both-ends", "";
    }
}

fields! {
    /// Keys of `timers`, one row each.
    TIMERS {
        "udp-timeout": Time, "300", "UDP without traffic", "RFC 4787 REQ-5";
        "tcp-idle-timeout": Time, "7440", "TCP, established, without traffic", "RFC 5382 REQ-5";
        "tcp-trans-open-timeout": Time, "240", "TCP, not yet established", "RFC 5382 REQ-5";
        "tcp-trans-close-timeout": Time, "240", "TCP, after FIN both ways", "RFC 5382 REQ-5";
        "tcp-in-syn-timeout": Time, "6",
            "an unsolicited SYN is held (not predicted)", "RFC 5382 REQ-4";
        "icmp-timeout": Time, "60", "ICMP query without traffic", "RFC 5508 REQ-2";
        "fragment-min-timeout": Time, "2", "fragments wait for the first one", "RFC 6146";
        "other-timeout": Time, "120", "other protocols without traffic", "";
        "binding": Time, "0", "an address mapping outlasts its sessions", "";
        "per-port": NamedTimes, "",
            "instead, by destination port: { \"53/udp\" = 10 }", "RFC 4787 REQ-5";
    }
}

fields! {
    /// Keys of `[[device.interface]]`, one row each.
    INTERFACE,
    /// An interface as written.
    DraftInterface: "an interface" {
        "name" name needed: Text, "", "name of the interface", "";
        "realm" realm: Text, "",
            "the realm that rules and policies name, such as internal or \
             external", "RFC 2663 section 2.1";
        "segment" segment: Text, "by prefix", "segment that it is on", "";
        "address" address needed: Texts, "",
            "address with prefix length; the first is the one that overloads use", "";
        "lease" lease: Flag, "false", "whether the address may change by a lease", "";
        "also" also: Texts, "", "further addresses of its own", "";
        "proxy-arp" proxy_arp: Texts, "", "additional addresses that it answers for", "";
        "ping" ping: Flag, "true", "whether it answers echo requests", "";
        "services" services: Texts, "", "services that the device offers on it", "";
        "ingress-acl" ingress_acl: Text, "", "filter on what comes in", "RFC 8519";
        "egress-acl" egress_acl: Text, "", "filter on what goes out", "RFC 8519";
        "note" note: Prose, "", "for people", "";
    }
}

fields! {
    /// Keys of `[[device.route]]`, one row each.
    ROUTE,
    /// A static route as written.
    DraftRoute: "a route" {
        "to" to needed: Text, "", "destination prefix", "";
        "via" via needed: Text, "", "address of the next hop", "";
        "source" source: Texts, "any", "senders that it is for, before their translation", "";
        "from" from: Texts, "any",
            "realms or interfaces by which the packets come in that it is for", "";
        "note" note: Prose, "", "for people", "";
    }
}

fields! {
    /// Keys of `[[device.acl]]`, one row each.
    ACL,
    /// A filter as written.
    DraftAcl: "a filter" {
        "name" name needed: Text, "", "name of the filter", "";
        "entries" entries: Tables(ACL_ENTRY) of DraftAclEntry, "",
            "the first that matches decides; after the last everything is dropped", "RFC 8519";
        "note" note: Prose, "", "for people", "";
    }
}

fields! {
    /// Keys of an entry of a filter.
    ACL_ENTRY,
    /// An entry of a filter as written.
    DraftAclEntry: "an entry of a filter" {
        "accept" accept: Texts, "",
            "services to accept: 443/tcp, 8000-8010/udp, icmp, any, names of [services]", "";
        "drop" drop: Texts, "", "services to drop", "";
        "source" source: Texts, "any",
            "senders: addresses, prefixes, ranges, names of hosts and groups", "";
        "destination" destination: Texts, "any",
            "receivers: addresses, prefixes, ranges, names of hosts and groups", "";
        "source-service" source_service: Texts, "any", "services of the source", "";
        "answers" answers: Flag, "false",
            "only packets of a known session, against its initiator's direction", "";
        "note" note: Prose, "", "for people", "";
    }
}

fields! {
    /// Keys of `[[device.policy]]`, one row each.
    POLICY,
    /// A policy entry as written.
    DraftPolicy: "a policy entry" {
        "from" from: Texts, "any", "realms or interfaces of the sender", "";
        "into" into: Texts, "any", "realms or interfaces of the receiver", "";
        "accept" accept: Texts, "",
            "services to accept: 443/tcp, 8000-8010/udp, icmp, any, names of [services]", "";
        "drop" drop: Texts, "", "services to drop", "";
        "source" source: Texts, "any",
            "senders: addresses, prefixes, ranges, names of hosts and groups", "";
        "destination" destination: Texts, "any",
            "receivers: addresses, prefixes, ranges, names of hosts and groups", "";
        "note" note: Prose, "", "for people", "";
    }
}

fields! {
    /// Keys of `[[device.pool]]`, one row each.
    POOL,
    /// A pool as written.
    DraftPool: "a pool" {
        "name" name needed: Text, "", "name of the pool", "";
        "addresses" addresses needed: Texts, "", "addresses, ranges and prefixes", "";
        "pick" pick: OneOf(&["lowest", "highest", "in-turn", "random", "by-source"]), "lowest",
            "which address is handed out", "";
        "usable" usable: Text, "hosts", "`all`: network and broadcast addresses too", "";
        "note" note: Prose, "", "for people", "";
    }
}

fields! {
    /// Keys of `[[device.rule]]`, one row each.
    RULE,
    /// A rule as written; which keys are allowed depends on its type.
    DraftRule: "a rule" {
        "name" name needed: Text, "", "name of the rule", "";
        "type" kind needed: OneOf(&["static", "pool", "overload", "forward", "exempt"]), "",
            "what it does", "RFC 2663";
        "enabled" enabled: Flag, "true", "whether it takes part", "";
        "log" log: FlagOrOneOf(&["sessions", "mappings", "blocks"]), "false",
            "what of its translations is logged; blocks needs a block-size", "RFC 8158 section 5";
        "note" note: Prose, "", "for people", "";
        "from" from: Texts, "internal", "realms or interfaces of the internal side", "";
        "into" into: Texts, "external", "realms or interfaces of the external side", "";
        "source" source: Texts, "any",
            "senders: addresses, prefixes, ranges, names of hosts and groups", "";
        "destination" destination: Texts, "any",
            "receivers: addresses, prefixes, ranges, names of hosts and groups", "";
        "service" service: Texts, "any",
            "services: 443/tcp, 8000-8010/udp, icmp, any, names of [services]", "";
        "direction" direction: OneOf(&["both", "outbound", "inbound"]), "both",
            "of a static: in which directions it translates", "";
        "limit" limit: Number, "",
            "most dynamic mappings, or sessions of a fixed rule", "RFC 6888 REQ-4";
        "internal" internal: Texts, "",
            "of a static: addresses; of a forward: ADDRESS:PORT, or several", "";
        "external" external: Text, "",
            "of a static: addresses; of a forward: END:PORT/PROTOCOL, or END:SERVICE", "";
        "as" translate_as: Text, "", "an interface, a pool or an address that senders become", "";
        "when-exhausted" when_exhausted: Text, "drop",
            "drop, pass, or what to overload instead", "";
        "spread" spread: OneOf(&["in-turn", "by-source"]), "in-turn",
            "how sessions are spread over several servers", "";
        "hairpin" hairpin: Texts, "",
            "realms whose hosts may use the external end", "RFC 4787 REQ-9";
    }
}
