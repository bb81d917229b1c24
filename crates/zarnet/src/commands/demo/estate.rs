//! The files of the demo estate.

/// The files of the estate, with a line on what each shows.
pub(super) const FILES: [(&str, &[u8], &str); 10] = [
    (
        "harbour.toml",
        include_bytes!("../../../../../demo/saltmere/harbour.toml"),
        "the plan: one edge, and what must hold of it",
    ),
    (
        "jetty.toml",
        include_bytes!("../../../../../demo/saltmere/jetty.toml"),
        "a part of the plan: a provider's box, with our own edge after it",
    ),
    (
        "morning.csv",
        include_bytes!("../../../../../demo/saltmere/morning.csv"),
        "a flow list: 2,782 flows of one morning",
    ),
    (
        "storm.toml",
        include_bytes!("../../../../../demo/saltmere/storm.toml"),
        "a scenario: generated load, and the events during it",
    ),
    (
        "after.toml",
        include_bytes!("../../../../../demo/saltmere/after.toml"),
        "the plan after a change: a line for each office, and ticketing switched off",
    ),
    (
        "ferry-office.toml",
        include_bytes!("../../../../../demo/saltmere/ferry-office.toml"),
        "another plan: the ferry office gets a second line to the internet",
    ),
    (
        "terminal.toml",
        include_bytes!("../../../../../demo/saltmere/terminal.toml"),
        "another plan: booking desks with a pool, and a hall full of phones behind one address",
    ),
    (
        "saturday.toml",
        include_bytes!("../../../../../demo/saltmere/saturday.toml"),
        "a scenario: the Saturday in August on which both run out",
    ),
    (
        "observed.csv",
        include_bytes!("../../../../../demo/saltmere/observed.csv"),
        "a table that the edge might really have at a quarter to nine",
    ),
    (
        "quay.pcap.gz",
        include_bytes!("../../../../../demo/saltmere/quay.pcap.gz"),
        "a capture made at the interface `quay`",
    ),
];

macro_rules! faults {
    ($($name:literal,)*) => {
        /// Small plans with one fault each, and an expectation that fails because of it.
        pub(super) const FAULTS: &[(&str, &[u8])] = &[
            $((
                concat!($name, ".toml"),
                include_bytes!(concat!("../../../../../demo/faults/", $name, ".toml")),
            )),*
        ];
    };
}

faults! {
    "answer-by-other-line",
    "answers-not-accepted",
    "arrives-elsewhere",
    "chain-wrong-address",
    "chain-wrong-port",
    "destination-not-in-list",
    "device-full",
    "disabled-by-event",
    "earlier-rule",
    "egress-filter",
    "empty-group",
    "exempted",
    "external-address-not-held",
    "filter-not-attached",
    "filtered-peer",
    "forward-missing",
    "hairpin-answered-directly",
    "hairpin-off",
    "host-limit",
    "host-mask",
    "ingress-filter",
    "interface-mask",
    "interface-without-realm",
    "lease-changed",
    "lease-changed-inbound",
    "mapping-ended",
    "name-contradicts-value",
    "next-hop-unanswered",
    "no-gateway",
    "no-route-back",
    "no-route-out",
    "no-rule",
    "not-forwarding",
    "old-session-alive",
    "open-to-others",
    "outside-fault",
    "policy-missing",
    "policy-sees-other-address",
    "pool-exhausted",
    "ports-exhausted",
    "protocol-not-covered",
    "realm-without-interface",
    "realms-swapped",
    "route-circle",
    "rule-disabled",
    "rule-limit",
    "rule-scope",
    "server-not-listening",
    "server-without-gateway",
    "service-not-in-list",
    "source-not-in-list",
    "starts-at-device",
    "two-faults",
    "untranslated-rule-missing",
    "upstream-does-not-route",
    "wrong-gateway",
    "wrong-segment",
}

/// The days that some of the faults need.
pub(super) const FAULT_DAYS: [(&str, &[u8]); 3] = [
    ("disabled-by-event.day", include_bytes!("../../../../../demo/faults/disabled-by-event.day")),
    ("mapping-ended.day", include_bytes!("../../../../../demo/faults/mapping-ended.day")),
    ("old-session-alive.day", include_bytes!("../../../../../demo/faults/old-session-alive.day")),
];
