//! The mechanism: a mass between two stops, moved by springs, stopped by a damper.

use super::truth::DriveTruth;

/// How hard and how lossy a stop is: strokes/s² a stroke, and 1/s.
const STOP: (f64, f64) = (4e6, 1500.0);

/// Speed and distance from its stop at which the mass stays there.
const REST: (f64, f64) = (0.3, 5e-3);

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Motion {
    Resting,
    Closing,
    Opening,
}

#[derive(Clone, Debug, PartialEq)]
pub(super) struct Drive {
    /// In strokes: 0 open, 1 closed, a little beyond when it overtravels.
    pub(super) place: f64,
    pub(super) speed: f64,
    pub(super) motion: Motion,
    /// When a latch that was let go sets it moving, and how.
    pub(super) due: Option<(f64, Motion)>,
}

impl Drive {
    pub(super) fn new(is_closed: bool) -> Self {
        let place = if is_closed { 1.0 } else { 0.0 };
        Self { place, speed: 0.0, motion: Motion::Resting, due: None }
    }

    pub(super) fn is_closed(&self) -> bool {
        self.motion == Motion::Resting && self.place > 0.5
    }

    pub(super) fn is_open(&self) -> bool {
        self.motion == Motion::Resting && self.place < 0.5
    }

    pub(super) fn is_still(&self) -> bool {
        self.motion == Motion::Resting && self.due.is_none()
    }

    /// A step from a time on.
    pub(super) fn step(&mut self, of: &DriveTruth, now: f64, dt: f64) {
        if let Some((at, motion)) = self.due.filter(|(at, _)| now + dt >= *at) {
            self.due = None;
            self.motion = motion;
            // What is left of the step behind the moment.
            return self.moved(of, (now + dt - at).clamp(0.0, dt));
        }
        self.moved(of, dt);
    }

    fn moved(&mut self, of: &DriveTruth, dt: f64) {
        let (target, mut force) = match self.motion {
            Motion::Resting => return,
            Motion::Closing => (1.0, of.closing),
            Motion::Opening => (0.0, -of.opening),
        };
        let (from, rate) = of.damper;
        let mut lossy = of.friction;
        if self.motion == Motion::Opening && self.place < from {
            lossy += rate;
        }
        let beyond = match self.motion {
            Motion::Closing => (self.place - 1.0).max(0.0),
            _ => self.place.min(0.0),
        };
        if beyond != 0.0 {
            force -= STOP.0 * beyond;
            lossy += STOP.1;
        }
        // Losses backwards, so that a hard damper does no harm.
        let before = self.speed;
        self.speed = (before + dt * force) / (1.0 + dt * lossy);
        self.place += dt * f64::midpoint(before, self.speed);
        if (self.place - target).abs() < REST.1 && self.speed.abs() < REST.0 && beyond != 0.0 {
            (self.place, self.speed, self.motion) = (target, 0.0, Motion::Resting);
        }
    }
}
