//! Records that wait to be written, by the file that they go into.

use std::collections::HashMap;

use foldhash::fast::RandomState;
use zarnet_formats::nat_log::Name;

use crate::pairing::Done;
use crate::part::Part;
use crate::record::Record;
use crate::table::Held;

/// Records that wait to be written, by the file that they go into.
#[derive(Default)]
pub(super) struct Waiting {
    places: HashMap<(Name, Part), usize, RandomState>,
    parts: Vec<((Name, Part), Held)>,
    /// The part that the last record went into: the next one mostly does too.
    last: usize,
    pub count: usize,
}

impl Waiting {
    pub(super) fn push(&mut self, device: Name, record: &Record) {
        self.part(device, Part::of(record)).push(record);
        self.count += 1;
    }

    #[inline]
    pub(super) fn push_done(&mut self, device: Name, done: Done) {
        match done {
            Done::Long(record) => self.push(device, &record),
            Done::Short(short) => {
                self.part(device, Part::of_short(&short)).push_short(short);
                self.count += 1;
            }
        }
    }

    #[inline]
    fn part(&mut self, device: Name, part: Part) -> &mut Held {
        let key = (device, part);
        if self.parts.get(self.last).is_none_or(|part| part.0 != key) {
            self.last = *self.places.entry(key).or_insert_with(|| {
                self.parts.push((key, Held::default()));
                self.parts.len() - 1
            });
        }
        &mut self.parts[self.last].1
    }

    /// Takes them, by device and part.
    pub(super) fn take(&mut self) -> Vec<((Name, Part), Held)> {
        let mut parts = std::mem::take(self).parts;
        parts.sort_unstable_by_key(|part| part.0);
        parts
    }
}
