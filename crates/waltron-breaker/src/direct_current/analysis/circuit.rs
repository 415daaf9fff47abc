//! Resistance and inductance of a circuit, from its current on a step of voltage.

/// A circuit of a resistance and an inductance in series.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Circuit {
    /// Its resistance, in ohms.
    pub(crate) ohm: f64,
    /// Its inductance, in H.
    pub(crate) henry: f64,
}

impl Circuit {
    /// How quickly its current follows a voltage, in s.
    pub(crate) fn time_constant(&self) -> f64 {
        self.henry / self.ohm
    }
}

/// Where inductance and resistance cannot be told apart, the determinant is this small against its parts.
const LEAST_DETERMINANT: f64 = 1e-9;

/// Fits u = R·i + L·di/dt to the current on a constant voltage that came at the first sample, in the integral
/// form ∫u = R·∫i + L·i by least squares: nothing is differentiated, so noise stays small. Samples in A.
/// `None` where they do not tell both.
pub(crate) fn fit(amps: &[f64], volts: f64, rate_hz: f64) -> Option<Circuit> {
    let dt = 1.0 / rate_hz;
    let begin = *amps.first()?;
    let (mut integral, mut before) = (0.0, begin);
    let (mut aa, mut ab, mut bb, mut ay, mut by) = (0.0, 0.0, 0.0, 0.0, 0.0);
    for (k, amps) in amps.iter().enumerate().skip(1) {
        integral += 0.5 * (before + amps) * dt;
        before = *amps;
        let (a, b, y) = (integral, amps - begin, volts * k as f64 * dt);
        aa += a * a;
        ab += a * b;
        bb += b * b;
        ay += a * y;
        by += b * y;
    }
    let determinant = aa * bb - ab * ab;
    if determinant.is_nan() || determinant <= LEAST_DETERMINANT * aa * bb {
        return None;
    }
    let ohm = (ay * bb - by * ab) / determinant;
    let henry = (by * aa - ay * ab) / determinant;
    (ohm > 0.0 && henry > 0.0).then_some(Circuit { ohm, henry })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use waltron_test_support::draw::Draw;

    fn rise(ohm: f64, henry: f64, volts: f64, rate_hz: f64, count: usize) -> Vec<f64> {
        let at = |k: usize| volts / ohm * (1.0 - (-(k as f64) / rate_hz * ohm / henry).exp());
        (0..count).map(at).collect()
    }

    proptest! {
        /// The closed form of a step on R and L in series, with any values that a laboratory meets.
        #[test]
        fn what_a_circuit_is_made_of_is_found(
            ohm in 1e-3f64..1.0, tau in 2e-3f64..0.08, volts in 1.0f64..100.0,
        ) {
            let found = fit(&rise(ohm, ohm * tau, volts, 20_000.0, 4000), volts, 20_000.0).unwrap();
            prop_assert!((found.ohm / ohm - 1.0).abs() < 1e-3, "{found:?}");
            prop_assert!((found.time_constant() / tau - 1.0).abs() < 2e-3, "{found:?}");
        }
    }

    /// Noise of half a per cent of the largest current moves it by much less.
    #[test]
    fn noise_moves_it_little() {
        for seed in 0..40 {
            let mut draw = Draw::new(seed);
            let (ohm, henry) = (4e-3, 40e-6);
            let mut seen = rise(ohm, henry, 4.0, 20_000.0, 4000);
            seen.iter_mut().for_each(|a| *a += 5.0 * draw.uniform(-1.7, 1.7));
            let found = fit(&seen, 4.0, 20_000.0).unwrap();
            assert!((found.ohm / ohm - 1.0).abs() < 2e-3, "{seed}: {found:?}");
            assert!((found.henry / henry - 1.0).abs() < 0.015, "{seed}: {found:?}");
        }
    }

    #[test]
    fn what_tells_nothing_is_none() {
        assert_eq!(fit(&[], 4.0, 1e4), None);
        assert_eq!(fit(&[0.0; 100], 4.0, 1e4), None);
        assert_eq!(fit(&[f64::NAN; 100], 4.0, 1e4), None);
        // It was there already: no inductance to be seen.
        assert_eq!(fit(&[500.0; 100], 4.0, 1e4), None);
        // The other way round: leads swapped.
        let swapped: Vec<f64> = rise(4e-3, 40e-6, 4.0, 1e4, 400).iter().map(|a| -a).collect();
        assert_eq!(fit(&swapped, 4.0, 1e4), None);
    }
}
