//! Errors of an inductive voltage transformer, from its turns, its excitation and its short-circuit
//! impedance (IEC 61869-3, 3.4; the indirect method).

use super::burden::Burden;
use super::classes::{Class, voltage_minutes};
use super::criteria::{Assessed, Of};
use super::curve::ExcitationCurve;
use super::moved::{Evident, each_once, moved, uncertain};
use num_complex::Complex64;
use waltron_core::grading::Value;
use waltron_core::quantity::significant;
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Cause, Estimate};

/// What a nameplate says, as far as a class needs it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct VoltagePlate {
    /// Rated primary voltage, in V.
    pub primary_v: f64,
    /// Rated secondary voltage, in V.
    pub secondary_v: f64,
    /// Rated burden, in VA.
    pub burden_va: Option<f64>,
    /// Its power factor, where it is not the standard's.
    pub power_factor: Option<f64>,
    /// Rated voltage factor.
    pub voltage_factor: Option<f64>,
}

/// What was measured.
#[derive(Clone, Debug, PartialEq)]
pub struct VoltageEvidence {
    /// Primary over secondary turns.
    pub turns: Result<Estimate, String>,
    /// Short-circuit impedance seen from the secondary, in ohms: its size, and its angle in radians.
    pub short_circuit: Result<(Estimate, f64), String>,
    /// Excitation seen from the secondary.
    pub curve: Result<ExcitationCurve, String>,
}

impl VoltageEvidence {
    /// Takes the exciting current's drop off the ratio, which was measured with this e.m.f. and no burden: what is left
    /// is that of the turns.
    pub fn take_drop_off(&mut self, emf_v: f64) {
        let Ok(z) = self.impedance() else { return };
        let drop = self.curve.as_ref().ok().and_then(|curve| curve.admittance_at(emf_v));
        if let (Some(y), Ok(turns)) = (drop, &mut self.turns) {
            *turns = std::mem::take(turns).times((1.0 - z / 2.0 * y).norm());
        }
    }

    /// The short-circuit impedance, in ohms.
    fn impedance(&self) -> Result<Complex64, String> {
        let (size, angle) = self.short_circuit.as_ref().map_err(Clone::clone)?;
        Ok(Complex64::from_polar(size.value, *angle))
    }
}

impl Evident for VoltageEvidence {
    fn causes(&self) -> Vec<Cause> {
        let values = self.turns.iter().chain(self.short_circuit.iter().map(|(size, _)| size));
        let of_values = values.flat_map(Estimate::moves).map(|(cause, _)| cause);
        each_once(of_values.chain(self.curve.iter().flat_map(ExcitationCurve::causes)))
    }

    fn moved(&self, source: &Name, times: f64) -> Self {
        let of = |value: &Estimate| moved(value, source, times);
        let turns = self.turns.as_ref().map(of).map_err(Clone::clone);
        let z = self.short_circuit.as_ref().map(|(size, angle)| (of(size), *angle));
        let curve = self.curve.as_ref().map_err(Clone::clone);
        let curve = curve.and_then(|c| c.moved(source, times).map_err(|e| e.to_string()));
        Self { turns, short_circuit: z.map_err(Clone::clone), curve }
    }
}

/// Ratio error as a share and phase displacement in radians.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct VoltageErrors {
    /// Ratio error.
    pub ratio: f64,
    /// Phase displacement, positive where the secondary leads.
    pub phase: f64,
    /// What either is uncertain by from the method alone (k = 2): the half of the exciting current's drop whose place
    /// is not known.
    pub method: f64,
}

/// The errors at a share of the rated voltage with a burden; none of an open secondary.
///
/// The exciting current drops in the primary's part of the short-circuit impedance. That is taken as half
/// of it; the other half is in the uncertainty.
///
/// # Errors
/// What was not measured.
pub fn errors(
    plate: &VoltagePlate,
    seen: &VoltageEvidence,
    share: f64,
    burden: Option<Burden>,
) -> Result<VoltageErrors, String> {
    let turns = seen.turns.as_ref().map_err(Clone::clone)?.value;
    let z = seen.impedance()?;
    let curve = seen.curve.as_ref().map_err(Clone::clone)?;
    let rated = plate.primary_v / plate.secondary_v;
    let primary = share * plate.primary_v;
    let open = primary / turns;
    let y = curve.admittance_at(open).ok_or_else(|| {
        format!(
            "excitation was measured up to {} V, and this takes {} V",
            significant(curve.span().1, 4),
            significant(open, 4)
        )
    })?;
    let exciting = z / 2.0 * y;
    let load = burden.map_or(Complex64::from(0.0), |b| z / b.z);
    // Us = open·(1 - Zp·Y) / (1 + Zk/Zb)
    let secondary = open * (1.0 - exciting) / (1.0 + load);
    Ok(VoltageErrors {
        ratio: (rated * secondary.norm() - primary) / primary,
        phase: secondary.arg(),
        method: exciting.norm(),
    })
}

/// Assesses a class of voltage transformers.
pub fn assess(class: Class, plate: &VoltagePlate, seen: &VoltageEvidence) -> Vec<Assessed> {
    uncertain(seen, |seen| values(class, plate, seen))
}

fn values(class: Class, plate: &VoltagePlate, seen: &VoltageEvidence) -> Vec<Assessed> {
    let rows: Vec<(f64, f64, Option<f64>)> = match class {
        Class::Voltage(percent) => {
            let minutes = voltage_minutes(percent);
            [0.8, 1.0, 1.2].map(|share| (share, percent / 100.0, minutes)).to_vec()
        }
        Class::VoltageProtection(percent) => {
            let (ratio, minutes) = (f64::from(percent) / 100.0, f64::from(percent) * 40.0);
            let row = |share, times: f64| (share, ratio * times, Some(minutes * times));
            let mut rows = vec![row(0.02, 2.0), row(0.05, 1.0)];
            rows.push(row(plate.voltage_factor.unwrap_or(1.2), 1.0));
            rows
        }
        _ => Vec::new(),
    };
    let mut all = Vec::new();
    for (share, ratio, minutes) in rows {
        for (burden, name, words) in burdens(plate) {
            let found = burden.and_then(|burden| errors(plate, seen, share, burden));
            let percent = significant(share * 100.0, 4);
            let at = format!("at {percent} % of rated voltage, {words}");
            let estimate = |of: fn(&VoltageErrors) -> f64, one: f64| {
                found.as_ref().map_or_else(
                    |_| Estimate::default(),
                    |found| {
                        let split = Value::Percent(found.method);
                        let split = Cause::expanded("primary's part of the impedance", split);
                        Estimate::exact(of(found) * one).with(split, one)
                    },
                )
            };
            all.push(Assessed {
                key: format!("ratio-error-{percent}%{name}"),
                what: format!("ratio error {at}"),
                of: Of::Share,
                value: found.as_ref().map(|f| f.ratio).map_err(Clone::clone),
                estimate: estimate(|f| f.ratio, 1.0),
                lower: Some(-ratio),
                upper: Some(ratio),
            });
            if let Some(minutes) = minutes {
                let of = |radians: f64| radians.to_degrees() * 60.0;
                all.push(Assessed {
                    key: format!("phase-{percent}%{name}"),
                    what: format!("phase displacement {at}"),
                    of: Of::Minutes,
                    value: found.as_ref().map(|f| of(f.phase)).map_err(Clone::clone),
                    estimate: estimate(|f| f.phase, of(1.0)),
                    lower: Some(-minutes),
                    upper: Some(minutes),
                });
            }
        }
    }
    all
}

/// A burden with its name in a point's and in words; none of an open secondary.
type Loaded = (Result<Option<Burden>, String>, &'static str, &'static str);

/// The burdens at which a class holds: below 10 VA from none to all at power factor 1, else from a quarter
/// to all at 0.8 (IEC 61869-3, 5.5.301).
fn burdens(plate: &VoltagePlate) -> [Loaded; 2] {
    let Some(va) = plate.burden_va else {
        let none = || Err("the nameplate tells no rated burden".to_owned());
        return [(none(), "", "rated burden"), (none(), "-least", "least burden")];
    };
    let square = plate.secondary_v * plate.secondary_v;
    let usual = if va < 10.0 { 1.0 } else { 0.8 };
    let cos = plate.power_factor.unwrap_or(usual);
    let of = |va: f64| Some(Burden::of_size(square / va, cos));
    let (least, words) = match va {
        va if va < 10.0 => (None, "no burden"),
        va => (of(va / 4.0), "quarter burden"),
    };
    [(Ok(of(va)), "", "rated burden"), (Ok(least), "-least", words)]
}
