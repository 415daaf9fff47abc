//! Burdens: what is connected to a secondary.

use num_complex::Complex64;

/// A burden as an impedance.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Burden {
    /// In ohms at the rated frequency.
    pub z: Complex64,
}

impl Burden {
    /// Of an apparent power in VA at a rated current, with its power factor, lagging.
    pub fn of_current(va: f64, rated_a: f64, power_factor: f64) -> Self {
        Self::of_size(va / (rated_a * rated_a), power_factor)
    }

    /// Of an impedance in ohms with its power factor, lagging.
    pub fn of_size(ohms: f64, power_factor: f64) -> Self {
        let cos = power_factor.clamp(0.0, 1.0);
        Self { z: Complex64::new(ohms * cos, ohms * (1.0 - cos * cos).sqrt()) }
    }

    /// The apparent power at a rated current, in VA.
    pub fn va(self, rated_a: f64) -> f64 {
        self.z.norm() * rated_a * rated_a
    }

    /// The cosine of its angle; 1 of none.
    pub fn power_factor(self) -> f64 {
        if self.z.norm() == 0.0 { 1.0 } else { self.z.re / self.z.norm() }
    }
}
