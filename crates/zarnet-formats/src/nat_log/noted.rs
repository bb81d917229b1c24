//! What was read of a log besides its events: what was passed over, what was lost.

use std::collections::BTreeMap;

use super::Name;
use super::element::Element;

/// Records that were sent and did not come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Missing {
    /// The device that sent them.
    pub device: Name,
    /// When the last message before was sent, in milliseconds since 1970.
    pub from: i64,
    /// When the first message after was sent.
    pub until: i64,
    /// How many they were.
    pub records: u64,
}

/// What was noted while a log was read.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Noted {
    /// Events that were read.
    pub events: u64,
    /// Messages of IPFIX that were read.
    pub messages: u64,
    /// Messages, or lines of text, that are none.
    pub bad_messages: u64,
    /// Sets of IPFIX that make no sense.
    pub bad_sets: u64,
    /// Records that lack what RFC 8158 has as mandatory, or are of another age.
    pub bad_records: u64,
    /// Records and messages of other matters.
    pub other_records: u64,
    /// Sets of IPFIX whose template has not come.
    pub sets_without_template: u64,
    /// Messages that came after later ones.
    pub late_messages: u64,
    /// Octets of a file that belong to no message.
    pub octets_skipped: u64,
    /// Records that were sent and did not come, by the numbers of messages.
    pub lost: u64,
    /// How often templates had elements that are unknown here.
    pub unknown_elements: BTreeMap<Element, u64>,
    /// Where records are missing.
    pub missing: Vec<Missing>,
}

/// So many places where records are missing are kept; more join the last one.
const MOST_MISSING: usize = 4096;
/// So many unknown elements are told apart.
const MOST_UNKNOWN: usize = 256;

impl Noted {
    pub(super) fn miss(&mut self, missing: Missing) {
        let is_full = self.missing.len() >= MOST_MISSING;
        let last = self.missing.iter_mut().rev().find(|m| m.device == missing.device);
        match last.filter(|last| is_full || last.until == missing.from) {
            Some(last) => {
                last.until = last.until.max(missing.until);
                last.records += missing.records;
            }
            None if is_full => {}
            None => self.missing.push(missing),
        }
    }

    /// Records that seemed not to come have come late.
    pub(super) fn find_again(&mut self, device: Name, records: u64) {
        self.lost = self.lost.saturating_sub(records);
        let place = self.missing.iter().rposition(|m| m.device == device && m.records >= records);
        if let Some(place) = place {
            self.missing[place].records -= records;
            if self.missing[place].records == 0 {
                self.missing.remove(place);
            }
        }
    }

    pub(super) fn note_unknown(&mut self, element: Element) {
        if self.unknown_elements.len() < MOST_UNKNOWN {
            *self.unknown_elements.entry(element).or_default() += 1;
        } else if let Some(known) = self.unknown_elements.get_mut(&element) {
            *known += 1;
        }
    }

    /// Adds what was noted elsewhere.
    pub fn add(&mut self, other: Self) {
        self.events += other.events;
        self.messages += other.messages;
        self.bad_messages += other.bad_messages;
        self.bad_sets += other.bad_sets;
        self.bad_records += other.bad_records;
        self.other_records += other.other_records;
        self.sets_without_template += other.sets_without_template;
        self.late_messages += other.late_messages;
        self.octets_skipped += other.octets_skipped;
        self.lost += other.lost;
        for (element, count) in other.unknown_elements {
            *self.unknown_elements.entry(element).or_default() += count;
        }
        other.missing.into_iter().for_each(|m| self.miss(m));
    }
}

/// Whether a time, in milliseconds since 1970, is one that a log can be of: until the year 2200.
pub(super) fn in_this_age(at: i64) -> bool {
    (0..7_258_118_400_000).contains(&at)
}
