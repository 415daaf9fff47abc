//! The motor that charges the closing spring: an inrush that goes as it comes up to speed.

use super::truth::MotorTruth;

#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Motor {
    pub(super) amps: f64,
    /// How long it has run for this spring, in s.
    run_s: f64,
    /// How long it has run since it was switched on, in s.
    on_s: f64,
}

impl Motor {
    pub(super) fn is_still(&self) -> bool {
        self.amps == 0.0
    }

    /// Whether its inrush still goes.
    pub(super) fn starts(&self, of: &MotorTruth) -> bool {
        self.on_s < 8.0 * of.start_s
    }

    pub(super) fn rest(&mut self) {
        self.amps = 0.0;
        self.on_s = 0.0;
    }

    /// A step; when in it the spring was charged, in s from its begin. What it has done so far stays when it
    /// is interrupted.
    pub(super) fn step(&mut self, of: &MotorTruth, dt: f64) -> Option<f64> {
        let left = of.time_s - self.run_s;
        self.run_s += dt;
        self.on_s += dt;
        let inrush = (of.volts / of.ohm - of.amps) * (-self.on_s / of.start_s).exp();
        self.amps = of.amps + inrush;
        if self.run_s >= of.time_s {
            *self = Self::default();
            return Some(left.clamp(0.0, dt));
        }
        None
    }
}
