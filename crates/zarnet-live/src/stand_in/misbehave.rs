//! Faults on purpose: what a device may do to somebody who edits it.

use std::str::FromStr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// A fault.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// The answer comes late.
    Late,
    /// The connection ends before the request is looked at.
    Drop,
    /// The edit is made, and the connection ends without an answer.
    DropAfter,
    /// The connection ends without an answer, and the edit is made a little later.
    Afterwards,
    /// Somebody else edits in between: the version is another.
    Conflict,
    /// Half of the answer, then the connection ends.
    Partial,
    /// The answer is not what was asked for.
    Wrong,
    /// The edit is refused.
    Refuse,
    /// The edit is answered, and not made.
    Forget,
    /// The device restarts with its saved configuration after the edit.
    Restart,
    /// The answer never ends.
    Endless,
    /// The answer never comes.
    Silent,
}

impl Fault {
    /// Every fault with its name.
    pub const ALL: [(&'static str, Self); 12] = [
        ("late", Self::Late),
        ("drop", Self::Drop),
        ("drop-after", Self::DropAfter),
        ("afterwards", Self::Afterwards),
        ("conflict", Self::Conflict),
        ("partial", Self::Partial),
        ("wrong", Self::Wrong),
        ("refuse", Self::Refuse),
        ("forget", Self::Forget),
        ("restart", Self::Restart),
        ("endless", Self::Endless),
        ("silent", Self::Silent),
    ];

    /// Its name.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|f| f.1 == self).map_or("", |f| f.0)
    }
}

/// A late answer comes after this.
const LATE: Duration = Duration::from_millis(1_500);

impl Default for Misbehave {
    fn default() -> Self {
        Self::new(Vec::new(), 1, 0)
    }
}

/// Which faults there are, and when.
#[derive(Debug)]
pub struct Misbehave {
    faults: Vec<Fault>,
    /// How late a late answer comes.
    pub(super) delay: Duration,
    /// How often a request meets one: one in so many.
    one_in: u64,
    random: AtomicU64,
}

impl Misbehave {
    /// Faults that one in so many requests meets, in an order that follows from the seed.
    pub fn new(faults: Vec<Fault>, one_in: u64, seed: u64) -> Self {
        let random = AtomicU64::new(seed);
        Self { faults, one_in: one_in.max(1), random, delay: LATE }
    }

    /// The same with other late answers.
    pub fn late_by(self, delay: Duration) -> Self {
        Self { delay, ..self }
    }

    /// The fault that a request meets, if any; `writes` says whether it is to change something.
    pub(super) fn next(&self, writes: bool) -> Option<Fault> {
        if self.faults.is_empty() {
            return None;
        }
        let number = self.number();
        if !number.is_multiple_of(self.one_in) {
            return None;
        }
        let fits = |f: &&Fault| {
            writes
                || !matches!(
                    f,
                    Fault::DropAfter
                        | Fault::Afterwards
                        | Fault::Conflict
                        | Fault::Refuse
                        | Fault::Forget
                        | Fault::Restart
                )
        };
        let fitting: Vec<&Fault> = self.faults.iter().filter(fits).collect();
        let pick = (number / self.one_in) as usize % fitting.len().max(1);
        fitting.get(pick).copied().copied()
    }

    /// A number that follows from the seed (a step of splitmix64).
    fn number(&self) -> u64 {
        const STEP: u64 = 0x9e37_79b9_7f4a_7c15;
        let mut z = self.random.fetch_add(STEP, Ordering::Relaxed).wrapping_add(STEP);
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }
}

impl FromStr for Fault {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        Self::ALL.iter().find(|f| f.0 == text.trim()).map(|f| f.1).ok_or_else(|| {
            let names: Vec<&str> = Self::ALL.iter().map(|f| f.0).collect();
            format!("`{text}` is no fault; there are {}", names.join(", "))
        })
    }
}
