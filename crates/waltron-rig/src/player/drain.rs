//! Discharging what was charged: whatever switched the outputs off, that is waited for.

use super::{Charge, Player};
use crate::attendant::{Attendant, Present};
use waltron_core::injection::capability::Discharge;
use waltron_core::injection::measuring::{Probe, Property};
use waltron_core::injection::observation::Discharged;
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::{Current, Dimension, Measure, Time, seconds};

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
        let is_charged = self.device.charge() != Charge::Nothing;
        if is_charged { self.drain_all(seconds(MOST_S)) } else { None }
    }

    /// Notes that something direct is put out from now on: this, or a recording.
    pub(super) fn charge(&mut self, out: Option<&Stimulus>) {
        if self.device.charge() == Charge::Seen {
            return;
        }
        let below = self.discharge.as_ref().map_or(0.0, |discharge| discharge.below_a);
        // Little more than what counts as nothing need not show.
        let shows = |d: &Drive<Current>| d.dc.is_some_and(|dc| dc.value().si().abs() > 2.0 * below);
        let is_little = out.is_some_and(|out| {
            out.voltages.iter().all(|d| d.dc.is_none()) && !out.currents.iter().any(shows)
        });
        self.device.note_charge(if is_little { Charge::Seen } else { Charge::Unseen });
    }

    /// Looks whether the meter that is to tell when nothing flows any more tells that something does.
    pub(super) fn look_at_charge(&mut self) {
        if self.device.charge() != Charge::Unseen {
            return;
        }
        let Some(discharge) = self.discharge.clone() else { return };
        if self.flowing(&discharge).is_some_and(|value| value > discharge.below_a) {
            self.device.note_charge(Charge::Seen);
        }
    }

    /// What flows by the meter that watches it, in A.
    fn flowing(&mut self, discharge: &Discharge) -> Option<f64> {
        let probe = Probe {
            of: discharge.meter.as_str().into(),
            what: Property::Dc,
            dimension: Dimension::CURRENT,
        };
        let value = self.device.values(&[&probe], self.here()).first().copied().flatten();
        value.map(f64::abs)
    }

    /// The same, whatever was put out before, and for so long at most.
    pub(crate) fn drain_all(&mut self, most: Time) -> Option<Discharged> {
        let discharge = self.discharge.clone()?;
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
            left = self.flowing(&discharge).or(left);
            let time = self.now - start;
            let is_seen = self.device.charge() != Charge::Unseen;
            if left.is_some_and(|left| left <= discharge.below_a) {
                self.device.note_charge(Charge::Nothing);
                return Some(Discharged { time, left_a: left, is_done: true, is_seen });
            }
            if left.is_some() {
                self.device.note_charge(Charge::Seen);
            }
            if time >= most || self.attendant.abandons() {
                return Some(Discharged { time, left_a: left, is_done: false, is_seen });
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
