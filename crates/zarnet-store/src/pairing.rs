//! The two ends of a translation, found again in the events of a log.

use std::collections::HashMap;
use std::net::IpAddr;

use foldhash::fast::RandomState;
use zarnet_core::net::Protocol;
use zarnet_formats::nat_log::{EventKind, Name, TranslationEvent};

use crate::fast_pairing::{FastPairing, Taken};
use crate::record::{Record, Short, Unseen};

/// An external end: who has it must be one, but for what tells apart by the far end.
type End = (Name, IpAddr, Option<(u16, u16)>, Option<Protocol>);

/// Translations of which one end has been logged so far.
#[derive(Debug, Default)]
pub(crate) struct Pairing {
    /// Those that are alone on their external end, and simple. What is here is not there.
    fast: FastPairing,
    open: HashMap<End, Few, RandomState>,
    count: usize,
}

/// A translation of which no more will be learnt.
pub(crate) enum Done {
    Short(Short),
    Long(Record),
}

impl Done {
    /// The record, at length.
    pub(crate) fn record(self) -> Record {
        match self {
            Self::Short(short) => short.record(),
            Self::Long(record) => record,
        }
    }
}

/// Nearly always one; never none between two events.
#[derive(Debug)]
enum Few {
    One(Record),
    Many(Vec<Record>),
}

impl Few {
    fn all(&self) -> &[Record] {
        match self {
            Self::One(one) => std::slice::from_ref(one),
            Self::Many(many) => many,
        }
    }

    fn push(&mut self, record: Record) {
        match self {
            Self::One(one) => *self = Self::Many(vec![*one, record]),
            Self::Many(many) => many.push(record),
        }
    }

    /// Takes one out.
    fn remove(&mut self, place: usize) -> Record {
        match self {
            Self::One(one) => {
                let one = *one;
                *self = Self::Many(Vec::new());
                one
            }
            Self::Many(many) => many.remove(place),
        }
    }
}

/// Whether two records are of one translation, as far as their ends tell.
fn is_same(a: &Record, b: &Record) -> bool {
    (a.internal, a.internal_port, a.peer, a.peer_port)
        == (b.internal, b.internal_port, b.peer, b.peer_port)
}

/// The record of an event that begins or ends a translation, with that end alone.
fn half(event: &TranslationEvent, rule: Option<u16>) -> Option<Record> {
    let begins = event.kind.begins()?;
    let ports = match (event.kind, event.external_port) {
        (EventKind::AddressCreated | EventKind::AddressEnded, _) | (_, None) => None,
        (EventKind::BlockAllocated | EventKind::BlockReleased, Some(first)) => {
            Some((first, event.last_port.unwrap_or(first)))
        }
        (_, Some(port)) => Some((port, port)),
    };
    Some(Record {
        external: event.external?,
        ports,
        protocol: event.protocol,
        begun: event.at,
        lasted: 0,
        unseen: Some(if begins { Unseen::End } else { Unseen::Beginning }),
        internal: event.internal?,
        internal_port: event.internal_port.filter(|_| !event.is_block()),
        peer: event.peer,
        peer_port: event.peer_port,
        rule,
        cause: event.cause.filter(|_| !begins),
    })
}

/// A translation whose two ends are known.
fn whole(begun: &Record, ended: &Record) -> Record {
    Record {
        lasted: ended.begun.abs_diff(begun.begun),
        unseen: None,
        rule: begun.rule.or(ended.rule),
        cause: ended.cause,
        ..*begun
    }
}

impl Pairing {
    /// How many translations have one end.
    pub(crate) fn len(&self) -> usize {
        self.fast.len() + self.count
    }

    /// Reads beforehand what events are about to change.
    pub(crate) fn touch(&self, events: &[TranslationEvent]) {
        self.fast.touch(events);
    }

    /// Takes an event. `since`: the log has no gap from then on; what began before may have ended
    /// in the gap. Gives every record of which no more will be learnt.
    #[inline]
    pub(crate) fn take(
        &mut self,
        event: &TranslationEvent,
        rule: Option<u16>,
        since: i64,
        mut done: impl FnMut(Done),
    ) {
        let Self { fast, open, .. } = self;
        let is_known = || match (event.external, event.external_port) {
            _ if open.is_empty() => false,
            (Some(external), Some(port)) => {
                open.contains_key(&(event.device, external, Some((port, port)), event.protocol))
            }
            _ => true,
        };
        match fast.take(event, rule, since, is_known) {
            Taken::Begun => {}
            Taken::Ended(short) => done(Done::Short(short)),
            Taken::Slow(known) => {
                known.into_iter().for_each(|known| self.restore(event.device, known));
                let Some(half) = half(event, rule) else { return };
                let is_session =
                    matches!(event.kind, EventKind::SessionCreated | EventKind::SessionEnded);
                self.take_slowly(event.device, half, (is_session, since), |record| {
                    done(Done::Long(record));
                });
            }
        }
    }

    /// Takes one end of a translation of a device. `is_session`: several sessions may share their
    /// ends.
    fn take_slowly(
        &mut self,
        device: Name,
        half: Record,
        (is_session, since): (bool, i64),
        mut done: impl FnMut(Record),
    ) {
        let end = (device, half.external, half.ports, half.protocol);
        let Some(few) = self.open.get_mut(&end) else {
            self.open.insert(end, Few::One(half));
            self.count += 1;
            return;
        };
        // an end that came before its beginning is joined when somebody asks, for then it is known
        // what else there was between them
        let fits = |known: &Record| {
            half.unseen == Some(Unseen::Beginning)
                && known.unseen == Some(Unseen::End)
                && is_same(known, &half)
                && (since..=half.begun).contains(&known.begun)
        };
        // of several the one that began first, in whatever order they were logged: a log that is read
        // again finds the same ends again
        let fitting = few.all().iter().enumerate().filter(|(_, known)| fits(known));
        if let Some((place, _)) = fitting.min_by_key(|(_, known)| known.begun) {
            let known = few.remove(place);
            self.count -= 1;
            done(whole(&known, &half));
            self.tidy(&end);
            return;
        }
        if few.all().contains(&half) {
            // logged twice
            return;
        }
        if half.unseen == Some(Unseen::End) {
            self.displace(&end, &half, is_session, &mut done);
        }
        self.count += 1;
        self.open.entry(end).and_modify(|few| few.push(half)).or_insert(Few::One(half));
    }

    /// Ends whoever had an external end before another one begins on it: the end was not logged.
    /// One that began later stays: a log of an earlier time is read after it.
    fn displace(
        &mut self,
        end: &End,
        new: &Record,
        is_session: bool,
        done: &mut impl FnMut(Record),
    ) {
        let Some(few) = self.open.get_mut(end) else { return };
        let excludes = |known: &Record| {
            let shares = is_session && is_same(known, new);
            let is_earlier = known.unseen == Some(Unseen::End) && known.begun < new.begun;
            is_earlier && !known.is_told_apart(new) && !shares
        };
        while let Some(place) = few.all().iter().position(excludes) {
            let known = few.remove(place);
            self.count -= 1;
            done(known.gone_when(new.begun));
        }
        self.tidy(end);
    }

    /// Forgets an external end that nobody has.
    fn tidy(&mut self, end: &End) {
        if self.open.get(end).is_some_and(|few| few.all().is_empty()) {
            self.open.remove(end);
        }
    }

    /// Takes back what a store had kept.
    pub(crate) fn restore(&mut self, device: Name, record: Record) {
        let end = (device, record.external, record.ports, record.protocol);
        self.count += 1;
        self.open.entry(end).and_modify(|few| few.push(record)).or_insert(Few::One(record));
    }

    /// Every translation with one end, with its device.
    pub(crate) fn all(&self) -> impl Iterator<Item = (Name, Record)> {
        let slow = self.open.iter();
        let slow = slow.flat_map(|(end, few)| few.all().iter().map(|record| (end.0, *record)));
        self.fast.all().chain(slow)
    }

    /// Gives up those that were logged first, down to about so many.
    pub(crate) fn give_up(&mut self, most: usize, mut done: impl FnMut(Name, Record)) {
        let count = self.len();
        if count <= most {
            return;
        }
        let mut times: Vec<i64> = self.all().map(|(_, record)| record.begun).collect();
        let (_, last, _) = times.select_nth_unstable(count - most - 1);
        let last = *last;
        self.fast.give_up(last, &mut done);
        self.open.retain(|end, few| {
            let (gone, kept): (Vec<Record>, Vec<Record>) =
                few.all().iter().partition(|record| record.begun <= last);
            gone.into_iter().for_each(|record| done(end.0, record));
            if kept.len() < few.all().len() {
                *few = Few::Many(kept);
            }
            !few.all().is_empty()
        });
        self.count = self.open.values().map(|few| few.all().len()).sum();
    }
}
