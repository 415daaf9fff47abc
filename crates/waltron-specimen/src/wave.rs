//! Sources: sums of waves A·exp(s·t), and the instants at which they are looked at.

use num_complex::Complex64;
use std::f64::consts::{FRAC_PI_2, SQRT_2, TAU};
use waltron_core::injection::samples::PhaseClock;
use waltron_core::injection::stimulus::Drive;
use waltron_core::quantity::Measure;

/// A wave A·exp(s·t), of which the real part counts: s = jω of a sine, 0 of a direct value, -1/τ of a
/// decaying one.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Wave {
    pub(crate) s: Complex64,
    pub(crate) a: Complex64,
}

/// A sum of waves at its present moment.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Source {
    waves: Vec<Wave>,
    /// What each wave is multiplied by in a step, and the step.
    turns: Vec<Complex64>,
    dt: f64,
}

impl Source {
    pub(crate) fn new(waves: Vec<Wave>) -> Self {
        Self { waves, turns: Vec::new(), dt: 0.0 }
    }

    pub(crate) fn nothing() -> Self {
        Self::default()
    }

    /// The same times a factor.
    pub(crate) fn times(&self, factor: f64) -> Self {
        let waves = self.waves.iter().map(|w| Wave { a: w.a * factor, ..*w });
        Self::new(waves.collect())
    }

    /// Goes on by a step and gives the value there.
    pub(crate) fn next(&mut self, dt: f64) -> f64 {
        if self.waves.is_empty() {
            return 0.0;
        }
        if dt != self.dt {
            self.dt = dt;
            self.turns = self.waves.iter().map(|w| (w.s * dt).exp()).collect();
        }
        let mut sum = 0.0;
        for (wave, turn) in self.waves.iter_mut().zip(&self.turns) {
            wave.a *= turn;
            sum += wave.a.re;
        }
        sum
    }
}

/// The waves of what an output puts out, from now on.
pub(crate) fn of_drive<Q: Measure>(clock: &PhaseClock, drive: &Drive<Q>) -> Vec<Wave> {
    let psi = clock.phase_of(&drive.channel) + drive.phasor.angle().si() + FRAC_PI_2;
    let (rms, w) = (drive.phasor.rms().si() * SQRT_2, TAU * drive.frequency.si());
    // sin x is the real part of exp(j(x - 90°)).
    let sine = |order: f64, share: f64, angle: f64| Wave {
        s: Complex64::new(0.0, order * w),
        a: Complex64::from_polar(rms * share, order * psi + angle - FRAC_PI_2),
    };
    let mut all = Vec::new();
    if rms != 0.0 {
        all.push(sine(1.0, 1.0, 0.0));
        let harmonics = drive.harmonics.iter();
        all.extend(harmonics.map(|h| sine(f64::from(h.order()), h.share(), h.angle().si())));
    }
    if let Some(dc) = drive.dc.filter(|dc| dc.value().si() != 0.0) {
        let s = dc.tau().map_or(0.0, |tau| -1.0 / tau.si());
        all.push(Wave { s: s.into(), a: dc.value().si().into() });
    }
    all
}
