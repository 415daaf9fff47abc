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

/// Weights of samples over a stretch whose length need not be a whole number of samples.
///
/// Over two cycles or more they are those of a raised cosine (Hann): its spectrum is zero at every
/// other multiple of the fundamental, and so small beyond that sampling adds nothing, however few
/// samples a cycle has. One cycle alone gets equal weights.
struct Window {
    weights: Vec<f64>,
    sum: f64,
}

/// Samples that are worked on side by side.
const LANES: usize = 4;

/// Fewest cycles that a window with smooth weights spans.
const SMOOTH_FROM: f64 = 2.0;

/// Fewest cycles in which a frequency is found: two windows, one of them a cycle later.
pub const FEWEST_CYCLES: f64 = 3.0;

impl Window {
    /// A window over so many cycles, of at most so many samples.
    fn new(cycles: f64, rate_hz: f64, frequency_hz: f64, most: usize) -> Self {
        Self::shaped(cycles >= SMOOTH_FROM, cycles, rate_hz, frequency_hz, most)
    }

    fn shaped(smooth: bool, cycles: f64, rate_hz: f64, frequency_hz: f64, most: usize) -> Self {
        let length = (cycles * rate_hz / frequency_hz).max(1.0);
        let count = most.min(length.ceil() as usize);
        let weights: Vec<f64> = if smooth {
            raised_cosine(length).take(count).collect()
        } else {
            // The last sample counts by as much of it as lies inside.
            (0..count).map(|k| (length - k as f64).clamp(0.0, 1.0)).collect()
        };
        let sum = weights.iter().sum::<f64>().max(f64::MIN_POSITIVE);
        Self { weights, sum }
    }

    fn mean(&self, samples: &[f64], of: impl Fn(f64) -> f64) -> f64 {
        let weighted = samples.iter().zip(&self.weights).map(|(x, w)| of(*x) * w);
        weighted.sum::<f64>() / self.sum
    }

    /// The RMS phasor of one frequency, at the first sample.
    fn phasor(&self, samples: &[f64], rate_hz: f64, frequency_hz: f64) -> Complex64 {
        let angle = -TAU * frequency_hz / rate_hz;
        // Turns of several samples side by side, so that no one waits for the one before.
        let ahead: [Complex64; LANES] =
            std::array::from_fn(|lane| Complex64::from_polar(1.0, angle * lane as f64));
        let step = Complex64::from_polar(1.0, angle * LANES as f64);
        let mut sums = [Complex64::ZERO; LANES];
        let mut turn = Complex64::ONE;
        let count = samples.len().min(self.weights.len());
        let chunks = samples[..count].chunks(LANES).zip(self.weights[..count].chunks(LANES));
        for (n, (xs, ws)) in chunks.enumerate() {
            if n % 64 == 0 {
                turn = Complex64::from_polar(1.0, angle * (n * LANES) as f64);
            }
            for (lane, (x, w)) in xs.iter().zip(ws).enumerate() {
                sums[lane] += turn * ahead[lane] * (x * w);
            }
            turn *= step;
        }
        sums.iter().sum::<Complex64>() * SQRT_2 / self.sum
    }
}

/// The weights sin²(π·k/length), by turning a phasor that is brought back to its exact angle before
/// rounding shows.
fn raised_cosine(length: f64) -> impl Iterator<Item = f64> {
    let angle = TAU / length;
    let ahead: [Complex64; LANES] =
        std::array::from_fn(|lane| Complex64::from_polar(1.0, angle * lane as f64));
    let step = Complex64::from_polar(1.0, angle * LANES as f64);
    let mut turn = Complex64::ONE;
    (0..).flat_map(move |n: u32| {
        if n.is_multiple_of(64) {
            turn = Complex64::from_polar(1.0, angle * f64::from(n) * LANES as f64);
        }
        let now = turn;
        turn *= step;
        ahead.map(|a| 0.5 * (1.0 - (now.re * a.re - now.im * a.im)))
    })
}

/// Whole cycles in so many samples.
fn whole_cycles(count: usize, rate_hz: f64, frequency_hz: f64) -> f64 {
    (count as f64 / rate_hz * frequency_hz + 1e-6).floor()
}

/// The frequency near a nominal one (0.2 to 2.5 of it); `None` where there is no such wave, or fewer
/// than [`FEWEST_CYCLES`] of it.
///
/// The strongest line of the first cycles gives a first value. The phasor's turn between two windows
/// then makes it exact: the windows move apart as far as the last value tells whole turns, so that a
/// long window makes it better and never wrong by a turn.
pub fn frequency(samples: &[f64], rate_hz: f64, nominal_hz: f64) -> Option<f64> {
    refined(samples, rate_hz, nominal_hz, strongest(samples, rate_hz, nominal_hz)?)
}

/// As [`frequency`], where a wave within 2 % of a known frequency is expected, which saves the search for
/// it; where there is none, it is searched for.
pub fn frequency_near(samples: &[f64], rate_hz: f64, known_hz: f64) -> Option<f64> {
    let near = refined(samples, rate_hz, known_hz, known_hz);
    let near = near.filter(|found| (found / known_hz - 1.0).abs() < 0.02);
    near.or_else(|| frequency(samples, rate_hz, known_hz))
}

fn refined(samples: &[f64], rate_hz: f64, nominal_hz: f64, first: f64) -> Option<f64> {
    let mut found = first;
    let least = 1e-6 * rms(samples);
    let mut apart: f64 = 1.0;
    for _ in 0..40 {
        let all = whole_cycles(samples.len(), rate_hz, found);
        if all < FEWEST_CYCLES {
            return None;
        }
        // No longer than the value so far is good for: a long window is blind beside its frequency.
        let wide = (4.0 * apart).max(SMOOTH_FROM);
        let cycles = (all / 2.0).floor().min(wide).clamp(SMOOTH_FROM, all - 1.0);
        let most = all - cycles;
        let is_last = apart >= most;
        let shift = (apart.min(most) / found * rate_hz).round() as usize;
        let window = Window::new(cycles, rate_hz, found, samples.len() - shift);
        let a = window.phasor(samples, rate_hz, found);
        let b = window.phasor(&samples[shift..], rate_hz, found);
        // What is left of rounding, or of other frequencies, is no wave.
        if a.norm() <= least || b.norm() <= least {
            return None;
        }
        let time = shift as f64 / rate_hz;
        let turned = (b / a * Complex64::from_polar(1.0, -TAU * found * time)).arg();
        let change = turned / TAU / time;
        found += change;
        if !(nominal_hz * 0.2..nominal_hz * 2.5).contains(&found) {
            return None;
        }
        if is_last && change.abs() <= 1e-10 * found {
            break;
        }
        apart *= 2.0;
    }
    Some(found)
}

/// The frequency of the strongest line in the first cycles, to a few percent.
fn strongest(samples: &[f64], rate_hz: f64, nominal_hz: f64) -> Option<f64> {
    // A faster wave has its cycles in fewer of the nominal one.
    let cycles = (samples.len() as f64 / rate_hz * nominal_hz).min(4.0);
    if cycles < FEWEST_CYCLES / 2.5 {
        return None;
    }
    let window = Window::shaped(true, cycles, rate_hz, nominal_hz, samples.len());
    let offset = window.mean(samples, |x| x);
    let swinging: Vec<f64> =
        samples.iter().take(window.weights.len()).map(|x| x - offset).collect();
    // Half of what the window tells apart is near enough for the first step.
    let step = nominal_hz / cycles / 2.0;
    let count = (2.3 * nominal_hz / step) as usize;
    let line = |n: usize| nominal_hz * 0.2 + step * n as f64;
    let size = |n: usize| window.phasor(&swinging, rate_hz, line(n)).norm();
    let best = (0..=count).map(|n| (n, size(n))).max_by(|a, b| a.1.total_cmp(&b.1));
    best.filter(|(_, size)| *size > 0.0).map(|(n, _)| line(n))
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
    /// Analyses samples up to a harmonic order; the window is cut to whole cycles. Orders at or
    /// above half the sampling rate are left out.
    pub fn of(samples: &[f64], rate_hz: f64, frequency_hz: f64, orders: u32) -> Self {
        let cycles = whole_cycles(samples.len(), rate_hz, frequency_hz).max(1.0);
        let window = Window::new(cycles, rate_hz, frequency_hz, samples.len());
        let visible = (rate_hz / 2.0 / frequency_hz).ceil() as u32;
        let at = |n: u32| window.phasor(samples, rate_hz, frequency_hz * f64::from(n));
        Self {
            frequency_hz,
            fundamental: at(1),
            harmonics: (2..=orders.min(visible.saturating_sub(1))).map(at).collect(),
            dc: window.mean(samples, |x| x),
            rms: window.mean(samples, |x| x * x).sqrt(),
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
