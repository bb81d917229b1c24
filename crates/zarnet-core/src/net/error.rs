//! What can be wrong with a piece of notation: an address, a port, a service, a time, a flow.

/// Why a piece of text is not what it should be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotationError {
    /// Nothing is written where something is needed.
    #[error("nothing is written here")]
    Empty,
    /// The text is not an IP address.
    #[error("`{0}` is not an address")]
    Address(String),
    /// An address whose link cannot be told, because its prefix length is left out.
    #[error("`{0}` has no prefix length")]
    LengthMissing(String),
    /// A prefix length that the family does not have.
    #[error("a prefix length of `{0}` does not exist for {1}; it goes from 0 to {2}")]
    PrefixLength(String, &'static str, u8),
    /// A dotted mask whose ones are not all on one side.
    #[error("`{0}` is neither a mask (ones, then zeros) nor an inverted mask (zeros, then ones)")]
    MaskShape(String),
    /// 0.0.0.0 or 255.255.255.255 behind the slash: a mask and an inverted mask at once.
    #[error("`{mask}` is /{as_mask} read as a mask and /{as_inverted} read as an inverted mask")]
    MaskAmbiguous {
        /// The mask as written.
        mask: String,
        /// The prefix length that it means as a mask.
        as_mask: u8,
        /// The prefix length that it means as an inverted mask.
        as_inverted: u8,
    },
    /// The last end of a range lies below its first.
    #[error("the range `{0}` runs backwards")]
    Reversed(String),
    /// A range whose prefix length does not hold both of its ends.
    #[error(
        "{range} does not lie in one prefix of that length: {prefix} holds its last address only"
    )]
    RangeLeavesPrefix {
        /// The range as it is written.
        range: String,
        /// The prefix of its last address.
        prefix: String,
    },
    /// The two ends of a range, or the ends of a flow, are of two families.
    #[error("`{0}` mixes IPv4 and IPv6")]
    MixedFamilies(String),
    /// Not a port number.
    #[error("`{0}` is not a port; ports go from 1 to 65535")]
    Port(String),
    /// The text is neither a protocol's name nor its number.
    #[error("`{0}` is not a protocol")]
    Protocol(String),
    /// A port without a protocol.
    #[error("`{0}` names a port but no protocol")]
    ProtocolMissing(String),
    /// A flow that says no protocol.
    #[error("the flow says no protocol")]
    FlowProtocolMissing(String),
    /// The external end of a forward without its port or its protocol.
    #[error("`{0}` is not an external end with a port and a protocol")]
    ExternalEnd(String),
    /// The internal end of a forward with a protocol.
    #[error("`{0}` says a protocol, which the external end says already")]
    ProtocolInside(String),
    /// A protocol that has no ports, with a port.
    #[error("`{0}` has no ports")]
    PortsNotPossible(String),
    /// A flow of a protocol with ports that says no destination port.
    #[error("the flow has no destination port, and {0} needs one")]
    PortMissing(String),
    /// Not a length of time.
    #[error("`{0}` is not a time")]
    Time(String),
    /// A flow without an arrow.
    #[error("`{0}` has no `->` between its source and its destination")]
    Arrow(String),
}

impl NotationError {
    /// A way out, in one line, where there is one that fits every case.
    pub fn help(&self) -> Option<String> {
        Some(match self {
            Self::Empty
            | Self::Reversed(_)
            | Self::MixedFamilies(_)
            | Self::PortsNotPossible(_) => return None,
            Self::Address(t) if is_endpoint(t) => {
                "write the address alone: ports and protocols have keys of their own".into()
            }
            Self::Address(_) => "write an address (10.1.2.3), a prefix (10.1.2.0/24), a range \
                 (10.1.2.3-10.1.2.9), a mask (10.1.2.0/255.255.255.0) or the name of a group"
                .into(),
            Self::LengthMissing(t) => {
                format!("write the length of its link behind it, as `{t}/24`")
            }
            Self::RangeLeavesPrefix { .. } => "write the length of a prefix that holds both ends, \
                                               or none"
                .into(),
            Self::PrefixLength(_, _, longest) => format!("write a length between 0 and {longest}"),
            Self::MaskShape(_) => "write the prefix length instead, such as /24".into(),
            Self::MaskAmbiguous { as_mask, as_inverted, .. } => {
                format!("write /{as_mask} or /{as_inverted}, whichever is meant")
            }
            Self::Port(_) => "write a number, such as 443, or a range, such as 16384-16484".into(),
            Self::Protocol(_) => "write tcp, udp, icmp, icmpv6, gre, esp, ah, sctp, dccp or a \
                                  number from 0 to 255"
                .into(),
            Self::ProtocolMissing(t) => format!("write `{t}/tcp` or `{t}/udp`"),
            Self::FlowProtocolMissing(t) if t.contains(':') => {
                format!("write `{t}/tcp` or `{t}/udp`")
            }
            Self::FlowProtocolMissing(t) => format!("write `{t}:443/tcp`, or `{t}/icmp`"),
            Self::ExternalEnd(_) => "write INTERFACE:PORT/PROTOCOL or ADDRESS:PORT/PROTOCOL, such \
                                     as `uplink:443/tcp`"
                .into(),
            Self::ProtocolInside(t) => {
                format!("write `{}`", t.split('/').next().unwrap_or_default().trim())
            }
            Self::PortMissing(p) => format!("write DESTINATION:PORT/{p}"),
            Self::Time(_) => "write seconds (90, 1.5) or units (90s, 2m30s, 1h)".into(),
            Self::Arrow(_) => "write SOURCE[:PORT] -> DESTINATION[:PORT]/PROTOCOL".into(),
        })
    }
}

/// Whether a text is an IPv4 address with a port.
fn is_endpoint(text: &str) -> bool {
    text.parse::<std::net::SocketAddrV4>().is_ok()
}
