//! Discharging what was charged: whatever switched the outputs off, that is waited for.

use super::Player;
use crate::attendant::{Attendant, Present};
use waltron_core::injection::measuring::{Probe, Property};
use waltron_core::injection::observation::Discharged;
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::{Dimension, Time, seconds};

/// The first step between two looks, and the longest one, in s.
const STEPS_S: [f64; 2] = [0.02, 1.0];

/// After so long it is told that it does not go; in s.
pub(crate) const MOST_S: f64 = 6.0 * 3600.0;

/// Who may watch, and cannot stop it but by leaving.
struct Deaf<'a>(&'a mut dyn Attendant);

impl Attendant for Deaf<'_> {
    fn ask(&mut self, question: &Question) -> Answer {
        question.default_answer().unwrap_or(Answer::Confirmed)
    }

    fn is_watching(&self) -> bool {
        self.0.is_watching()
    }

    fn sees(&mut self, present: &Present<'_>) {
        self.0.sees(present);
    }

    fn wants_to_stop(&self) -> bool {
        self.0.abandons()
    }
}

impl Player<'_> {
    /// Lets time pass with outputs off until nothing is charged, whatever charged it; `None` where nothing is, or
    /// the rig watches nothing.
    pub(super) fn drain(&mut self) -> Option<Discharged> {
        if self.device.is_charged() { self.drain_all(seconds(MOST_S)) } else { None }
    }

    /// The same, whatever was put out before, and for so long at most.
    pub(crate) fn drain_all(&mut self, most: Time) -> Option<Discharged> {
        let discharge = self.discharge.clone()?;
        let probe = Probe {
            of: discharge.meter.as_str().into(),
            what: Property::Dc,
            dimension: Dimension::CURRENT,
        };
        let start = self.now;
        self.level_start = start;
        // A step may have been under way when it was stopped.
        self.wait_on((start + seconds(2.0 * super::STEP_S)).min(start + most));
        self.level_start = self.now;
        self.wait_on((self.now + seconds(STEPS_S[0])).min(start + most));
        let mut left: Option<f64> = None;
        let mut is_told = false;
        loop {
            let passed = (self.now - start).value;
            if let Some(value) =
                self.device.values(&[&probe], self.here()).first().copied().flatten()
            {
                left = Some(value.abs());
                if value.abs() <= discharge.below_a {
                    let time = self.now - start;
                    self.device.note_charged(false);
                    return Some(Discharged { time, left_a: left, is_done: true });
                }
            }
            if self.now - start >= most || self.attendant.abandons() {
                return Some(Discharged { time: self.now - start, left_a: left, is_done: false });
            }
            if !is_told && left.is_some() {
                self.attendant.drains();
                is_told = true;
            }
            let step = (passed / 50.0).clamp(STEPS_S[0], STEPS_S[1]);
            // A look is at the last step only: what flowed before is over.
            self.level_start = self.now;
            self.wait_on((self.now + seconds(step)).min(start + most));
        }
    }

    /// Lets time pass up to a moment, whoever wants to stop.
    fn wait_on(&mut self, until: Time) {
        while self.now < until {
            let change = self.device.advance(until);
            let to = change.as_ref().map_or(until, |edge| edge.time);
            let contacts = &self.contacts;
            let mut deaf = Deaf(&mut *self.attendant);
            self.pacer.keep(to, self.device.out(), || contacts.closed(), &mut deaf);
            self.now = to;
            if let Some(edge) = change {
                self.contacts.change(&edge);
            }
        }
    }
}
