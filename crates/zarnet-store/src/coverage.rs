//! When logs of a device were heard, and where they have gaps.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// What is known of the logs of every device, by its name.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Coverage {
    /// By the name of the device.
    pub devices: BTreeMap<String, Heard>,
}

/// What is known of the logs of one device.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, rename_all = "kebab-case")]
pub struct Heard {
    /// Times of which there is a log, in order: first and last, in milliseconds since 1970.
    pub heard: Vec<(i64, i64)>,
    /// Records that were sent and did not come, in the order of their time.
    pub lost: Vec<Lost>,
    /// By how many milliseconds the clock of the device was ahead of ours when its messages came:
    /// the least and the most; messages take their time, so that it seems late rather than ahead.
    pub clock: Option<(i64, i64)>,
    /// Events that told of something that ran out, or of a limit.
    pub shortages: u64,
}

/// Records that did not come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Lost {
    /// Not before this, in milliseconds since 1970.
    pub from: i64,
    /// Not after this.
    pub until: i64,
    /// How many.
    pub records: u64,
}

/// Where a log has a gap.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Gap {
    /// When it begins, in milliseconds since 1970.
    pub from: i64,
    /// When it ends.
    pub until: i64,
    /// How many records are missing, if that is known; none where there is no log at all.
    pub lost: Option<u64>,
}

/// Between two logs that follow each other as closely as this nothing is taken to be missing: one
/// file ends and the next begins.
const CLOSE: i64 = 15 * 60_000;
/// And as closely as this, that what ends in the second is what began in the first.
const RIGHT_BEFORE: i64 = 60_000;
/// So many times and gaps are kept of a device; more join their neighbours.
const MOST: usize = 10_000;

impl Heard {
    /// There is a log from one time to another.
    pub fn hear(&mut self, from: i64, until: i64) {
        let (mut from, mut until) = (from, until.max(from));
        let first = self.heard.partition_point(|h| h.1.saturating_add(CLOSE) < from);
        let mut last = first;
        while let Some(known) = self.heard.get(last).filter(|h| h.0.saturating_sub(CLOSE) <= until)
        {
            (from, until) = (from.min(known.0), until.max(known.1));
            last += 1;
        }
        self.heard.splice(first..last, [(from, until)]);
        if self.heard.len() > MOST {
            let closest = self.heard.windows(2).enumerate().min_by_key(|(_, w)| w[1].0 - w[0].1);
            if let Some((place, _)) = closest {
                self.heard[place].1 = self.heard[place + 1].1;
                self.heard.remove(place + 1);
            }
        }
    }

    /// Since when there is no gap up to an instant, if there is a log of it or right before.
    pub(crate) fn continuous_since(&self, at: i64) -> Option<i64> {
        let heard = self.heard.iter().find(|h| h.0 <= at && at <= h.1.saturating_add(RIGHT_BEFORE));
        heard.map(|heard| heard.0)
    }

    /// Records did not come.
    pub fn lose(&mut self, lost: Lost) {
        // one that is told again, after a crash or by another copy of the log, is the same
        if self.lost.contains(&lost) {
            return;
        }
        let is_full = self.lost.len() >= MOST;
        if let Some(last) = self.lost.last_mut().filter(|_| is_full) {
            last.until = last.until.max(lost.until);
            last.records += lost.records;
            return;
        }
        let place = self.lost.partition_point(|known| *known < lost);
        self.lost.insert(place, lost);
    }

    /// The clock of the device was ahead by so much.
    pub fn compare_clock(&mut self, ahead: i64) {
        let (least, most) = self.clock.unwrap_or((ahead, ahead));
        self.clock = Some((least.min(ahead), most.max(ahead)));
    }

    /// Gaps of the log between two times.
    pub fn gaps(&self, from: i64, until: i64) -> Vec<Gap> {
        let mut gaps = Vec::new();
        let mut heard_until = from;
        for (begins, ends) in self.heard.iter().filter(|h| h.1 >= from && h.0 <= until) {
            if *begins > heard_until {
                gaps.push(Gap { from: heard_until, until: *begins, lost: None });
            }
            heard_until = heard_until.max(*ends);
        }
        if heard_until < until {
            gaps.push(Gap { from: heard_until, until, lost: None });
        }
        let lost = self.lost.iter().filter(|l| l.until >= from && l.from <= until);
        gaps.extend(lost.map(|l| Gap { from: l.from, until: l.until, lost: Some(l.records) }));
        gaps.sort_unstable();
        gaps
    }

    /// Forgets what was before an instant.
    pub(crate) fn forget_before(&mut self, from: i64) {
        self.heard.retain(|heard| heard.1 >= from);
        if let Some(first) = self.heard.first_mut() {
            first.0 = first.0.max(from);
        }
        self.lost.retain(|lost| lost.until >= from);
    }

    fn add(&mut self, other: &Self) {
        other.heard.iter().for_each(|(from, until)| self.hear(*from, *until));
        other.lost.iter().for_each(|lost| self.lose(*lost));
        if let Some((least, most)) = other.clock {
            self.compare_clock(least);
            self.compare_clock(most);
        }
        self.shortages += other.shortages;
    }
}

impl Coverage {
    /// What is known of a device.
    pub fn of(&mut self, device: &str) -> &mut Heard {
        self.devices.entry(device.to_owned()).or_default()
    }

    /// Adds what is known besides.
    pub fn add(&mut self, other: &Self) {
        for (device, heard) in &other.devices {
            self.of(device).add(heard);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MINUTE: i64 = 60_000;

    #[test]
    fn logs_that_follow_each_other_are_one() {
        let mut heard = Heard::default();
        for (from, until) in [(0, 60), (200, 260), (70, 100), (95, 190)] {
            heard.hear(from * MINUTE, until * MINUTE);
        }
        assert_eq!(heard.heard, [(0, 260 * MINUTE)]);
        heard.hear(300 * MINUTE, 310 * MINUTE);
        let gap = Gap { from: 260 * MINUTE, until: 300 * MINUTE, lost: None };
        assert_eq!(heard.gaps(0, 305 * MINUTE), [gap]);
        assert_eq!(heard.gaps(10 * MINUTE, 20 * MINUTE), []);
        let behind = Gap { from: 310 * MINUTE, until: 320 * MINUTE, lost: None };
        assert_eq!(heard.gaps(305 * MINUTE, 320 * MINUTE), [behind]);
    }

    #[test]
    fn what_was_lost_is_a_gap() {
        let mut heard = Heard::default();
        heard.hear(0, 100 * MINUTE);
        let lost = Lost { from: 5 * MINUTE, until: 6 * MINUTE, records: 7 };
        heard.lose(lost);
        heard.lose(lost);
        let gap = Gap { from: lost.from, until: lost.until, lost: Some(7) };
        assert_eq!(heard.gaps(0, 10 * MINUTE), [gap]);
        assert_eq!(heard.gaps(7 * MINUTE, 10 * MINUTE), []);
    }
}
