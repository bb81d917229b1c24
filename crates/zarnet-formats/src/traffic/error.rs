//! What can be wrong with traffic.

use std::path::{Path, PathBuf};

use zarnet_core::net::NotationError;

/// Something wrong with an input, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TrafficError {
    /// The input as the user named it.
    pub input: PathBuf,
    /// Line of a list, number of a packet; `None` where the whole input is wrong.
    pub line: Option<u64>,
    /// What is wrong, as data.
    pub fault: Fault,
}

impl TrafficError {
    /// A fault of an input, at a line or packet; 0 for none in particular.
    pub(super) fn at(input: &Path, (line, fault): (u64, Fault)) -> Self {
        Self { input: input.to_owned(), line: (line > 0).then_some(line), fault }
    }
}

/// What is wrong. Each has a stable name and a page in the documentation.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// The file cannot be read.
    #[error("{0}")]
    Unreadable(String),
    /// A capture of a link type that is not read.
    #[error("frames of link type {0} are not read")]
    UnsupportedLinkType(i32),
    /// It holds more than is taken.
    #[error("{0}")]
    TooLarge(String),
    /// A time, or a length of time, of more than a century.
    #[error("{0} is more than 100 years")]
    TimeTooLong(String),
    /// The file is empty.
    #[error("there is nothing in it")]
    Empty,
    /// The file is of no kind that is known here.
    #[error("this is no flow list, scenario or capture")]
    UnknownFormat,
    /// A list that begins with data.
    #[error("the list has no header")]
    HeaderMissing,
    /// A column or key that means nothing.
    #[error("`{name}` is not a column that is known here")]
    UnknownColumn {
        /// Name of the column.
        name: String,
        /// The nearest that is one.
        near: Option<&'static str>,
    },
    /// A column that is needed.
    #[error("there is no `{0}`")]
    MissingColumn(&'static str),
    /// A column that stands twice.
    #[error("`{0}` stands twice")]
    ColumnTwice(String),
    /// A line with another number of fields.
    #[error("{got} fields where the header has {wanted}")]
    FieldCount {
        /// Fields of the header.
        wanted: usize,
        /// Fields of the line.
        got: usize,
    },
    /// A line that is too long to be one.
    #[error("the line is longer than {0} octets")]
    LineTooLong(usize),
    /// A line that is not text, or not the notation of the format.
    #[error("this is not {0}")]
    Malformed(String),
    /// Not an address, port, protocol or time.
    #[error("{column}: {error}")]
    Notation {
        /// Name of the column.
        column: &'static str,
        /// Why the value cannot be read.
        error: NotationError,
    },
    /// A value that is not one of a list.
    #[error("`{value}` is not a way to end; flows end by close, reset or silent")]
    UnknownEnding {
        /// The value as it is written.
        value: String,
    },
    /// A time before the clock begins.
    #[error("`{0}` lies before the beginning of the clock")]
    NegativeTime(String),
    /// A source or destination that nothing in the plan is called.
    #[error("there is no host or device `{name}` in the plan")]
    UnknownName {
        /// The name that the plan does not have.
        name: String,
        /// The name of the plan that is most like it.
        near: Option<String>,
    },
    /// An address that two hosts have.
    #[error("two hosts have the address {0}")]
    AddressOfTwo(std::net::IpAddr),
    /// The two ends of a flow are of two families.
    #[error("source and destination are of two address families")]
    MixedFamilies,
    /// A destination port that the protocol needs.
    #[error("{0} needs a destination port")]
    PortMissing(String),
    /// A port that the protocol does not have.
    #[error("{0} has no ports")]
    PortNotPossible(String),
    /// A capture without an observation point.
    #[error("a capture needs to know where it was made")]
    ObservationPointMissing,
    /// A capture that ends in the middle.
    #[error("the capture ends in the middle of a packet, after {0} packets")]
    CaptureTruncated(u64),
    /// A capture that makes no sense.
    #[error("the capture cannot be read on: {0}")]
    CaptureMalformed(String),
    /// A scenario with something wrong in it.
    #[error("{0}")]
    Scenario(String),
}

impl Fault {
    /// The stable name, under which the documentation explains it.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Unreadable(_) => "unreadable",
            Self::UnsupportedLinkType(_) => "unsupported-link-type",
            Self::TooLarge(_) => "too-large",
            Self::TimeTooLong(_) => "time-too-long",
            Self::Empty => "empty-file",
            Self::UnknownFormat => "unknown-format",
            Self::HeaderMissing => "header-missing",
            Self::UnknownColumn { .. } => "unknown-column",
            Self::MissingColumn(_) => "missing-column",
            Self::ColumnTwice(_) => "column-twice",
            Self::FieldCount { .. } => "field-count",
            Self::LineTooLong(_) => "line-too-long",
            Self::Malformed(_) => "malformed-line",
            Self::Notation { .. } => "bad-field",
            Self::UnknownEnding { .. } => "unknown-ending",
            Self::NegativeTime(_) => "negative-time",
            Self::UnknownName { .. } => "unknown-host",
            Self::AddressOfTwo(_) => "address-of-two",
            Self::MixedFamilies => "mixed-families",
            Self::PortMissing(_) => "port-missing",
            Self::PortNotPossible(_) => "port-not-possible",
            Self::ObservationPointMissing => "vantage-missing",
            Self::CaptureTruncated(_) => "capture-truncated",
            Self::CaptureMalformed(_) => "capture-malformed",
            Self::Scenario(_) => "scenario",
        }
    }

    /// A way out, in one line, where there is one.
    pub fn help(&self) -> Option<String> {
        Some(match self {
            Self::UnknownFormat => {
                "give a CSV list with a header, JSON Lines, a TOML scenario, or a pcap or pcapng \
                 capture"
                    .into()
            }
            Self::HeaderMissing => "begin it with \
                 start,protocol,source,source-port,destination,destination-port,lasts,ends"
                .into(),
            Self::UnknownColumn { near: Some(near), .. } => format!("did you mean `{near}`?"),
            Self::UnknownName { near: Some(near), .. } => format!("did you mean `{near}`?"),
            Self::MissingColumn("device") => "say whose table it is: --device NAME".into(),
            Self::MissingColumn(name) => format!("each needs a value for `{name}`"),
            Self::PortMissing(p) => {
                format!("write DESTINATION:PORT/{p} in a flow, or `destination-port` in a list")
            }
            Self::Notation { error, .. } => error.help()?,
            Self::UnsupportedLinkType(_) => {
                "capture on Ethernet, raw IP, loopback or all interfaces together, or convert the \
                 capture to one of these"
                    .into()
            }
            Self::TooLarge(_) => "take a part of it; docs/limits.md says why there is a \
                                  limit"
                .into(),
            Self::AddressOfTwo(_) => "name the host instead of its address".into(),
            Self::ObservationPointMissing => "say which interface saw it: --seen-at \
                                              DEVICE/INTERFACE"
                .into(),
            Self::CaptureTruncated(_) | Self::CaptureMalformed(_) => "--skip-bad takes what could \
                be read"
                .into(),
            Self::Malformed(_) | Self::FieldCount { .. } | Self::LineTooLong(_) => {
                "correct the line, or pass over all such lines with --skip-bad".into()
            }
            Self::Unreadable(_)
            | Self::TimeTooLong(_)
            | Self::Empty
            | Self::UnknownColumn { .. }
            | Self::ColumnTwice(_)
            | Self::UnknownEnding { .. }
            | Self::NegativeTime(_)
            | Self::UnknownName { .. }
            | Self::MixedFamilies
            | Self::PortNotPossible(_)
            | Self::Scenario(_) => return None,
        })
    }

    /// Whether only a line or packet is wrong, which may be passed over.
    pub fn is_of_one_line(&self) -> bool {
        !matches!(
            self,
            Self::Unreadable(_)
                | Self::TooLarge(_)
                | Self::UnsupportedLinkType(_)
                | Self::Empty
                | Self::UnknownFormat
                | Self::HeaderMissing
                | Self::UnknownColumn { .. }
                | Self::MissingColumn(_)
                | Self::ColumnTwice(_)
                | Self::ObservationPointMissing
                | Self::Scenario(_)
        )
    }
}
