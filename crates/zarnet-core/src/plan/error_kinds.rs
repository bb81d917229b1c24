//! What can be wrong with a plan, by name, for those who look it up.

/// A kind of error by its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ErrorKind {
    /// Stable name of the error.
    pub name: &'static str,
    /// What the error means, in a sentence.
    pub means: &'static str,
    /// What to do about it; empty if the error says so itself.
    pub advice: &'static str,
}

/// What can be wrong with a plan.
pub const PLAN_ERRORS: &[ErrorKind] = &[
    ErrorKind {
        name: "syntax",
        means: "The file is not TOML.",
        advice: "Correct the line; errors that follow from it are not listed.",
    },
    ErrorKind {
        name: "unknown-key",
        means: "A key means nothing where it stands.",
        advice: "The nearest key that does is proposed.",
    },
    ErrorKind {
        name: "missing-key",
        means: "A key that is needed is not there.",
        advice: "Add it.",
    },
    ErrorKind {
        name: "wrong-type",
        means: "A value is of another type: text for a number, say.",
        advice: "Write the type that the message names.",
    },
    ErrorKind {
        name: "unknown-value",
        means: "A value is not one of a fixed list.",
        advice: "The message lists the valid values.",
    },
    ErrorKind {
        name: "out-of-bounds",
        means: "A number is too small or too large.",
        advice: "The message gives the bounds.",
    },
    ErrorKind {
        name: "notation",
        means: "Not an address, prefix, range, port, service, protocol or time; or a range that \
                its \
             prefix length does not hold.",
        advice: "The message shows the forms that are understood.",
    },
    ErrorKind {
        name: "reversed-range",
        means: "A range runs backwards.",
        advice: "Swap its ends.",
    },
    ErrorKind {
        name: "mask-ambiguous",
        means: "`0.0.0.0` or `255.255.255.255` after a slash is a mask and an inverted mask at \
                once.",
        advice: "Write the prefix length.",
    },
    ErrorKind {
        name: "unknown-name",
        means: "Nothing is called so.",
        advice: "The nearest name is proposed.",
    },
    ErrorKind {
        name: "duplicate-name",
        means: "Two things of one kind have one name.",
        advice: "Rename one.",
    },
    ErrorKind {
        name: "address-of-two",
        means: "A flow names an address that two hosts have.",
        advice: "Write the name of the host.",
    },
    ErrorKind {
        name: "group-cycle",
        means: "A group contains itself.",
        advice: "Take a name out of the circle.",
    },
    ErrorKind {
        name: "key-not-for-type",
        means: "A rule has a key that its type does not know.",
        advice: "Take it out, or change `type`.",
    },
    ErrorKind {
        name: "sizes-differ",
        means: "A static rule has more addresses on one side.",
        advice: "Make both the same size.",
    },
    ErrorKind {
        name: "not-one-address",
        means: "One address is needed here.",
        advice: "Write one.",
    },
    ErrorKind {
        name: "not-one-range",
        means: "One range without holes is needed here.",
        advice: "Split the rule.",
    },
    ErrorKind {
        name: "families-differ",
        means: "One end is IPv4, the other IPv6.",
        advice: "Use one family.",
    },
    ErrorKind {
        name: "ports-overflow",
        means: "The internal ports of a forward would end after 65535.",
        advice: "Begin lower.",
    },
    ErrorKind {
        name: "external-end-twice",
        means: "Two rules of one kind claim one external end for overlapping senders.",
        advice: "Give one another address or port, or narrow `source`.",
    },
    ErrorKind {
        name: "address-held-twice",
        means: "Two would answer for one address on a segment.",
        advice: "Give one another address.",
    },
    ErrorKind {
        name: "segment-ambiguous",
        means: "Interfaces or hosts share a prefix, and no segment is named.",
        advice: "Declare `[[segment]]` and name it.",
    },
    ErrorKind {
        name: "route-never-taken",
        means: "A route has a `source` or `from` that no packet can meet: nothing in it, or \
             addresses of the other family.",
        advice: "Correct the condition, or leave the route out.",
    },
    ErrorKind {
        name: "checks-nothing",
        means: "`checks-source` on a segment that is not the internet.",
        advice: "Set `internet = true`, or take it out.",
    },
    ErrorKind {
        name: "via-unreachable",
        means: "No interface has a prefix that holds a next hop.",
        advice: "Correct it.",
    },
    ErrorKind {
        name: "accept-or-drop",
        means: "An entry needs one of `accept` and `drop`.",
        advice: "Write one.",
    },
    ErrorKind {
        name: "device-cannot",
        means: "A rule needs what the device's `cannot` list says it lacks.",
        advice: "Change the rule, or the list.",
    },
    ErrorKind {
        name: "behaviour-contradiction",
        means: "Two choices of behaviour exclude each other.",
        advice: "The sentence says which.",
    },
    ErrorKind {
        name: "too-many",
        means: "There is more of something than a plan may hold ([limits](limits.md)).",
        advice: "Split the plan.",
    },
    ErrorKind {
        name: "empty-plan",
        means: "The plan declares nothing: no device, host, segment, group or expectation.",
        advice: "Declare a device. An included file may be empty.",
    },
    ErrorKind {
        name: "hidden-character",
        means: "A name or value holds a character that acts instead of showing: a control \
                character, \
             an invisible one, or one that turns the direction of text.",
        advice: "Take it out. A `note` may have several lines.",
    },
    ErrorKind {
        name: "include-outside",
        means: "A file that is to be included lies outside the folder of the plan named on the \
             command line.",
        advice: "Move it below that folder, or run with `--allow-outside`.",
    },
    ErrorKind {
        name: "include-unreadable",
        means: "A file that is to be included cannot be read.",
        advice: "Correct its path.",
    },
    ErrorKind {
        name: "pool-too-large",
        means: "A pool lists more than 16,777,216 addresses.",
        advice: "Make it smaller.",
    },
];
