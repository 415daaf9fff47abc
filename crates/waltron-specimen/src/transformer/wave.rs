//! Sources: sums of waves A·exp(s·t), and the instants at which they are looked at.

use num_complex::Complex64;

/// A wave A·exp(s·t), of which the real part counts: s = jω of a sine, 0 of a direct value, -1/τ of a
/// decaying one.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Wave {
    pub(super) s: Complex64,
    pub(super) a: Complex64,
}

/// A sum of waves at its present moment.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Source {
    waves: Vec<Wave>,
    /// What each wave is multiplied by in a step, and the step.
    turns: Vec<Complex64>,
    dt: f64,
}

impl Source {
    pub(super) fn new(waves: Vec<Wave>) -> Self {
        Self { waves, turns: Vec::new(), dt: 0.0 }
    }

    pub(super) fn nothing() -> Self {
        Self::default()
    }

    /// The same times a factor.
    pub(super) fn times(&self, factor: f64) -> Self {
        let waves = self.waves.iter().map(|w| Wave { a: w.a * factor, ..*w });
        Self::new(waves.collect())
    }

    /// Goes on by a step and gives the value there.
    pub(super) fn next(&mut self, dt: f64) -> f64 {
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
