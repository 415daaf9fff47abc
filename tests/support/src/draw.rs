//! Numbers of a seed, for campaigns.

/// Numbers of a seed.
pub struct Draw(u64);

impl Draw {
    /// Of a seed.
    pub fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ 0x5851_f42d_4c95_7f2d)
    }

    /// Between two values.
    pub fn uniform(&mut self, low: f64, high: f64) -> f64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        low + (high - low) * ((self.0 >> 11) as f64 / (1u64 << 53) as f64)
    }

    /// One of several.
    pub fn one<T: Copy>(&mut self, of: &[T]) -> T {
        of[(self.uniform(0.0, of.len() as f64) as usize).min(of.len() - 1)]
    }
}
