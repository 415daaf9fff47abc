//! Phasors and symmetrical components.

use crate::quantity::{Angle, Measure, in_degrees, text};
use num_complex::Complex64;
use std::fmt;

/// A sinusoid's RMS value and phase angle; positive angles lead.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Phasor<Q> {
    /// RMS value.
    pub rms: Q,
    /// Phase angle against the common reference.
    pub angle: Angle,
}

impl<Q: Measure> Phasor<Q> {
    /// A phasor from its RMS value and angle.
    pub fn new(rms: Q, angle: Angle) -> Self {
        Self { rms, angle }
    }

    /// Nothing flowing.
    pub fn zero() -> Self {
        Self { rms: Q::from_si(0.0), angle: Angle::from_si(0.0) }
    }

    /// The complex RMS value, in the SI unit of `Q`.
    pub fn complex(self) -> Complex64 {
        Complex64::from_polar(self.rms.si(), self.angle.si())
    }
}

impl<Q: Measure> fmt::Display for Phasor<Q> {
    /// `5 A @ -120 deg`, the angle left out where it is zero.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&text(self.rms))?;
        if self.rms.si() != 0.0 && in_degrees(self.angle).abs() > 1e-9 {
            write!(f, " @ {}", text(self.angle))?;
        }
        Ok(())
    }
}

/// Zero-, positive- and negative-sequence components of three phases, A-B-C rotation.
///
/// I1 = (Ia + a·Ib + a²·Ic)/3, I2 = (Ia + a²·Ib + a·Ic)/3, I0 = (Ia + Ib + Ic)/3, a = 1∠120°
/// (C. L. Fortescue; IEC 60050-448).
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sequence {
    /// Zero sequence, a third of the residual.
    pub zero: Complex64,
    /// Positive sequence.
    pub positive: Complex64,
    /// Negative sequence.
    pub negative: Complex64,
}

impl Sequence {
    /// Components of three complex phase values.
    pub fn of(phases: [Complex64; 3]) -> Self {
        // a = 1∠120°, exact to the last bit so that a balanced system has no negative sequence.
        let a = Complex64::new(-0.5, 3f64.sqrt() / 2.0);
        let a2 = a.conj();
        let [pa, pb, pc] = phases;
        Self {
            zero: (pa + pb + pc) / 3.0,
            positive: (pa + a * pb + a2 * pc) / 3.0,
            negative: (pa + a2 * pb + a * pc) / 3.0,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::{amperes, degrees};

    fn phases(rms_and_deg: [(f64, f64); 3]) -> [Complex64; 3] {
        rms_and_deg.map(|(rms, deg)| Phasor::new(amperes(rms), degrees(deg)).complex())
    }

    #[test]
    fn textbook_cases() {
        let balanced = Sequence::of(phases([(2.0, 0.0), (2.0, -120.0), (2.0, 120.0)]));
        assert!((balanced.positive.norm() - 2.0).abs() < 1e-12);
        assert!(balanced.negative.norm() < 1e-12 && balanced.zero.norm() < 1e-12);

        let earth_fault = Sequence::of(phases([(3.0, 0.0), (0.0, 0.0), (0.0, 0.0)]));
        assert!((earth_fault.zero.norm() - 1.0).abs() < 1e-12);
        assert!((earth_fault.negative.norm() - 1.0).abs() < 1e-12);

        let phase_to_phase = Sequence::of(phases([(3.0, 0.0), (3.0, 180.0), (0.0, 0.0)]));
        assert!((phase_to_phase.negative.norm() - 3f64.sqrt()).abs() < 1e-12);
        assert!(phase_to_phase.zero.norm() < 1e-12);
    }
}
