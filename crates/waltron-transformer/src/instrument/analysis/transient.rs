//! Transient performance: loop time constant, remanence, transient factor (IEC 61869-2:2012, 3.4.221
//! onwards, and annex 2E).

use super::curve::ExcitationCurve;
use std::f64::consts::{SQRT_2, TAU};

/// The magnetising inductance in H: the slope of linked flux over peak exciting current from 20 % to
/// 90 % of the saturation flux. `None` where saturation was not reached, or no peaks were measured.
pub fn magnetising_inductance(curve: &ExcitationCurve, hertz: f64) -> Option<f64> {
    let saturation = curve.saturation()?;
    let flux = |emf: f64| emf * SQRT_2 / (TAU * hertz);
    let (low, high) = (0.2 * saturation, 0.9 * saturation);
    Some((flux(high) - flux(low)) / (curve.peak_at(high)? - curve.peak_at(low)?))
}

/// The secondary loop time constant in s.
pub fn loop_time_constant(inductance_h: f64, winding_ohm: f64, burden_ohm: f64) -> f64 {
    inductance_h / (winding_ohm + burden_ohm)
}

/// The transient factor of a fully offset fault current after a time in s, by the time constants of the
/// primary and of the secondary loop (IEC TR 61869-100, 5.3): the flux over that of the alternating
/// part alone.
pub fn transient_factor(hertz: f64, primary_s: f64, secondary_s: f64, time_s: f64) -> f64 {
    let w = TAU * hertz;
    if (primary_s / secondary_s - 1.0).abs() < 1e-6 {
        return w * time_s * (-time_s / primary_s).exp() + 1.0;
    }
    let rise = w * primary_s * secondary_s / (primary_s - secondary_s);
    rise * ((-time_s / primary_s).exp() - (-time_s / secondary_s).exp()) + 1.0
}

/// When the transient factor is largest, in s.
pub fn time_of_most(primary_s: f64, secondary_s: f64) -> f64 {
    if (primary_s / secondary_s - 1.0).abs() < 1e-6 {
        return primary_s;
    }
    primary_s * secondary_s / (primary_s - secondary_s) * (primary_s / secondary_s).ln()
}
