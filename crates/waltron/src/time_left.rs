//! How long a run is likely to take still.

use std::fmt;
use waltron_core::quantity::{Measure, Time, duration};
use waltron_core::record::Event;

/// The likely time of a run, less what has passed of it: whole injections, rests, and what has
/// passed of the present injection.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct TimeLeft {
    likely: Time,
    passed: Time,
    /// The longest that the present injection may take; zero between two of them.
    longest: Time,
    now: Time,
}

impl TimeLeft {
    pub(crate) fn of(likely: Time) -> Self {
        Self { likely, ..Self::default() }
    }

    /// Takes an event of the run.
    pub(crate) fn event(&mut self, event: &Event) {
        match event {
            Event::Begun(begun) => {
                self.longest = begun.longest.unwrap_or_default();
                self.now = Time::default();
            }
            Event::Observed { observation, .. } => {
                self.passed += observation.length();
                self.longest = Time::default();
            }
            Event::Rested { time } => self.passed += *time,
            _ => {}
        }
    }

    /// Takes how long the present injection has lasted.
    pub(crate) fn sees(&mut self, now: Time) {
        self.now = now;
    }

    /// What is left, in whole seconds; never less than none.
    fn left(&self) -> Time {
        let left = self.likely - self.passed - self.now.min(self.longest);
        Time::from_si(left.si().max(0.0).ceil())
    }
}

impl fmt::Display for TimeLeft {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "about {} left", duration(self.left()))
    }
}
