//! The time of a stand-in: as fast as is wanted, or step by step.

use std::time::Duration;
use std::time::Instant as WallTime;

use jiff::Timestamp;
use zarnet_core::net::Instant;

/// How time goes on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Pace {
    /// So many seconds in each second of ours.
    Times(f64),
    /// Only when it is told to, for tests.
    Steps,
}

/// The time of a stand-in.
#[derive(Debug)]
pub(super) struct Clock {
    pace: Pace,
    started: WallTime,
    /// The time at which it began, and that was stepped to.
    stepped: Instant,
    /// What the first instant of the traffic is called.
    begins: Timestamp,
}

impl Clock {
    pub(super) fn new(pace: Pace, at: Instant, begins: Timestamp) -> Self {
        Self { pace, started: WallTime::now(), stepped: at, begins }
    }

    /// What time it is.
    pub(super) fn now(&self) -> Instant {
        match self.pace {
            Pace::Steps => self.stepped,
            Pace::Times(times) => {
                let elapsed = self.started.elapsed().as_secs_f64() * times;
                self.stepped + Duration::from_secs_f64(elapsed)
            }
        }
    }

    /// Lets time step on.
    pub(super) fn step(&mut self, by: Duration) {
        self.stepped = self.stepped + by;
    }

    /// Nanoseconds since 1970 at the first instant.
    pub(super) fn begins(&self) -> i128 {
        self.begins.as_nanosecond()
    }

    /// What time it is, as a date.
    pub(super) fn timestamp(&self) -> Timestamp {
        let nanoseconds = self.begins.as_nanosecond() + i128::from(self.now().0);
        Timestamp::from_nanosecond(nanoseconds).unwrap_or(self.begins)
    }

    /// An instant as a date (RFC 3339).
    pub(super) fn date(&self, at: Instant) -> String {
        let nanoseconds = self.begins.as_nanosecond() + i128::from(at.0);
        let date = Timestamp::from_nanosecond(nanoseconds).unwrap_or(self.begins);
        date.strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
    }
}
