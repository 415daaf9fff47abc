//! Errors in service of a current transformer, from its excitation, turns and resistance.

use super::Burden;
use super::curve::ExcitationCurve;
use num_complex::Complex64;

/// A secondary loop: a winding with its core and its burden.
#[derive(Clone, Copy, Debug)]
pub struct Loop<'a> {
    /// The core.
    pub curve: &'a ExcitationCurve,
    /// Secondary over primary turns, as measured.
    pub turns: f64,
    /// Rated primary over rated secondary current.
    pub rated_ratio: f64,
    /// Rated secondary current, in A.
    pub rated_a: f64,
    /// Resistance of the winding, in ohms, at the temperature that counts.
    pub winding_ohm: f64,
    /// What is connected.
    pub burden: Burden,
}

/// An error of ratio and phase.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Errors {
    /// Ratio error as a share (IEC 61869-1:2023, 3.4.3): 0.01 is 1 %.
    pub ratio: f64,
    /// Phase displacement in radians, positive when the secondary leads.
    pub phase: f64,
    /// The e.m.f. of the core, in V.
    pub emf_v: f64,
    /// The exciting current, fundamental RMS in A.
    pub exciting_a: f64,
}

/// A multiple of the rated current that a core can or cannot take.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Limit {
    /// The error is reached at this multiple.
    At(f64),
    /// Not yet at this multiple, which is as far as was measured.
    Above(f64),
    /// The error is exceeded at every multiple that was measured, from this one on.
    Below(f64),
}

impl Loop<'_> {
    /// Winding and burden in series.
    pub fn z(&self) -> Complex64 {
        self.burden.z + self.winding_ohm
    }

    /// The errors at a primary current, as a share of the rated one; `None` where the core was not
    /// measured as far up.
    pub fn errors(&self, share: f64) -> Option<Errors> {
        let primary = share * self.rated_a * self.rated_ratio;
        // The secondary current is what the exciting current leaves; a few rounds settle it.
        let mut secondary = primary / self.rated_ratio;
        let mut found = None;
        for _ in 0..4 {
            let is = Complex64::from(secondary);
            let e = is * self.z();
            let exciting = e * self.curve.admittance_at(e.norm())?;
            let ip = (is + exciting) * self.turns;
            found = Some(Errors {
                ratio: (self.rated_ratio * secondary - ip.norm()) / ip.norm(),
                phase: -ip.arg(),
                emf_v: e.norm(),
                exciting_a: exciting.norm(),
            });
            secondary *= primary / ip.norm();
        }
        found
    }

    /// The e.m.f. at a multiple of the rated current.
    pub fn emf_at(&self, multiple: f64) -> f64 {
        multiple * self.rated_a * self.z().norm()
    }

    /// Exciting current over secondary current at a multiple of the rated one, by the indirect method
    /// (IEC 61869-2:2012, 7.2.6.203); `None` where the core was not measured as far up.
    pub fn composite(&self, multiple: f64) -> Option<f64> {
        let emf = self.emf_at(multiple);
        let (low, _) = self.curve.span();
        // Below the lowest point as much a volt as there.
        let exciting = match emf < low {
            true => self.curve.current_at(low)? * emf / low,
            false => self.curve.current_at(emf)?,
        };
        Some(exciting / (multiple * self.rated_a))
    }

    /// The multiple up to which the composite error stays within a share: the accuracy limit factor with
    /// 5 % or 10 %, the instrument security factor with 10 %.
    pub fn limit(&self, share: f64) -> Limit {
        let (low, high) = self.curve.span();
        let per = self.rated_a * self.z().norm();
        let (first, last) = (low / per, high / per);
        let over = |x: f64| self.composite(x).is_none_or(|c| c > share);
        // From above: what lies beyond the last place within the limit is saturation, while at small
        // currents the initial permeability may exceed it for another reason.
        if !over(last * (1.0 - 1e-12)) {
            return Limit::Above(last);
        }
        let steps = 400;
        let at = |k: i32| first * (last / first).powf(f64::from(k) / f64::from(steps));
        let Some(k) = (0..steps).rev().find(|k| !over(at(*k))) else { return Limit::Below(first) };
        let (mut inside, mut outside) = (at(k), at(k + 1).min(last));
        for _ in 0..60 {
            let middle = f64::midpoint(inside, outside);
            if over(middle) { outside = middle } else { inside = middle }
        }
        Limit::At(f64::midpoint(inside, outside))
    }
}

/// The largest burden, in VA at a power factor, at which a multiple is still reached with an error:
/// the error curve. `None` where even no burden is too much; infinite where the measured range ends it.
pub fn burden_for(of: &Loop<'_>, multiple: f64, share: f64, power_factor: f64) -> Option<f64> {
    // The e.m.f. at which the exciting current is that share of the multiple.
    let emf = of.curve.emf_at(share * multiple * of.rated_a)?;
    let z = emf / (multiple * of.rated_a);
    // |R + Zb| = z with Zb = b·(cos + j·sin): b² + 2·b·R·cos + R² - z² = 0.
    let (r, cos) = (of.winding_ohm, power_factor);
    let root = (r * cos).mul_add(r * cos, z * z - r * r);
    let b = if root < 0.0 { return None } else { root.sqrt() - r * cos };
    (b >= 0.0).then_some(b * of.rated_a * of.rated_a)
}
