//! Phasors, harmonics, RMS and frequency of sampled waves.

use num_complex::Complex64;
use std::f64::consts::{SQRT_2, TAU};

/// RMS value of samples, DC included.
pub fn rms(samples: &[f64]) -> f64 {
    (samples.iter().map(|x| x * x).sum::<f64>() / samples.len().max(1) as f64).sqrt()
}

/// Mean value of samples.
pub fn mean(samples: &[f64]) -> f64 {
    samples.iter().sum::<f64>() / samples.len().max(1) as f64
}

/// The RMS phasor of one frequency in samples that span whole cycles of it: the discrete Fourier
/// transform at that frequency. Angle 0 is a peak at `start_s` before the first sample, that is a
/// cosine of the common time reference (IEEE C37.118.1, 3.1).
pub fn phasor(samples: &[f64], rate_hz: f64, frequency_hz: f64, start_s: f64) -> Complex64 {
    let step = Complex64::from_polar(1.0, -TAU * frequency_hz / rate_hz);
    let mut turn = Complex64::from_polar(1.0, -TAU * frequency_hz * start_s);
    let mut sum = Complex64::ZERO;
    for (k, x) in samples.iter().enumerate() {
        // The recurrence is brought back to the exact angle before rounding shows.
        if k % 256 == 0 {
            turn = Complex64::from_polar(1.0, -TAU * frequency_hz * (start_s + k as f64 / rate_hz));
        }
        sum += turn * x;
        turn *= step;
    }
    sum * SQRT_2 / samples.len().max(1) as f64
}

/// The frequency near a nominal one, from the turn of the phasor between two halves of the samples;
/// `None` where there is no such wave.
pub fn frequency(samples: &[f64], rate_hz: f64, nominal_hz: f64) -> Option<f64> {
    let mut found = nominal_hz;
    for _ in 0..4 {
        // Halves of whole cycles of what was found so far.
        let cycles = (samples.len() as f64 / 2.0 / rate_hz * found).floor();
        let half = (cycles / found * rate_hz).round() as usize;
        if cycles < 1.0 || half == 0 || half * 2 > samples.len() {
            return None;
        }
        let a = phasor(&samples[..half], rate_hz, found, 0.0);
        let b = phasor(&samples[half..2 * half], rate_hz, found, half as f64 / rate_hz);
        if a.norm() < 1e-9 || b.norm() < 1e-9 {
            return None;
        }
        found += (b / a).arg() / TAU / (half as f64 / rate_hz);
        if !(nominal_hz * 0.2..nominal_hz * 5.0).contains(&found) {
            return None;
        }
    }
    Some(found)
}

/// What a wave consists of, over whole cycles of its fundamental.
#[derive(Clone, Debug, PartialEq)]
pub struct Spectrum {
    /// Frequency of the fundamental, in Hz.
    pub frequency_hz: f64,
    /// RMS phasor of the fundamental at the first sample.
    pub fundamental: Complex64,
    /// RMS phasors of the orders 2, 3, … at the first sample.
    pub harmonics: Vec<Complex64>,
    /// Mean value.
    pub dc: f64,
    /// True RMS value.
    pub rms: f64,
}

impl Spectrum {
    /// Analyses samples up to a harmonic order; the window is cut to whole cycles. Orders above
    /// half the sampling rate are left out.
    pub fn of(samples: &[f64], rate_hz: f64, frequency_hz: f64, orders: u32) -> Self {
        let cycles = (samples.len() as f64 / rate_hz * frequency_hz + 1e-6).floor().max(1.0);
        let length = ((cycles / frequency_hz * rate_hz).round() as usize).min(samples.len());
        let window = &samples[..length];
        let visible = (rate_hz / 2.0 / frequency_hz).ceil() as u32;
        let at = |n: u32| phasor(window, rate_hz, frequency_hz * f64::from(n), 0.0);
        Self {
            frequency_hz,
            fundamental: at(1),
            harmonics: (2..=orders.min(visible.saturating_sub(1))).map(at).collect(),
            dc: mean(window),
            rms: rms(window),
        }
    }

    /// RMS share of a harmonic of order 2 or more.
    pub fn share(&self, order: u32) -> f64 {
        let harmonic = self.harmonic(order).norm();
        if self.fundamental.norm() > 0.0 { harmonic / self.fundamental.norm() } else { 0.0 }
    }

    /// Angle in radians, from -π to π, of a harmonic where the fundamental rises through zero.
    pub fn harmonic_angle(&self, order: u32) -> f64 {
        let n = f64::from(order);
        // Both as sines: sin(nψ + φ) with ψ = ωt + θ₁ + 90° has the phasor angle nθ₁ + (n-1)·90° + φ.
        let angle = self.harmonic(order).arg()
            - n * self.fundamental.arg()
            - (n - 1.0) * std::f64::consts::FRAC_PI_2;
        Complex64::from_polar(1.0, angle).arg()
    }

    fn harmonic(&self, order: u32) -> Complex64 {
        let index = order.checked_sub(2).map(|i| i as usize);
        index.and_then(|i| self.harmonics.get(i)).copied().unwrap_or_default()
    }

    /// Total harmonic distortion over the analysed orders, as a share of the fundamental.
    pub fn thd(&self) -> f64 {
        let sum: f64 = self.harmonics.iter().map(Complex64::norm_sqr).sum();
        if self.fundamental.norm() > 0.0 { sum.sqrt() / self.fundamental.norm() } else { 0.0 }
    }
}
