//! What is seen of insulation over time while something is put on it.

use super::dielectric::{Connected, Insulation};
use crate::Window;
use crate::wave::Wave;
use num_complex::Complex64;
use std::f64::consts::TAU;

/// What the meters look at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Looks {
    /// The voltage at the energised electrode.
    Volts,
    /// The current through what is measured.
    Current,
}

/// Insulation with leads on it: what was put out since when.
#[derive(Clone, Debug, Default)]
pub(super) struct Insulated {
    pub(super) leads: Option<Connected>,
    /// From a moment in s on, these waves.
    levels: Vec<(f64, Vec<Wave>)>,
}

impl Insulated {
    /// A new injection begins.
    pub(super) fn begin(&mut self) {
        self.levels.clear();
    }

    /// From now on, this is put out.
    pub(super) fn apply(&mut self, now: f64, waves: Vec<Wave>) {
        // A direct voltage that stays goes on polarising.
        let is_direct = waves.iter().all(|w| w.s.norm() == 0.0);
        if is_direct && self.levels.last().is_some_and(|(_, before)| *before == waves) {
            return;
        }
        self.levels.retain(|(since, _)| *since < now);
        self.levels.push((now, waves));
    }

    /// Samples of what a meter sees; none while its leads are somewhere else. Transients of what alternates
    /// are over sooner than anybody looks.
    pub(super) fn samples(
        &self,
        insulation: &Insulation,
        look: Looks,
        window: Window,
    ) -> Option<Vec<f64>> {
        let leads = self.leads.as_ref()?;
        let Window { start_s, rate_hz, count } = window;
        let mut all = vec![0.0; count];
        for (k, (since, waves)) in self.levels.iter().enumerate() {
            let until = self.levels.get(k + 1).map_or(f64::INFINITY, |(next, _)| *next);
            let place = |time: f64| ((time - start_s) * rate_hz).ceil().clamp(0.0, count as f64);
            let (from, to) = (place(*since) as usize, place(until) as usize);
            if from >= to {
                continue;
            }
            for wave in waves {
                let hertz = wave.s.im.abs() / TAU;
                let factor = match look {
                    Looks::Volts => Complex64::ONE,
                    Looks::Current if hertz > 0.0 => insulation.admittance(leads, hertz),
                    Looks::Current => Complex64::ZERO,
                };
                let first = start_s + from as f64 / rate_hz - since;
                let mut value = wave.a * factor * (wave.s * first).exp();
                let turn = (wave.s / rate_hz).exp();
                for sample in &mut all[from..to] {
                    *sample += value.re;
                    value *= turn;
                }
                if hertz == 0.0 && look == Looks::Current {
                    for (k, sample) in all[from..to].iter_mut().enumerate() {
                        let passed = first + k as f64 / rate_hz;
                        *sample += wave.a.re * insulation.after(leads, passed);
                    }
                }
            }
        }
        Some(all)
    }
}
