//! Where time stamps come from.

use jiff::{SignedDuration, Timestamp};
use waltron_core::quantity::{Measure, Time};

/// A source of time stamps, told how much injected time has passed.
pub trait Clock {
    /// The present, RFC 3339 in UTC with milliseconds.
    fn now(&mut self) -> String;

    /// Notes that an injection of this length was played.
    fn injected(&mut self, time: Time);
}

fn stamp(timestamp: Timestamp) -> String {
    format!("{timestamp:.3}")
}

/// The machine's clock.
#[derive(Clone, Copy, Debug, Default)]
pub struct SystemClock;

impl Clock for SystemClock {
    fn now(&mut self) -> String {
        stamp(Timestamp::now())
    }

    fn injected(&mut self, _time: Time) {}
}

/// A clock that starts at a given moment and moves with the injected time only, so that the same
/// seed gives the same record byte for byte.
#[derive(Clone, Copy, Debug)]
pub struct SimulatedClock {
    now: Timestamp,
}

impl SimulatedClock {
    /// Starts at a number of seconds since 1970-01-01 UTC; `None` beyond the calendar's range.
    pub fn starting_at(unix_seconds: i64) -> Option<Self> {
        Timestamp::from_second(unix_seconds).ok().map(|now| Self { now })
    }
}

impl Clock for SimulatedClock {
    fn now(&mut self) -> String {
        stamp(self.now)
    }

    fn injected(&mut self, time: Time) {
        let passed = SignedDuration::try_from_secs_f64(time.si()).unwrap_or_default();
        self.now = self.now.checked_add(passed).unwrap_or(self.now);
    }
}
