//! Repeatability: seeded noise, one draw per injection and quantity.

use rand::SeedableRng;
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

    /// A draw with the given standard deviation.
    pub fn draw(&mut self, deviation: f64) -> f64 {
        let unit: f64 = StandardNormal.sample(&mut self.0);
        unit.clamp(-3.0, 3.0) * deviation
    }
}
