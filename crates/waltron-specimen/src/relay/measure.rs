//! What the relay's elements make of the wave they see.

use std::collections::VecDeque;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::Measure;
use waltron_core::quantity::measures::Measures;

/// What an element truly measures.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum TrueMeasure {
    /// A current quantity above its setting.
    Current(Measures),
    /// The largest phase current, if it flows within 90° of this angle against its own phase
    /// voltage, in radians.
    Directional(f64),
    /// The largest phase voltage above its setting.
    Overvoltage,
    /// The smallest phase voltage below its setting, unless all are below this one, in volts.
    Undervoltage(f64),
    /// The frequency above its setting.
    Overfrequency,
    /// The frequency below its setting.
    Underfrequency,
    /// The magnitude of the frequency's rate of change above its setting.
    FrequencyRate,
    /// The largest share of this harmonic in a phase current above its setting.
    Harmonic(u32),
}

/// Voltage below which there is no frequency, in volts.
const DEAD_V: f64 = 5.0;

/// Time over which the rate of change of frequency is taken, in seconds.
pub(super) const RATE_WINDOW_S: f64 = 0.1;

/// What the relay has seen of the frequency lately.
#[derive(Clone, Debug, Default)]
pub(super) struct FrequencyHistory(VecDeque<(f64, f64)>);

impl FrequencyHistory {
    pub(super) fn shift(&mut self, by: f64) {
        self.0.iter_mut().for_each(|(at, _)| *at -= by);
    }

    /// Takes a frequency, in Hz; `None` where there is none now.
    pub(super) fn see(&mut self, now: f64, frequency: Option<f64>) {
        match frequency {
            Some(hz) => self.0.push_back((now, hz)),
            None => self.0.clear(),
        }
        while self.0.get(1).is_some_and(|(at, _)| *at <= now - RATE_WINDOW_S) {
            self.0.pop_front();
        }
    }

    /// Mean rate over the window, in Hz/s.
    pub(super) fn rate(&self) -> f64 {
        match (self.0.front(), self.0.back()) {
            // The oldest one held until the window began.
            (Some((_, old)), Some((_, new))) => (new - old) / RATE_WINDOW_S,
            _ => 0.0,
        }
    }
}

impl TrueMeasure {
    /// The multiple of a pickup that the element sees; above 1 it operates.
    pub(super) fn multiple(self, stimulus: &Stimulus, rate: f64, pickup: f64, gain: f64) -> f64 {
        let phases = stimulus.complex_phase_currents();
        let volts = stimulus.complex_phase_voltages().map(|v| v.norm());
        let highest = volts.iter().copied().fold(0.0, f64::max);
        let alive = highest >= DEAD_V;
        let hertz = stimulus.frequency().map(Measure::si).filter(|_| alive);
        match self {
            Self::Current(measures) => measures.value(phases).si() * gain / pickup,
            Self::Directional(angle) => {
                let voltages = stimulus.complex_phase_voltages();
                let forward = |(i, v): (&num_complex::Complex64, num_complex::Complex64)| {
                    let between = (i / v).arg() - angle;
                    (v.norm() >= DEAD_V && between.cos() > 0.0).then(|| i.norm())
                };
                let seen = phases.iter().zip(voltages).filter_map(forward).fold(0.0, f64::max);
                seen * gain / pickup
            }
            Self::Overvoltage => highest * gain / pickup,
            Self::Undervoltage(blocking) => {
                let lowest = volts.iter().copied().fold(f64::INFINITY, f64::min);
                if highest >= blocking { pickup / (lowest * gain).max(1e-9) } else { 0.0 }
            }
            Self::Overfrequency => hertz.map_or(0.0, |hz| hz / pickup),
            Self::Underfrequency => hertz.map_or(0.0, |hz| pickup / hz),
            Self::FrequencyRate => hertz.map_or(0.0, |_| rate.abs() / pickup),
            Self::Harmonic(order) => {
                let shares = stimulus.currents.iter().flat_map(|d| &d.harmonics);
                let of_order = shares.filter(|h| h.order() == order).map(|h| h.share());
                of_order.fold(0.0, f64::max) * gain / pickup
            }
        }
    }
}
