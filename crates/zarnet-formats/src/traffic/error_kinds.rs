//! What can be wrong with traffic, by name, for those who look it up.

use zarnet_core::plan::ErrorKind;

/// What can be wrong with traffic.
pub const TRAFFIC_ERRORS: &[ErrorKind] = &[
    ErrorKind {
        name: "unreadable",
        means: "The file cannot be opened, read or unpacked.",
        advice: "",
    },
    ErrorKind {
        name: "unsupported-link-type",
        means: "A capture holds only frames of a link type that is not read: Ethernet, raw IP, \
             loopback and cooked captures are.",
        advice: "",
    },
    ErrorKind {
        name: "too-large",
        means: "It holds more than is read ([limits](limits.md)).",
        advice: "",
    },
    ErrorKind {
        name: "time-too-long",
        means: "A time or a length of time of more than 100 years.",
        advice: "",
    },
    ErrorKind { name: "empty-file", means: "There is nothing in it.", advice: "" },
    ErrorKind {
        name: "unknown-format",
        means: "It is no flow list, scenario or capture.",
        advice: "",
    },
    ErrorKind { name: "header-missing", means: "A CSV list begins with data.", advice: "" },
    ErrorKind {
        name: "unknown-column",
        means: "A column or key means nothing; the nearest is proposed.",
        advice: "",
    },
    ErrorKind {
        name: "missing-column",
        means: "A column, or a value in it, that every flow needs is not there.",
        advice: "",
    },
    ErrorKind { name: "column-twice", means: "A column stands twice.", advice: "" },
    ErrorKind {
        name: "field-count",
        means: "A line has more or fewer fields than the header.",
        advice: "",
    },
    ErrorKind {
        name: "line-too-long",
        means: "A line is longer than 1,048,576 octets.",
        advice: "",
    },
    ErrorKind { name: "malformed-line", means: "A line is not text, CSV or JSON.", advice: "" },
    ErrorKind { name: "bad-field", means: "Not an address, port, protocol or time.", advice: "" },
    ErrorKind {
        name: "unknown-ending",
        means: "Flows end by `close`, `reset` or `silent`.",
        advice: "",
    },
    ErrorKind {
        name: "negative-time",
        means: "A time lies before the beginning of the clock.",
        advice: "",
    },
    ErrorKind {
        name: "unknown-host",
        means: "No host or device of the plan is called so.",
        advice: "",
    },
    ErrorKind {
        name: "address-of-two",
        means: "Two hosts have the address: name the host instead.",
        advice: "",
    },
    ErrorKind {
        name: "mixed-families",
        means: "Source and destination are of two families.",
        advice: "",
    },
    ErrorKind { name: "port-missing", means: "The protocol needs a destination port.", advice: "" },
    ErrorKind { name: "port-not-possible", means: "The protocol has no ports.", advice: "" },
    ErrorKind {
        name: "vantage-missing",
        means: "A capture needs `--seen-at DEVICE/INTERFACE`.",
        advice: "",
    },
    ErrorKind {
        name: "capture-truncated",
        means: "The capture ends in the middle of a packet.",
        advice: "",
    },
    ErrorKind {
        name: "capture-malformed",
        means: "A block of the capture contradicts itself.",
        advice: "",
    },
    ErrorKind {
        name: "scenario",
        means: "Something is wrong in a scenario; the sentence says what.",
        advice: "",
    },
    ErrorKind {
        name: "too-much-memory",
        means: "The load profiles would need more memory for their table than is free: lower \
                `rate` \
             or `each-lasts`.",
        advice: "",
    },
];
