//! Repeatability: seeded noise, one draw per injection and quantity.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// A stream of normally distributed draws cut at three standard deviations.
///
/// Cutting keeps a healthy specimen healthy: a real relay's scatter is bounded too.
#[derive(Clone, Debug)]
pub struct Noise(ChaCha8Rng);

impl Noise {
    /// The stream of one injection of a run.
    pub fn of_shot(seed: u64, shot: u64) -> Self {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        rng.set_stream(shot);
        Self(rng)
    }

    /// A stream of its own for something that has a name.
    pub fn of_name(seed: u64, name: &str) -> Self {
        let hash = |h: u64, b: u8| (h ^ u64::from(b)).wrapping_mul(0x0100_0000_01b3);
        // FNV-1a: as far from the small numbers of injections as from other names.
        Self::of_shot(seed, name.bytes().fold(0xcbf2_9ce4_8422_2325, hash))
    }

    /// A draw from -1 to 1, anywhere as likely.
    pub fn even(&mut self) -> f64 {
        self.0.random_range(-1.0..=1.0)
    }

    /// A draw with the given standard deviation.
    pub fn draw(&mut self, deviation: f64) -> f64 {
        let unit: f64 = StandardNormal.sample(&mut self.0);
        unit.clamp(-3.0, 3.0) * deviation
    }
}
