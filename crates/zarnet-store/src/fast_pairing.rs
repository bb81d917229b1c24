//! Pairing of nearly all events: a translation of one IPv4 end on each side, for any peer, that
//! nobody else has. A word each to find it by, and two to keep it.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::net::{IpAddr, Ipv4Addr};

use foldhash::fast::RandomState;
use zarnet_core::net::Protocol;
use zarnet_formats::nat_log::{EventKind, Name, TranslationEvent, cause_number};

use crate::record::{Record, Short, Unseen};

/// An external end in one word: device, address, port and protocol.
type Key = u128;

/// A translation that began.
#[derive(Debug, Clone, Copy)]
struct Begun {
    at: i64,
    internal: u32,
    internal_port: u16,
    /// [`u16::MAX`] for none.
    rule: u16,
}

/// Translations that began, each alone on its external end.
#[derive(Debug, Default)]
pub(crate) struct FastPairing(HashMap<Key, Begun, RandomState>);

/// What became of an event.
pub(crate) enum Taken {
    /// It began a translation.
    Begun,
    /// It ended one.
    Ended(Short),
    /// It is for the slow way, and so is this, which was here.
    Slow(Option<Record>),
}

/// The parts of an event that is as nearly all are.
fn parts(event: &TranslationEvent) -> Option<(Key, u32, u16)> {
    let is_plain = matches!(
        event.kind,
        EventKind::MappingCreated
            | EventKind::MappingEnded
            | EventKind::SessionCreated
            | EventKind::SessionEnded
    );
    let (Some(IpAddr::V4(external)), Some(IpAddr::V4(internal))) = (event.external, event.internal)
    else {
        return None;
    };
    if !is_plain || event.peer.is_some() {
        return None;
    }
    let (port, protocol) = (event.external_port?, event.protocol?);
    Some((key(event.device, external, port, protocol), internal.to_bits(), event.internal_port?))
}

fn key(device: Name, external: Ipv4Addr, port: u16, protocol: Protocol) -> Key {
    u128::from(device.0) << 64
        | u128::from(external.to_bits()) << 32
        | u128::from(port) << 8
        | u128::from(protocol.0)
}

fn record(key: Key, begun: &Begun) -> Record {
    let (port, external) = ((key >> 8) as u16, Ipv4Addr::from_bits((key >> 32) as u32));
    Record {
        external: external.into(),
        ports: Some((port, port)),
        protocol: Some(Protocol(key as u8)),
        begun: begun.at,
        lasted: 0,
        unseen: Some(Unseen::End),
        internal: Ipv4Addr::from_bits(begun.internal).into(),
        internal_port: Some(begun.internal_port),
        peer: None,
        peer_port: None,
        rule: (begun.rule != u16::MAX).then_some(begun.rule),
        cause: None,
    }
}

impl FastPairing {
    pub(crate) fn len(&self) -> usize {
        self.0.len()
    }

    /// Reads what events are about to change, for many at once: what has to be waited for is then
    /// waited for together.
    pub(crate) fn touch(&self, events: &[TranslationEvent]) {
        let found = |event| {
            let key = parts(event)?.0;
            self.0.get(&key).map(|begun| begun.at)
        };
        std::hint::black_box(events.iter().filter_map(found).fold(0, |sum, at| sum ^ at));
    }

    /// Takes an event, unless it is one for the slow way. `since`: what began before is not ended
    /// here. `is_known`: whether the slow way has something on that external end.
    #[inline]
    pub(crate) fn take(
        &mut self,
        event: &TranslationEvent,
        rule: Option<u16>,
        since: i64,
        is_known: impl FnOnce() -> bool,
    ) -> Taken {
        let Some((key, internal, internal_port)) = parts(event) else {
            return Taken::Slow(None);
        };
        let begins = event.kind.begins() == Some(true);
        match self.0.entry(key) {
            Entry::Vacant(vacant) if begins && !is_known() => {
                let rule = rule.unwrap_or(u16::MAX);
                vacant.insert(Begun { at: event.at, internal, internal_port, rule });
                Taken::Begun
            }
            Entry::Vacant(_) => Taken::Slow(None),
            Entry::Occupied(occupied) => {
                let known = *occupied.get();
                let is_same = (known.internal, known.internal_port) == (internal, internal_port);
                let lasted = u32::try_from(event.at.wrapping_sub(known.at));
                occupied.remove();
                match lasted {
                    Ok(lasted) if !begins && is_same && known.at >= since => Taken::Ended(Short {
                        external: (key >> 32) as u32,
                        internal,
                        begun: known.at,
                        lasted,
                        external_port: (key >> 8) as u16,
                        internal_port,
                        rule: known.rule,
                        protocol: key as u8,
                        cause: event.cause.map_or(0, cause_number),
                    }),
                    _ => Taken::Slow(Some(record(key, &known))),
                }
            }
        }
    }

    /// Takes out all that began by an instant.
    pub(crate) fn give_up(&mut self, until: i64, mut done: impl FnMut(Name, Record)) {
        self.0.retain(|key, begun| {
            let is_kept = begun.at > until;
            if !is_kept {
                done(Name((key >> 64) as u32), record(*key, begun));
            }
            is_kept
        });
    }

    /// Every translation, with its device.
    pub(crate) fn all(&self) -> impl Iterator<Item = (Name, Record)> {
        self.0.iter().map(|(key, begun)| (Name((key >> 64) as u32), record(*key, begun)))
    }
}
