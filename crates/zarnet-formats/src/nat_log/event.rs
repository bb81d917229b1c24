//! An event of a translation log, whatever it is written in.

use std::net::IpAddr;

use zarnet_core::device::EndCause;
use zarnet_core::net::Protocol;

use super::Name;

/// What happened, with its number as RFC 8158 §8.1 has it (`natEvent`, information element 230).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum EventKind {
    /// A session was made.
    SessionCreated,
    /// A session ended.
    SessionEnded,
    /// A mapping of an endpoint was made.
    MappingCreated,
    /// A mapping of an endpoint ended.
    MappingEnded,
    /// A whole external address was given to an internal one.
    AddressCreated,
    /// It was taken back.
    AddressEnded,
    /// A host was given a block of ports.
    BlockAllocated,
    /// It was taken back.
    BlockReleased,
    /// Nothing is left of a pool.
    AddressesExhausted,
    /// No port of an address is left.
    PortsExhausted,
    /// A limit on sessions is reached.
    SessionQuota,
    /// A limit on mappings is reached.
    MappingQuota,
    /// A limit on what one host may have is reached.
    HostQuota,
}

/// Every kind, with the name that syslog and CSV have for it.
const KINDS: [(EventKind, &str); 13] = [
    (EventKind::SessionCreated, "session-created"),
    (EventKind::SessionEnded, "session-ended"),
    (EventKind::MappingCreated, "mapping-created"),
    (EventKind::MappingEnded, "mapping-ended"),
    (EventKind::AddressCreated, "address-created"),
    (EventKind::AddressEnded, "address-ended"),
    (EventKind::BlockAllocated, "block-allocated"),
    (EventKind::BlockReleased, "block-released"),
    (EventKind::AddressesExhausted, "addresses-exhausted"),
    (EventKind::PortsExhausted, "ports-exhausted"),
    (EventKind::SessionQuota, "session-quota"),
    (EventKind::MappingQuota, "mapping-quota"),
    (EventKind::HostQuota, "host-quota"),
];

impl EventKind {
    /// Every kind.
    pub fn all() -> impl Iterator<Item = Self> {
        KINDS.iter().map(|k| k.0)
    }

    /// The name that syslog and CSV have for it.
    pub fn name(self) -> &'static str {
        KINDS[self as usize].1
    }

    /// The kind of a name; also of the number of RFC 8158, and of what other exports call the
    /// making and the end of a mapping.
    pub fn of_name(name: &str) -> Option<Self> {
        if let Some(known) = KINDS.iter().find(|k| k.1.eq_ignore_ascii_case(name)) {
            return Some(known.0);
        }
        if let Ok(number) = name.parse() {
            return Self::of_number(number, None);
        }
        match name.to_ascii_lowercase().as_str() {
            "created" | "create" | "begin" | "begun" | "start" | "open" | "add" => {
                Some(Self::MappingCreated)
            }
            "ended" | "end" | "delete" | "deleted" | "stop" | "close" | "closed" | "remove" => {
                Some(Self::MappingEnded)
            }
            _ => None,
        }
    }

    /// Its number in RFC 8158. `from_v6`: whether the internal end is IPv6 (NAT64).
    pub fn number(self, from_v6: bool) -> u8 {
        match self {
            Self::SessionCreated => 4 + 2 * u8::from(from_v6),
            Self::SessionEnded => 5 + 2 * u8::from(from_v6),
            Self::MappingCreated => 8 + 2 * u8::from(from_v6),
            Self::MappingEnded => 9 + 2 * u8::from(from_v6),
            Self::AddressCreated => 14,
            Self::AddressEnded => 15,
            Self::BlockAllocated => 16,
            Self::BlockReleased => 17,
            Self::AddressesExhausted => 3,
            Self::PortsExhausted => 12,
            Self::SessionQuota | Self::MappingQuota | Self::HostQuota => 13,
        }
    }

    /// The kind of a number, with the number of the quota (`natQuotaExceededEvent`) where one came
    /// along. The historic 1 and 2 are sessions.
    pub fn of_number(number: u8, quota: Option<u32>) -> Option<Self> {
        Some(match number {
            1 | 4 | 6 => Self::SessionCreated,
            2 | 5 | 7 => Self::SessionEnded,
            8 | 10 => Self::MappingCreated,
            9 | 11 => Self::MappingEnded,
            14 => Self::AddressCreated,
            15 => Self::AddressEnded,
            16 => Self::BlockAllocated,
            17 => Self::BlockReleased,
            3 => Self::AddressesExhausted,
            12 => Self::PortsExhausted,
            13 => match quota? {
                1 => Self::SessionQuota,
                2 => Self::MappingQuota,
                3 => Self::HostQuota,
                _ => return None,
            },
            _ => return None,
        })
    }

    /// The number of its quota in RFC 8158 §8.3.
    pub fn quota(self) -> Option<u32> {
        match self {
            Self::SessionQuota => Some(1),
            Self::MappingQuota => Some(2),
            Self::HostQuota => Some(3),
            _ => None,
        }
    }

    /// Whether a translation begins with it (`Some(true)`) or ends (`Some(false)`).
    pub fn begins(self) -> Option<bool> {
        match self {
            Self::SessionCreated
            | Self::MappingCreated
            | Self::AddressCreated
            | Self::BlockAllocated => Some(true),
            Self::SessionEnded | Self::MappingEnded | Self::AddressEnded | Self::BlockReleased => {
                Some(false)
            }
            Self::AddressesExhausted
            | Self::PortsExhausted
            | Self::SessionQuota
            | Self::MappingQuota
            | Self::HostQuota => None,
        }
    }
}

/// Why a translation ended, as the log numbers it (`endedBy`) and names it (`ended-by`).
const CAUSES: [(EndCause, &str); 5] = [
    (EndCause::Expired, "expired"),
    (EndCause::Cleared, "cleared"),
    (EndCause::Restarted, "restarted"),
    (EndCause::AddressLost, "address-lost"),
    (EndCause::RuleDisabled, "rule-disabled"),
];

/// The name of a cause.
pub fn cause_name(cause: EndCause) -> &'static str {
    CAUSES[cause as usize].1
}

/// The number of a cause; they begin with 1.
pub fn cause_number(cause: EndCause) -> u8 {
    cause as u8 + 1
}

/// The cause of a name.
pub fn cause_of_name(name: &str) -> Option<EndCause> {
    CAUSES.iter().find(|c| c.1 == name).map(|c| c.0)
}

/// The cause of a number.
pub fn cause_of_number(number: u8) -> Option<EndCause> {
    CAUSES.get(usize::from(number).checked_sub(1)?).map(|c| c.0)
}

/// An event of a translation log.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct TranslationEvent {
    /// When it happened, in milliseconds since 1970 (UTC).
    pub at: i64,
    /// What happened.
    pub kind: EventKind,
    /// The device that tells it.
    pub device: Name,
    /// The protocol; `None` is any.
    pub protocol: Option<Protocol>,
    /// Internal address.
    pub internal: Option<IpAddr>,
    /// Internal port or query id.
    pub internal_port: Option<u16>,
    /// External address.
    pub external: Option<IpAddr>,
    /// External port or query id; the first one of a block.
    pub external_port: Option<u16>,
    /// The last port of a block.
    pub last_port: Option<u16>,
    /// Address of the far end.
    pub peer: Option<IpAddr>,
    /// Port of the far end.
    pub peer_port: Option<u16>,
    /// The rule that translated, or had nothing left.
    pub rule: Option<Name>,
    /// Why it ended.
    pub cause: Option<EndCause>,
    /// The pool that has nothing left.
    pub pool: Option<Name>,
    /// How much a limit allows.
    pub limit: Option<u32>,
}

impl TranslationEvent {
    /// An event of which no more is known yet.
    pub fn new(at: i64, kind: EventKind, device: Name) -> Self {
        Self {
            at,
            kind,
            device,
            protocol: None,
            internal: None,
            internal_port: None,
            external: None,
            external_port: None,
            last_port: None,
            peer: None,
            peer_port: None,
            rule: None,
            cause: None,
            pool: None,
            limit: None,
        }
    }

    /// What it lacks to be what its kind says; RFC 8158 §4.6 names what is mandatory.
    pub fn lacks(&self) -> Option<&'static str> {
        match self.kind.begins() {
            Some(_) if self.internal.is_none() => Some("internal"),
            Some(_) if self.external.is_none() => Some("external"),
            Some(_) if self.is_block() && self.external_port.is_none() => Some("external-port"),
            Some(_) if self.is_block() && self.last_port < self.external_port => Some("last-port"),
            Some(_) | None => None,
        }
    }

    /// Whether it is about a block of ports.
    pub fn is_block(&self) -> bool {
        matches!(self.kind, EventKind::BlockAllocated | EventKind::BlockReleased)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_and_causes_come_back_from_their_names_and_numbers() {
        for kind in EventKind::all() {
            assert_eq!(EventKind::of_name(kind.name()), Some(kind));
            for from_v6 in [false, true] {
                let number = kind.number(from_v6);
                assert_eq!(EventKind::of_number(number, kind.quota()), Some(kind));
            }
        }
        for (cause, name) in CAUSES {
            assert_eq!(cause_of_name(name), Some(cause));
            assert_eq!(cause_of_number(cause_number(cause)), Some(cause));
        }
        assert_eq!((cause_of_number(0), cause_of_number(6)), (None, None));
        assert_eq!((EventKind::of_number(13, None), EventKind::of_number(18, None)), (None, None));
    }
}
