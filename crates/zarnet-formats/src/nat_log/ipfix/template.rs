//! Templates as they were received, and what each of their fields is to us.

use super::elements::{self, Element};

/// What a field of a record is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Slot {
    Milliseconds,
    Seconds,
    /// Seconds and a binary fraction since 1900 (RFC 7011 §6.1.10).
    SecondsAndFraction,
    Event,
    Internal,
    InternalPort,
    External,
    ExternalPort,
    Protocol,
    Peer,
    PeerPort,
    /// The far end as the device sends to it: it counts for more than what the host sent to.
    TranslatedPeer,
    TranslatedPeerPort,
    PortFirst,
    PortLast,
    Quota,
    Limit,
    Pool,
    PoolName,
    Domain,
    DomainName,
    Rule,
    Cause,
    /// Known, and of no account here.
    Passed,
    Unknown(Element),
}

fn slot(element: Element) -> Slot {
    use elements as e;
    match element {
        e::RULE => Slot::Rule,
        e::ENDED_BY => Slot::Cause,
        Element { enterprise: 0, id } => match id {
            322 => Slot::Seconds,
            323 => Slot::Milliseconds,
            324 | 325 => Slot::SecondsAndFraction,
            230 => Slot::Event,
            8 | 27 => Slot::Internal,
            7 => Slot::InternalPort,
            225 | 281 => Slot::External,
            227 => Slot::ExternalPort,
            4 => Slot::Protocol,
            12 | 28 => Slot::Peer,
            11 => Slot::PeerPort,
            226 | 282 => Slot::TranslatedPeer,
            228 => Slot::TranslatedPeerPort,
            361 => Slot::PortFirst,
            362 => Slot::PortLast,
            466 => Slot::Quota,
            471..=473 => Slot::Limit,
            283 => Slot::Pool,
            284 => Slot::PoolName,
            149 => Slot::Domain,
            300 => Slot::DomainName,
            // instance, realms, VLAN and VRF; thresholds and other limits; descriptions of elements;
            // padding
            463..=465 | 467..=470 | 474..=481 | 58 | 234 | 210 | 303 | 339..=346 => Slot::Passed,
            _ => Slot::Unknown(element),
        },
        _ => Slot::Unknown(element),
    }
}

/// A template (RFC 7011 §3.4), of data or of options.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Template {
    pub fields: Vec<(Slot, u16)>,
    /// No record is shorter.
    pub least: usize,
    pub is_options: bool,
}

/// The length of a field of variable length.
pub(super) const VARIABLE: u16 = u16::MAX;
/// No template has more fields.
const MOST_FIELDS: usize = 256;

impl Template {
    /// Reads the fields of a template, and how many octets they took; `None` where it makes no
    /// sense.
    pub(super) fn read(octets: &[u8], count: usize, is_options: bool) -> Option<(Self, usize)> {
        let (mut fields, mut at, mut least) = (Vec::with_capacity(count.min(64)), 0, 0);
        if count > MOST_FIELDS {
            return None;
        }
        for _ in 0..count {
            let id = u16::from_be_bytes(octets.get(at..at + 2)?.try_into().ok()?);
            let length = u16::from_be_bytes(octets.get(at + 2..at + 4)?.try_into().ok()?);
            at += 4;
            let mut enterprise = 0;
            if id & 0x8000 != 0 {
                enterprise = u32::from_be_bytes(octets.get(at..at + 4)?.try_into().ok()?);
                at += 4;
            }
            fields.push((slot(Element { enterprise, id: id & 0x7fff }), length));
            least += if length == VARIABLE { 1 } else { usize::from(length) };
        }
        // records without an octet would be without end
        (least > 0).then_some((Self { fields, least, is_options }, at))
    }
}
