//! How virtual time relates to the wall clock.

use crate::attendant::{Attendant, Present};
use std::time::{Duration, Instant};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Measure, Time, seconds};
use waltron_core::text::name::Name;

/// How virtual time relates to the wall clock.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Pace {
    /// As fast as it computes.
    Fast,
    /// A second takes a second.
    Real,
}

/// How often the attendant is looked at while keeping real pace.
const GLANCE: Duration = Duration::from_millis(20);

/// A clock that virtual time is held against.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Pacer {
    pace: Pace,
    began: Instant,
}

impl Pacer {
    /// Begins now.
    pub(crate) fn begin(pace: Pace) -> Self {
        Self { pace, began: Instant::now() }
    }

    /// The time that has passed in the world, where virtual time keeps to it.
    pub(crate) fn passed(&self) -> Option<Time> {
        (self.pace == Pace::Real).then(|| seconds(self.began.elapsed().as_secs_f64()))
    }

    /// Waits until the wall clock has caught up; false if the attendant wants to stop.
    pub(crate) fn keep(
        &self,
        to: Time,
        out: &Stimulus,
        closed: impl Fn() -> Vec<Name>,
        attendant: &mut dyn Attendant,
    ) -> bool {
        if self.pace == Pace::Fast {
            return !attendant.wants_to_stop();
        }
        let due = moment(self.began, to);
        loop {
            if attendant.wants_to_stop() {
                return false;
            }
            if attendant.is_watching() {
                let now = seconds(self.began.elapsed().as_secs_f64()).min(to);
                attendant.sees(&Present { now, out, closed: &closed() });
            }
            let now = Instant::now();
            if now >= due {
                return true;
            }
            std::thread::sleep(GLANCE.min(due - now));
        }
    }
}

/// A time after an instant; a time that no clock reaches stands for a day.
fn moment(from: Instant, time: Time) -> Instant {
    const DAY: Duration = Duration::from_secs(86_400);
    let time = Duration::try_from_secs_f64(time.si().max(0.0)).unwrap_or(DAY);
    from.checked_add(time).unwrap_or(from + DAY)
}

/// Lets real time pass until the attendant wants to stop.
pub(crate) fn wait(time: Time, attendant: &mut dyn Attendant) {
    let due = moment(Instant::now(), time);
    while !attendant.wants_to_stop() {
        let left = due.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return;
        }
        std::thread::sleep(GLANCE.min(left));
    }
}
