//! Where time stamps come from.

use humantime::format_rfc3339_millis;
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use waltron_core::quantity::{Measure, Time};

/// A source of time stamps, told how much injected time has passed.
pub trait Clock {
    /// The present, RFC 3339 in UTC with milliseconds.
    fn now(&mut self) -> String;

    /// Notes that an injection of this length was played.
    fn injected(&mut self, time: Time);
}

/// The machine's clock.
#[derive(Clone, Copy, Debug, Default)]
pub struct SystemClock;

impl Clock for SystemClock {
    fn now(&mut self) -> String {
        format_rfc3339_millis(SystemTime::now()).to_string()
    }

    fn injected(&mut self, _time: Time) {}
}

/// A clock that starts at a given moment and moves with the injected time only, so that the same
/// seed gives the same record byte for byte.
#[derive(Clone, Copy, Debug)]
pub struct SimulatedClock {
    now: SystemTime,
}

impl SimulatedClock {
    /// Starts at a number of seconds since 1970-01-01 UTC; `None` beyond the year 9999.
    pub fn starting_at(unix_seconds: u64) -> Option<Self> {
        const LAST: u64 = 253_402_300_799;
        let now = UNIX_EPOCH.checked_add(Duration::from_secs(unix_seconds))?;
        (unix_seconds <= LAST).then_some(Self { now })
    }
}

impl Clock for SimulatedClock {
    fn now(&mut self) -> String {
        format_rfc3339_millis(self.now).to_string()
    }

    fn injected(&mut self, time: Time) {
        let passed = Duration::try_from_secs_f64(time.si()).unwrap_or_default();
        self.now = self.now.checked_add(passed).unwrap_or(self.now);
    }
}
