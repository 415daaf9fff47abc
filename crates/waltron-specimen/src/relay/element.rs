//! One element of the simulated relay: pickup with hysteresis, operate integral, reset.

use super::measure::TrueMeasure;
use waltron_core::characteristic::{Characteristic, Form, HAIR, Reset};
use waltron_core::quantity::Measure;
use waltron_core::text::name::Name;

/// What an element is really like.
#[derive(Clone, Debug, PartialEq)]
pub struct TrueElement {
    /// Its id.
    pub id: Name,
    /// What it measures.
    pub measures: TrueMeasure,
    /// Where it truly picks up, in the SI unit of what it measures.
    pub pickup: f64,
    /// Where it truly drops out, as a share of pickup.
    pub reset_ratio: f64,
    /// How it truly times.
    pub characteristic: Characteristic,
    /// The contact it trips.
    pub trip: Name,
    /// The contact it closes on pickup.
    pub start: Name,
    /// The binary input that blocks it while it is on; none: nothing does.
    pub blocked_by: Option<Name>,
    /// Whether it works at all.
    pub enabled: bool,
}

/// An element's state in virtual time, in seconds.
#[derive(Clone, Debug)]
pub(super) struct Running {
    now: f64,
    /// The multiple of its true pickup that it sees.
    multiple: f64,
    picked_up: bool,
    operated: bool,
    /// Share of the way to operation, 1 operates: the integral of dt/t(M) of IEEE C37.112, 4.1,
    /// or the thermal state of IEC 60255-149.
    progress: f64,
    /// When the element last dropped out.
    dropped_at: f64,
    /// When it last picked up.
    picked_at: f64,
}

impl Running {
    pub(super) fn at_rest(element: &TrueElement) -> Self {
        Self {
            now: 0.0,
            multiple: 0.0,
            picked_up: false,
            operated: false,
            progress: rest_progress(element),
            dropped_at: f64::NEG_INFINITY,
            picked_at: f64::NEG_INFINITY,
        }
    }

    pub(super) fn shift(&mut self, by: f64) {
        self.now -= by;
        self.dropped_at -= by;
        self.picked_at -= by;
    }

    pub(super) fn sees(&mut self, multiple: f64) {
        self.multiple = multiple;
    }

    /// Time until operation from the present state, were the current to stay.
    fn remaining(&self, element: &TrueElement) -> Option<f64> {
        let c = &element.characteristic;
        let whole = c.operate_time(self.multiple)?.si();
        let left = match &c.form {
            Form::Thermal { tau, .. } => {
                let m2 = self.heating(element);
                let left = tau.si() * ((m2 - self.progress) / (m2 - 1.0)).max(1.0).ln();
                let least = c.minimum_time.map_or(0.0, |t| self.picked_at + t.si() - self.now);
                left.max(least)
            }
            _ => whole * (1.0 - self.progress),
        };
        Some(left.max(0.0))
    }

    /// The square of what heats a thermal element: above its upper range limit no more than there.
    fn heating(&self, element: &TrueElement) -> f64 {
        let most = element.characteristic.upper_limit.unwrap_or(f64::INFINITY);
        self.multiple.min(most).powi(2)
    }

    /// When the element will next operate by itself; infinite if it will not.
    pub(super) fn next_decision(&self, element: &TrueElement) -> f64 {
        if !element.enabled || !self.picked_up || self.operated {
            return f64::INFINITY;
        }
        self.remaining(element).map_or(f64::INFINITY, |left| self.now + left)
    }

    /// Lets time pass with the current as it is.
    pub(super) fn pass(&mut self, element: &TrueElement, to: f64) {
        let dt = (to - self.now).max(0.0);
        let c = &element.characteristic;
        if self.picked_up {
            match (&c.form, c.operate_time(self.multiple)) {
                (Form::Thermal { tau, .. }, Some(_)) => {
                    let m2 = self.heating(element);
                    self.progress = m2 - (m2 - self.progress) * (-dt / tau.si()).exp();
                }
                (_, Some(whole)) if whole.si() > 0.0 => {
                    self.progress = (self.progress + dt / whole.si()).min(1.0);
                }
                (_, Some(_)) => self.progress = 1.0,
                // Between dropout and pickup the integral holds.
                (_, None) => {}
            }
        } else {
            let rest = rest_progress(element);
            match c.reset {
                Reset::Instant => self.progress = rest,
                Reset::Delay(delay) if to >= self.dropped_at + delay.si() => self.progress = rest,
                Reset::Delay(_) => {}
                Reset::Curve(tr) => {
                    let rate = (1.0 - self.multiple * self.multiple).max(0.0) / tr.si();
                    self.progress = (self.progress - dt * rate).max(rest);
                }
            }
        }
        self.now = self.now.max(to);
    }

    /// Decides by what it sees now; returns the contacts that change, and how.
    pub(super) fn decide(&mut self, element: &TrueElement) -> Vec<(Name, bool)> {
        let mut changes = Vec::new();
        // It starts above its setting, wherever its curve begins.
        if !self.picked_up && self.multiple > 1.0 + HAIR {
            self.picked_up = true;
            self.picked_at = self.now;
            changes.push((element.start.clone(), true));
        } else if self.picked_up && self.multiple < element.reset_ratio {
            self.picked_up = false;
            self.dropped_at = self.now;
            changes.push((element.start.clone(), false));
            if self.operated {
                self.operated = false;
                changes.push((element.trip.clone(), false));
            }
        }
        // A billionth of a second: what rounding leaves of a time that has run out.
        let due = self.picked_up && self.remaining(element).is_some_and(|left| left <= 1e-9);
        if due && !self.operated {
            self.operated = true;
            changes.push((element.trip.clone(), true));
        }
        changes
    }
}

/// The progress an element has after a full reset: the preload of a thermal one.
fn rest_progress(element: &TrueElement) -> f64 {
    match element.characteristic.form {
        Form::Thermal { preload, .. } => preload * preload,
        _ => 0.0,
    }
}
