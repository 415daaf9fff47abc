//! Phasors and symmetrical components.

use crate::quantity::{Angle, Measure, degrees, in_degrees, text};
use num_complex::Complex64;
use std::fmt;

/// A sinusoid's RMS value and phase angle; positive angles lead. The RMS value is finite and not
/// negative, so that no comparison with a limit can be passed by its sign.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Phasor<Q> {
    rms: Q,
    angle: Angle,
}

impl<Q: Measure> Phasor<Q> {
    /// A phasor from a magnitude and an angle; a negative magnitude is half a turn.
    ///
    /// What is no finite number becomes the largest there is, which no clearance lets through.
    pub fn new(magnitude: Q, angle: Angle) -> Self {
        let (si, turn) = magnitude_and_turn(magnitude.si());
        Self { rms: Q::from_si(si), angle: angle + turn }
    }

    /// RMS value, finite and not negative.
    pub fn rms(self) -> Q {
        self.rms
    }

    /// Phase angle against the common reference.
    pub fn angle(self) -> Angle {
        self.angle
    }

    /// The same angle with another magnitude; a negative one is half a turn.
    #[must_use]
    pub fn with_rms(self, magnitude: Q) -> Self {
        Self::new(magnitude, self.angle)
    }

    /// The same magnitude at another angle.
    #[must_use]
    pub fn at(self, angle: Angle) -> Self {
        Self { angle, ..self }
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

/// A magnitude that is finite and not negative, and the turn that its sign stands for.
pub(crate) fn magnitude_and_turn(value: f64) -> (f64, Angle) {
    let turn = if value < 0.0 { degrees(180.0) } else { Angle::from_si(0.0) };
    let size = value.abs();
    (if size.is_finite() { size } else { f64::MAX }, turn)
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
    use crate::quantity::amperes;

    fn phases(rms_and_deg: [(f64, f64); 3]) -> [Complex64; 3] {
        rms_and_deg.map(|(rms, deg)| Phasor::new(amperes(rms), degrees(deg)).complex())
    }

    /// The sign turns the phase; nothing that is no number is small.
    #[test]
    fn a_magnitude_is_never_negative_nor_infinite() {
        let turned = Phasor::new(amperes(-40.0), degrees(30.0));
        assert_eq!(turned.rms().si(), 40.0);
        assert!((in_degrees(turned.angle()) - 210.0).abs() < 1e-12);
        let plain = Phasor::new(amperes(40.0), degrees(30.0));
        assert!((turned.complex() + plain.complex()).norm() < 1e-12);
        for strange in [f64::NAN, f64::INFINITY, f64::NEG_INFINITY] {
            assert_eq!(Phasor::new(amperes(strange), degrees(0.0)).rms().si(), f64::MAX);
            assert_eq!(plain.with_rms(amperes(strange)).rms().si(), f64::MAX);
        }
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
