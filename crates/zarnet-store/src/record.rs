//! A translation as it is kept: who had which external end, from when until when.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use zarnet_core::device::EndCause;
use zarnet_core::net::Protocol;

/// What of a translation the log does not have.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Unseen {
    /// Its end was not logged: it still lives, or that was lost.
    End,
    /// Its beginning was not logged.
    Beginning,
}

/// A translation: of a session, a mapping, an address or a block of ports.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Record {
    /// External address.
    pub external: IpAddr,
    /// First and last external port, or query id; `None` for a whole address.
    pub ports: Option<(u16, u16)>,
    /// The protocol; `None` is any.
    pub protocol: Option<Protocol>,
    /// When it began, in milliseconds since 1970. Where that was not logged: when it ended.
    pub begun: i64,
    /// For how many milliseconds it lasted. Where its end was not logged: at most, because another
    /// had its external end then; 0 if that is not known either.
    pub lasted: u64,
    /// What was not logged.
    pub unseen: Option<Unseen>,
    /// Internal address.
    pub internal: IpAddr,
    /// Internal port or query id; `None` for a whole address, or a block.
    pub internal_port: Option<u16>,
    /// Far end, where the translation is for that one only.
    pub peer: Option<IpAddr>,
    /// Port of the far end.
    pub peer_port: Option<u16>,
    /// The rule that translated.
    pub rule: Option<u16>,
    /// Why it ended.
    pub cause: Option<EndCause>,
}

impl Record {
    /// When it ended, if that was logged.
    pub fn ended(&self) -> Option<i64> {
        match self.unseen {
            None => Some(self.begun.saturating_add_unsigned(self.lasted)),
            Some(Unseen::Beginning) => Some(self.begun),
            Some(Unseen::End) => None,
        }
    }

    /// When it began, if that was logged.
    pub fn since(&self) -> Option<i64> {
        (self.unseen != Some(Unseen::Beginning)).then_some(self.begun)
    }

    /// When it had ended at the latest, if that is known.
    pub fn gone_by(&self) -> Option<i64> {
        match self.unseen {
            Some(Unseen::End) if self.lasted > 0 => {
                Some(self.begun.saturating_add_unsigned(self.lasted))
            }
            _ => self.ended(),
        }
    }

    /// Whether it may have lived at some time between two instants.
    pub(crate) fn may_have_lived(&self, (from, until): (i64, i64)) -> bool {
        self.since().is_none_or(|b| b <= until) && self.gone_by().is_none_or(|e| e >= from)
    }

    /// The same, whose end was not logged, when another has its external end at an instant.
    pub(crate) fn gone_when(&self, at: i64) -> Self {
        Self { lasted: at.abs_diff(self.begun).max(1), ..*self }
    }

    /// Whether two translations may have the same external end: their far ends tell them apart.
    pub(crate) fn is_told_apart(&self, other: &Self) -> bool {
        self.peer.is_some()
            && other.peer.is_some()
            && (self.peer, self.peer_port) != (other.peer, other.peer_port)
    }

    /// Whether a packet to an external port belongs to it. `None`: whatever the port.
    pub fn has_port(&self, port: Option<u16>) -> bool {
        match (self.ports, port) {
            (None, _) | (_, None) => true,
            (Some((first, last)), Some(port)) => (first..=last).contains(&port),
        }
    }

    /// Whether it is of a range of ports, or of a whole address.
    pub fn is_range(&self) -> bool {
        self.ports.is_none_or(|(first, last)| first != last)
    }

    /// What orders records by their external end.
    pub(crate) fn external_order(&self) -> impl Ord + use<> {
        (number(self.external), self.ports, self.begun, number(self.internal), self.rest())
    }

    /// What orders records by their internal end.
    pub(crate) fn internal_order(&self) -> impl Ord + use<> {
        (number(self.internal), self.begun, number(self.external), self.ports, self.rest())
    }

    /// What orders them where all else is equal: those that are equal come together.
    fn rest(&self) -> impl Ord + use<> {
        let peer = (self.peer.map(number), self.peer_port);
        let cause = self.cause.map(|c| c as u8);
        let end = (self.unseen, self.lasted, self.rule, cause);
        (self.protocol.map(|p| p.0), self.internal_port, peer, end)
    }
}

/// An address as a number in which the two families do not meet: IPv4 as its 32 bits, behind the
/// highest bit of none.
pub(crate) fn number(address: IpAddr) -> (bool, u128) {
    match address {
        IpAddr::V4(a) => (false, a.to_bits().into()),
        IpAddr::V6(a) => (true, a.to_bits()),
    }
}

/// The two numbers of 64 bits that a file has of an address; the upper one is none for IPv4.
pub(crate) fn halves(address: IpAddr) -> (Option<i64>, i64) {
    match address {
        IpAddr::V4(a) => (None, a.to_bits().into()),
        IpAddr::V6(a) => (Some((a.to_bits() >> 64) as i64), a.to_bits() as i64),
    }
}

/// The address of two such numbers.
pub(crate) fn joined(upper: Option<i64>, lower: i64) -> IpAddr {
    match upper {
        None => Ipv4Addr::from_bits(lower as u32).into(),
        Some(upper) => {
            Ipv6Addr::from_bits(u128::from(upper as u64) << 64 | u128::from(lower as u64)).into()
        }
    }
}

/// A translation as nearly all are: one IPv4 end on each side, for any peer, with both its ends
/// logged, and not very long. In a third of the room.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Short {
    pub external: u32,
    pub internal: u32,
    pub begun: i64,
    pub lasted: u32,
    pub external_port: u16,
    pub internal_port: u16,
    /// [`u16::MAX`] for none.
    pub rule: u16,
    pub protocol: u8,
    /// A number of the log, 0 for none.
    pub cause: u8,
}

impl Short {
    /// The same in short, if it fits.
    pub fn of(record: &Record) -> Option<Self> {
        let (IpAddr::V4(external), IpAddr::V4(internal)) = (record.external, record.internal)
        else {
            return None;
        };
        let (first, last) = record.ports?;
        let is_plain = first == last
            && record.unseen.is_none()
            && record.peer.is_none()
            && record.rule != Some(u16::MAX);
        is_plain.then_some(())?;
        Some(Self {
            external: external.to_bits(),
            internal: internal.to_bits(),
            begun: record.begun,
            lasted: u32::try_from(record.lasted).ok()?,
            external_port: first,
            internal_port: record.internal_port?,
            rule: record.rule.unwrap_or(u16::MAX),
            protocol: record.protocol?.0,
            cause: record.cause.map_or(0, zarnet_formats::nat_log::cause_number),
        })
    }

    /// The same at length.
    pub fn record(&self) -> Record {
        Record {
            external: Ipv4Addr::from_bits(self.external).into(),
            ports: Some((self.external_port, self.external_port)),
            protocol: Some(Protocol(self.protocol)),
            begun: self.begun,
            lasted: self.lasted.into(),
            unseen: None,
            internal: Ipv4Addr::from_bits(self.internal).into(),
            internal_port: Some(self.internal_port),
            peer: None,
            peer_port: None,
            rule: (self.rule != u16::MAX).then_some(self.rule),
            cause: zarnet_formats::nat_log::cause_of_number(self.cause),
        }
    }
}
