//! A tap changer's motor, as a clamp around one of its leads sees it.

use crate::Window;

/// How long it runs on after its contacts, and the time constant of its start, in s.
const AFTER_S: f64 = 0.3;
const STARTS_S: f64 = 0.06;

/// How many times more it takes in its first moment.
const FIRST: f64 = 4.0;

/// From when to when it ran, in s, and what it took, in A.
#[derive(Clone, Debug, Default)]
pub(super) struct Motor {
    runs: Vec<(f64, f64, f64)>,
}

impl Motor {
    /// It starts now, and has made its change at another moment.
    pub(super) fn run(&mut self, now: f64, made_s: f64, amps: f64) {
        self.runs.push((now, made_s + AFTER_S, amps));
    }

    /// Times count from now on.
    pub(super) fn begin(&mut self, now: f64) {
        self.runs.retain_mut(|(from, to, _)| {
            (*from, *to) = (*from - now, *to - now);
            *to > 0.0
        });
    }

    /// What it takes: more while it starts.
    pub(super) fn samples(&self, window: Window) -> Vec<f64> {
        let at = |k: usize| {
            let time = window.start_s + k as f64 / window.rate_hz;
            let runs = self.runs.iter().filter(|(from, to, _)| (*from..*to).contains(&time));
            runs.map(|(from, _, amps)| amps * (1.0 + FIRST * (-(time - from) / STARTS_S).exp()))
                .sum()
        };
        (0..window.count).map(at).collect()
    }
}
