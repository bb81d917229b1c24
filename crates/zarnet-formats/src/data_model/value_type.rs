//! What a leaf may hold, and how JSON writes it (RFC 7951 §6).

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use serde_json::Value;

use super::identities::{derives, knows_module, with_module};

/// The type of a leaf.
#[derive(Debug, Clone, PartialEq)]
pub enum Type {
    /// A number; of 64 bits it is written as text.
    Number {
        /// The least.
        least: i128,
        /// The greatest.
        most: i128,
        /// Whether it is written as text.
        as_text: bool,
    },
    /// `true` or `false`.
    Boolean,
    /// Text of so many characters.
    Text(usize, usize),
    /// One of some words.
    Words(Vec<&'static str>),
    /// Some of some words, in any order, with spaces between.
    Bits(Vec<&'static str>),
    /// An identity derived from these.
    Identity(Vec<&'static str>),
    /// A value that stands at this path.
    Reference(&'static str),
    /// Any of these.
    Union(Vec<Type>),
    /// Nothing but being there: `[null]`.
    Empty,
    /// Octets in base 64.
    Binary,
    /// A notation with a name.
    Notation(Notation),
    /// A type that is not understood; the test of the schema finds none.
    Unknown(&'static str),
}

/// Notations of ietf-inet-types and ietf-yang-types (RFC 6991).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Notation {
    /// ADDRESS/LENGTH.
    Prefix,
    /// The same of IPv4.
    PrefixV4,
    /// The same of IPv6.
    PrefixV6,
    /// An address.
    Address,
    /// An IPv4 address.
    AddressV4,
    /// An IPv6 address.
    AddressV6,
    /// A time with its zone.
    DateAndTime,
    /// Four octets.
    DottedQuad,
    /// Octets in hexadecimal.
    Octets,
}

impl Notation {
    const ALL: [(&'static str, Self); 13] = [
        ("ip-prefix", Self::Prefix),
        ("ipv4-prefix", Self::PrefixV4),
        ("ipv6-prefix", Self::PrefixV6),
        ("ip-address", Self::Address),
        ("ip-address-no-zone", Self::Address),
        ("ipv4-address", Self::AddressV4),
        ("ipv4-address-no-zone", Self::AddressV4),
        ("ipv6-address", Self::AddressV6),
        ("ipv6-address-no-zone", Self::AddressV6),
        ("date-and-time", Self::DateAndTime),
        ("dotted-quad", Self::DottedQuad),
        ("phys-address", Self::Octets),
        ("mac-address", Self::Octets),
    ];

    fn takes(self, text: &str) -> bool {
        let prefix = |v4: bool, v6: bool| {
            text.split_once('/').is_some_and(|(address, length)| {
                let digits = !length.is_empty() && length.bytes().all(|b| b.is_ascii_digit());
                let length = length.parse::<u8>().unwrap_or(u8::MAX);
                digits
                    && match address.parse::<IpAddr>() {
                        Ok(IpAddr::V4(_)) => v4 && length <= 32,
                        Ok(IpAddr::V6(_)) => v6 && length <= 128,
                        Err(_) => false,
                    }
            })
        };
        // a zone may stand behind an address of a link
        let bare = text.split_once('%').map_or(text, |z| z.0);
        match self {
            Self::Prefix => prefix(true, true),
            Self::PrefixV4 => prefix(true, false),
            Self::PrefixV6 => prefix(false, true),
            Self::Address => bare.parse::<IpAddr>().is_ok(),
            Self::AddressV4 => bare.parse::<Ipv4Addr>().is_ok(),
            Self::AddressV6 => bare.parse::<Ipv6Addr>().is_ok(),
            Self::DateAndTime => text.parse::<jiff::Timestamp>().is_ok(),
            Self::DottedQuad => text.parse::<Ipv4Addr>().is_ok(),
            Self::Octets => {
                text.split(':').all(|o| o.len() == 2 && o.bytes().all(|b| b.is_ascii_hexdigit()))
            }
        }
    }

    fn told(self) -> &'static str {
        match self {
            Self::Prefix => "an address with prefix length",
            Self::PrefixV4 => "an IPv4 address with prefix length",
            Self::PrefixV6 => "an IPv6 address with prefix length",
            Self::Address => "an address",
            Self::AddressV4 => "an IPv4 address",
            Self::AddressV6 => "an IPv6 address",
            Self::DateAndTime => "a time with its zone, such as 2026-01-01T00:00:00Z",
            Self::DottedQuad => "four octets with dots between",
            Self::Octets => "octets in hexadecimal with colons between",
        }
    }
}

impl Type {
    /// Reads the notation of `modules.tree`.
    pub(super) fn parse(text: &'static str) -> Self {
        let (name, inner) = match text.split_once('(') {
            Some((name, rest)) => (name, rest.strip_suffix(')').unwrap_or(rest)),
            None => (text, ""),
        };
        let words = || inner.split(' ').filter(|w| !w.is_empty()).collect();
        let number = |least: i128, most: i128, as_text| {
            let (low, high) = inner.split_once("..").unwrap_or((inner, inner));
            let end = |t: &str, or: i128| t.parse().unwrap_or(or);
            Self::Number { least: end(low, least), most: end(high, most), as_text }
        };
        match name {
            "uint8" => number(0, u8::MAX.into(), false),
            "uint16" => number(0, u16::MAX.into(), false),
            "uint32" => number(0, u32::MAX.into(), false),
            "uint64" => number(0, u64::MAX.into(), true),
            "int32" => number(i32::MIN.into(), i32::MAX.into(), false),
            "boolean" => Self::Boolean,
            "string" => {
                let (low, high) = inner.split_once("..").unwrap_or(("", ""));
                Self::Text(low.parse().unwrap_or(0), high.parse().unwrap_or(usize::MAX))
            }
            "enum" => Self::Words(words()),
            "bits" => Self::Bits(words()),
            "identity" => Self::Identity(words()),
            "leafref" => Self::Reference(inner),
            "union" => Self::Union(inner.split(" , ").map(Self::parse).collect()),
            "empty" => Self::Empty,
            "binary" => Self::Binary,
            name => match Notation::ALL.iter().find(|n| n.0 == name) {
                Some((_, notation)) => Self::Notation(*notation),
                None => Self::Unknown(text),
            },
        }
    }

    #[cfg(test)]
    pub(super) fn is_unknown(&self) -> bool {
        match self {
            Self::Union(types) => types.iter().any(Self::is_unknown),
            t => matches!(t, Self::Unknown(_)),
        }
    }

    /// Whether a value is of this type; `module` is that of the leaf. What a reference leads to is
    /// looked at elsewhere.
    pub(super) fn takes(&self, value: &Value, module: &str) -> bool {
        let text = value.as_str();
        match self {
            Self::Number { least, most, as_text } => {
                let number = match (as_text, value) {
                    (true, Value::String(text)) => text.parse::<i128>().ok(),
                    (false, Value::Number(n)) => n.as_i64().map(i128::from),
                    _ => None,
                };
                number.is_some_and(|n| (least..=most).contains(&&n))
            }
            Self::Boolean => value.is_boolean(),
            Self::Text(least, most) => {
                text.is_some_and(|t| (least..=most).contains(&&t.chars().count()))
            }
            Self::Words(words) => text.is_some_and(|t| words.contains(&t)),
            Self::Bits(words) => {
                text.is_some_and(|t| t.split_whitespace().all(|w| words.contains(&w)))
            }
            Self::Identity(bases) => text.is_some_and(|t| {
                let whole = with_module(t, module);
                let known = whole.split_once(':').is_some_and(|(m, _)| knows_module(m));
                // a module that is not known here may derive what it likes
                !known || bases.iter().any(|b| whole != *b && derives(&whole, b))
            }),
            Self::Reference(_) => value.is_string() || value.is_number(),
            Self::Union(types) => types.iter().any(|t| t.takes(value, module)),
            Self::Empty => value.as_array().is_some_and(|a| a.len() == 1 && a[0].is_null()),
            Self::Binary => text.is_some_and(|t| {
                t.bytes().all(|b| b.is_ascii_alphanumeric() || b"+/=\n".contains(&b))
            }),
            Self::Notation(notation) => text.is_some_and(|t| notation.takes(t)),
            Self::Unknown(_) => true,
        }
    }

    /// Whether two values of this type are the same one, however they are written.
    pub(super) fn same(&self, a: &Value, b: &Value, module: &str) -> bool {
        match (self, a.as_str(), b.as_str()) {
            (Self::Identity(_), Some(a), Some(b)) => {
                with_module(a, module) == with_module(b, module)
            }
            (Self::Notation(_), Some(a), Some(b)) => a == b || normal(a) == normal(b),
            _ => a == b,
        }
    }

    /// What it is, in words.
    pub(super) fn told(&self) -> String {
        match self {
            Self::Number { least, most, as_text } => {
                let how = if *as_text { " written as text" } else { "" };
                format!("a number from {least} to {most}{how}")
            }
            Self::Boolean => "true or false".into(),
            Self::Text(0, usize::MAX) => "text".into(),
            Self::Text(least, usize::MAX) => format!("text of {least} characters or more"),
            Self::Text(least, most) => format!("text of {least} to {most} characters"),
            Self::Words(words) | Self::Bits(words) => format!("one of {}", words.join(", ")),
            Self::Identity(bases) => format!("an identity derived from {}", bases.join(", ")),
            Self::Reference(path) => format!("a value of {path}"),
            Self::Union(types) => types.iter().map(Self::told).collect::<Vec<_>>().join(", or "),
            Self::Empty => "[null]".into(),
            Self::Binary => "octets in base 64".into(),
            Self::Notation(notation) => notation.told().into(),
            Self::Unknown(text) => (*text).into(),
        }
    }
}

/// An address or prefix without what does not count: zeros that may be left out, bits of a host.
fn normal(text: &str) -> Option<(IpAddr, u8)> {
    let (address, length) = text.split_once('/').unwrap_or((text, ""));
    let address: IpAddr = address.parse().ok()?;
    let most = if address.is_ipv4() { 32 } else { 128 };
    let length = length.parse().unwrap_or(most).min(most);
    let kept = |bits: u128, width: u8| {
        let drop = width - length;
        if drop >= 128 { 0 } else { bits >> drop << drop }
    };
    let address = match address {
        IpAddr::V4(a) => IpAddr::V4(Ipv4Addr::from(kept(a.to_bits().into(), 32) as u32)),
        IpAddr::V6(a) => IpAddr::V6(Ipv6Addr::from(kept(a.to_bits(), 128))),
    };
    Some((address, length))
}
