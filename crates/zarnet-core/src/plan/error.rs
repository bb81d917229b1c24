//! Everything that can be wrong with a plan.

use std::net::IpAddr;

use super::Place;
use crate::net::NotationError;

/// Something wrong, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// What is wrong, as data.
    pub error: PlanError,
    /// Where it stands in the plan's files.
    pub place: Place,
    /// Another place that has to do with it, and what it is.
    pub other: Option<(Place, &'static str)>,
}

impl Problem {
    /// A problem with one place.
    pub fn new(error: PlanError, place: Place) -> Self {
        Self { error, place, other: None }
    }

    /// A problem between two places.
    pub fn between(error: PlanError, place: Place, other: Place, label: &'static str) -> Self {
        Self { error, place, other: Some((other, label)) }
    }
}

/// What is wrong with a plan. Each has a stable name ([`PlanError::name`]) and a page in the
/// documentation.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PlanError {
    /// The file is not the language it should be in.
    #[error("this is not TOML: {0}")]
    Syntax(String),
    /// A key that means nothing here.
    #[error("`{key}` means nothing in {table}")]
    UnknownKey {
        /// The key as it is written.
        key: String,
        /// What it stands in.
        table: &'static str,
        /// The nearest key that does mean something.
        near: Option<String>,
    },
    /// A key that is needed.
    #[error("{table} needs `{key}`")]
    MissingKey {
        /// The key that is missing.
        key: &'static str,
        /// The table that lacks it.
        table: String,
    },
    /// A value of another type.
    #[error("`{key}` must be {wanted}, not {got}")]
    WrongType {
        /// The key that the value is for.
        key: String,
        /// What it must be.
        wanted: &'static str,
        /// The type that the value has.
        got: &'static str,
    },
    /// A value that is not one of a list.
    #[error("`{value}` is not a value of `{key}`")]
    UnknownValue {
        /// The key that the value is for.
        key: &'static str,
        /// The value as it is written.
        value: String,
        /// The nearest value that is one.
        near: Option<String>,
        /// The values that are valid, as a list.
        valid: String,
    },
    /// A number outside of its bounds.
    #[error("`{key}` must be between {low} and {high}, not {got}")]
    OutOfBounds {
        /// The key that the value is for.
        key: String,
        /// The least value that is accepted.
        low: i64,
        /// The greatest value that is accepted.
        high: i64,
        /// The value as it is written.
        got: i64,
    },
    /// Not an address, port, service or time.
    #[error("{0}")]
    Notation(#[from] NotationError),
    /// A name that nothing has.
    #[error("there is no {what} `{name}`")]
    UnknownName {
        /// What is looked for.
        what: &'static str,
        /// The name that two pieces have.
        name: String,
        /// The nearest name that something has.
        near: Option<String>,
    },
    /// Two things of one kind with one name.
    #[error("{what} `{name}` is defined twice")]
    DuplicateName {
        /// What kind of piece was looked for.
        what: &'static str,
        /// The name that nothing has.
        name: String,
    },
    /// An address that two hosts have, where one has to be meant.
    #[error("two hosts have the address {0}")]
    AddressOfTwo(std::net::IpAddr),
    /// A group that contains itself.
    #[error("the group `{0}` contains itself")]
    GroupCycle(String),
    /// A rule has a key that its type does not know.
    #[error("a rule of type `{kind}` has no `{key}`")]
    KeyNotForType {
        /// The key that does not belong there.
        key: &'static str,
        /// The type of the rule.
        kind: &'static str,
    },
    /// A static rule with more addresses on one side.
    #[error("{internal} internal and {external} external addresses do not pair up")]
    SizesDiffer {
        /// Number of internal addresses.
        internal: u128,
        /// Number of external addresses.
        external: u128,
    },
    /// One address is needed.
    #[error("`{key}` must be one address; this is {count}")]
    NotOneAddress {
        /// The key that the value is for.
        key: &'static str,
        /// How many it is.
        count: u128,
    },
    /// A range without holes is needed.
    #[error("`{key}` must be one range of addresses without holes")]
    NotOneRange {
        /// The key that the value is for.
        key: &'static str,
    },
    /// The two ends of a rule are of two families.
    #[error("the internal end is {internal}, the external end is {external}")]
    FamiliesDiffer {
        /// Family of the internal end.
        internal: &'static str,
        /// Family of the external end.
        external: &'static str,
    },
    /// The internal ports of a forward would pass 65535.
    #[error("{ports} ports from {first} on end after 65535")]
    PortsOverflow {
        /// Number of ports on one side.
        ports: u32,
        /// The first internal port.
        first: u16,
    },
    /// Two rules claim one external end.
    #[error("the external end {end} is claimed by `{first}` and by `{second}`")]
    ExternalEndTwice {
        /// The external end that both claim.
        end: String,
        /// The rule listed first.
        first: String,
        /// The rule that claims it as well.
        second: String,
    },
    /// Two would answer for one address on a segment.
    #[error("{address} is held twice on the segment `{segment}`")]
    AddressHeldTwice {
        /// The address that two hold.
        address: IpAddr,
        /// The segment where both are.
        segment: String,
    },
    /// The segment of an interface or host cannot be told.
    #[error("the segment of {what} `{name}` cannot be determined: {reason}")]
    SegmentAmbiguous {
        /// Whether a host or an interface has it.
        what: &'static str,
        /// Name of that host or interface.
        name: String,
        /// Why the address cannot be used.
        reason: String,
    },
    /// A route with a condition that no packet can meet.
    #[error("the route is never taken: its `{key}` {why}")]
    RouteNeverTaken {
        /// The key that the value is for.
        key: &'static str,
        /// Why nothing meets it.
        why: &'static str,
    },
    /// A segment that is not the internet, where nothing looks at sources.
    #[error(
        "`checks-source` says what a provider does with packets from its customers: it needs \
         `internet = true`"
    )]
    ChecksNothing,
    /// A next hop that no interface can reach.
    #[error("no interface of the device has a prefix that holds the next hop {0}")]
    ViaUnreachable(IpAddr),
    /// An entry that accepts and drops, or neither.
    #[error("an entry needs one of `accept` and `drop`")]
    AcceptOrDrop,
    /// The device says that it cannot do what a rule needs.
    #[error("rule `{rule}` needs `{lack}`, which the device cannot do")]
    DeviceCannot {
        /// The rule that lacks something.
        rule: String,
        /// What the rule needs.
        lack: &'static str,
    },
    /// Two choices of behaviour that exclude each other.
    #[error("{0}")]
    BehaviourContradiction(&'static str),
    /// More of something than can be numbered.
    #[error("more than {most} {what}")]
    TooMany {
        /// What there is too much of.
        what: &'static str,
        /// How many there may be.
        most: usize,
    },
    /// A plan that declares nothing.
    #[error("the plan declares nothing")]
    Empty,
    /// A character that acts instead of showing.
    #[error("`{key}` holds the character U+{code:04X}, which does not show")]
    HiddenCharacter {
        /// The key, or what the text is.
        key: String,
        /// Unicode number of the character.
        code: u32,
    },
    /// A file that is to be included lies outside of the plan's folder.
    #[error("`{path}` lies outside of the folder of the plan")]
    IncludeOutside {
        /// Path of the file.
        path: String,
    },
    /// A file that is to be included cannot be read.
    #[error("`{path}` cannot be included: {error}")]
    IncludeUnreadable {
        /// Path of the file.
        path: String,
        /// Why the file cannot be read.
        error: String,
    },
    /// A pool larger than can be kept track of.
    #[error("the pool lists {0} addresses; at most 16777216 can be handed out")]
    PoolTooLarge(u128),
}

impl PlanError {
    /// The stable name, under which the documentation explains it.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Syntax(_) => "syntax",
            Self::UnknownKey { .. } => "unknown-key",
            Self::MissingKey { .. } => "missing-key",
            Self::WrongType { .. } => "wrong-type",
            Self::UnknownValue { .. } => "unknown-value",
            Self::OutOfBounds { .. } => "out-of-bounds",
            Self::Notation(NotationError::Reversed(_)) => "reversed-range",
            Self::Notation(NotationError::MaskAmbiguous { .. }) => "mask-ambiguous",
            Self::Notation(_) => "notation",
            Self::UnknownName { .. } => "unknown-name",
            Self::DuplicateName { .. } => "duplicate-name",
            Self::AddressOfTwo(_) => "address-of-two",
            Self::GroupCycle(_) => "group-cycle",
            Self::KeyNotForType { .. } => "key-not-for-type",
            Self::SizesDiffer { .. } => "sizes-differ",
            Self::NotOneAddress { .. } => "not-one-address",
            Self::NotOneRange { .. } => "not-one-range",
            Self::FamiliesDiffer { .. } => "families-differ",
            Self::PortsOverflow { .. } => "ports-overflow",
            Self::ExternalEndTwice { .. } => "external-end-twice",
            Self::AddressHeldTwice { .. } => "address-held-twice",
            Self::SegmentAmbiguous { .. } => "segment-ambiguous",
            Self::RouteNeverTaken { .. } => "route-never-taken",
            Self::ChecksNothing => "checks-nothing",
            Self::ViaUnreachable(_) => "via-unreachable",
            Self::AcceptOrDrop => "accept-or-drop",
            Self::DeviceCannot { .. } => "device-cannot",
            Self::BehaviourContradiction(_) => "behaviour-contradiction",
            Self::TooMany { .. } => "too-many",
            Self::Empty => "empty-plan",
            Self::HiddenCharacter { .. } => "hidden-character",
            Self::IncludeOutside { .. } => "include-outside",
            Self::IncludeUnreadable { .. } => "include-unreadable",
            Self::PoolTooLarge(_) => "pool-too-large",
        }
    }

    /// A way out, in one line, where there is one.
    pub fn help(&self) -> Option<String> {
        let near = |near: &Option<String>| near.as_ref().map(|n| format!("did you mean `{n}`?"));
        match self {
            Self::UnknownKey { near: n, .. } | Self::UnknownName { near: n, .. } => near(n),
            Self::UnknownValue { near: n, valid, .. } => {
                near(n).or_else(|| Some(format!("valid are {valid}")))
            }
            Self::Notation(e) => e.help(),
            Self::DuplicateName { .. } => Some("give one of them another name".into()),
            Self::AddressOfTwo(_) => Some("write the name of the host instead".into()),
            Self::GroupCycle(_) => Some("take one of the names out of the circle".into()),
            Self::SizesDiffer { .. } => Some("make both ends the same size".into()),
            Self::ExternalEndTwice { .. } => Some(
                "give one another address or port, or narrow `source` or `into` so that they do \
                 not overlap"
                    .into(),
            ),
            Self::AddressHeldTwice { .. } => Some("give one of the two another address".into()),
            Self::SegmentAmbiguous { .. } => {
                Some("declare a `[[segment]]` and name it with `segment = \"...\"`".into())
            }
            Self::RouteNeverTaken { .. } => Some(
                "correct the condition, or leave the route \
                                                  out"
                .into(),
            ),
            Self::ChecksNothing => Some(
                "take `checks-source` out, or set `internet = \
                                         true`"
                    .into(),
            ),
            Self::ViaUnreachable(_) => Some(
                "the next hop must lie in the prefix of one of its \
                                             interfaces"
                    .into(),
            ),
            Self::AcceptOrDrop => Some("write `accept = \"443/tcp\"` or `drop = \"any\"`".into()),
            Self::DeviceCannot { lack, .. } => Some(format!(
                "change the rule, or take `{lack}` out of `cannot` if the device can \
                              do it after all"
            )),
            Self::Empty => Some(
                "declare a device; `zarnet new FILE` writes a plan to start \
                                 from"
                    .into(),
            ),
            Self::HiddenCharacter { .. } => Some("take the character out".into()),
            Self::IncludeOutside { .. } => Some(
                "move it below that folder, or allow it with \
                                                 --allow-outside"
                    .into(),
            ),
            Self::TooMany { .. } => Some(
                "split the plan; docs/limits.md says why there is a \
                                          limit"
                    .into(),
            ),
            Self::Syntax(_)
            | Self::MissingKey { .. }
            | Self::WrongType { .. }
            | Self::OutOfBounds { .. }
            | Self::KeyNotForType { .. }
            | Self::NotOneAddress { .. }
            | Self::NotOneRange { .. }
            | Self::FamiliesDiffer { .. }
            | Self::PortsOverflow { .. }
            | Self::BehaviourContradiction(_)
            | Self::IncludeUnreadable { .. }
            | Self::PoolTooLarge(_) => None,
        }
    }
}
