//! A coil with a plunger: current, force, and the latch that it lets go.
//!
//! ```text
//!   v = R·i + d(L(y)·i)/dt        L(y) = L0 + L1·y
//!   y″ = a·((i/In)² − p²·s(y))    s = 1 up to the latch, less behind it; between two stops
//! ```
//!
//! The moving plunger's back-e.m.f. makes the dip behind the first peak; when it has come to its stop the
//! current rises to V/R.

use super::truth::CoilTruth;

/// Where the latch lets go, in the plunger's strokes.
const LATCH_AT: f64 = 0.7;

/// What holds the plunger behind its latch, over what holds it up to there.
const BEHIND: f64 = 0.3;

/// How many times its own resistance an opening contact puts into the circuit, as its arc does.
const ARC: f64 = 30.0;

#[derive(Clone, Debug, PartialEq)]
pub(super) struct Coil {
    pub(super) amps: f64,
    /// Plunger, in its strokes, and its speed.
    place: f64,
    speed: f64,
    /// Whether the latch was let go in this movement.
    has_let_go: bool,
}

impl Coil {
    pub(super) fn new() -> Self {
        Self { amps: 0.0, place: 0.0, speed: 0.0, has_let_go: false }
    }

    /// Whether nothing of it moves or flows.
    pub(super) fn is_still(&self) -> bool {
        self.amps.abs() < 1e-6 && self.place == 0.0
    }

    /// A step with a voltage at the coil, or with its circuit open; whether the latch was let go in it.
    pub(super) fn step(&mut self, of: &CoilTruth, volts: Option<f64>, dt: f64) -> bool {
        let (l0, l1) = of.henry;
        let (ohm, volts) = match volts {
            Some(volts) => (of.ohm, volts),
            None => (of.ohm * (1.0 + ARC), 0.0),
        };
        let henry = l0 + l1 * self.place;
        // Backwards in the current, so that a small inductance does no harm.
        let emf = l1 * self.speed;
        self.amps = (self.amps + dt * volts / henry) / (1.0 + dt * (ohm + emf) / henry);
        let share = self.amps * of.ohm / of.rated_v;
        let held = of.pickup * of.pickup * if self.place < LATCH_AT { 1.0 } else { BEHIND };
        let force = of.plunger * (share * share - held);
        let before = self.speed;
        self.speed += dt * force;
        self.place += dt * f64::midpoint(before, self.speed);
        if self.place <= 0.0 || self.place >= 1.0 {
            self.place = self.place.clamp(0.0, 1.0);
            self.speed = 0.0;
        }
        if self.place == 0.0 {
            self.has_let_go = false;
        }
        let lets_go = self.place > LATCH_AT && !self.has_let_go;
        self.has_let_go |= lets_go;
        lets_go
    }
}
