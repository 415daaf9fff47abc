//! Class assessment: each criterion of a class with requirement, value and what it is uncertain by.

use super::burden::Burden;
use super::classes::{Class, LOW_REMANENCE, METERING, RELAYING, Transient};
use super::curve::ExcitationCurve;
use super::errors::{Limit, Loop};
use super::knee::KneeKind;
use super::moved::{Evident, each_once, moved, uncertain};
use std::f64::consts::SQRT_2;
use waltron_core::grading::Value;
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Cause, Estimate};

/// What a nameplate says of one tap, as far as a class needs it.
#[derive(Clone, Debug, PartialEq)]
pub struct Plate {
    /// Rated primary current, in A.
    pub primary_a: f64,
    /// Rated secondary current, in A.
    pub secondary_a: f64,
    /// Rated frequency, in Hz.
    pub hertz: f64,
    /// Rated burden, in VA.
    pub burden_va: Option<f64>,
    /// Its power factor, where it is not the standard's.
    pub power_factor: Option<f64>,
    /// Rated continuous current of the class, as a share: 1.2 unless extended.
    pub extended: f64,
    /// Instrument security factor: the class's core saturates below it.
    pub security_factor: Option<f64>,
    /// Rated knee-point e.m.f., in V.
    pub knee_v: Option<f64>,
    /// The largest exciting current, and the share of the rated knee point where it holds.
    pub exciting: Option<(f64, f64)>,
    /// Rated winding resistance at the reference temperature, in ohms.
    pub resistance_ohm: Option<f64>,
    /// What a transient class is for.
    pub duty: Option<Duty>,
}

/// What a transient class is rated for.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Duty {
    /// Rated symmetrical short-circuit current factor.
    pub symmetrical: f64,
    /// Rated transient dimensioning factor.
    pub dimensioning: f64,
}

/// What was measured of a tap.
#[derive(Clone, Debug, PartialEq)]
pub struct Evidence {
    /// Secondary over primary turns.
    pub turns: Result<Estimate, String>,
    /// Winding resistance at the reference temperature, in ohms; or why there is none.
    pub winding: Result<Estimate, String>,
    /// The excitation curve at the rated frequency; or why there is none.
    pub curve: Result<ExcitationCurve, String>,
    /// Remanence factor.
    pub remanence: Result<Estimate, String>,
}

/// What a criterion's value is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Of {
    /// A share, told in percent.
    Share,
    /// An angle in minutes.
    Minutes,
    /// Volts.
    Volt,
    /// Amperes.
    Ampere,
    /// Ohms.
    Ohm,
    /// A number.
    Number,
}

/// A criterion of a class with what came of it.
#[derive(Clone, Debug, PartialEq)]
pub struct Assessed {
    /// Its name, unique in the class: `ratio-error-20%-quarter`.
    pub key: String,
    /// Its clause, in words.
    pub what: String,
    /// What its value is.
    pub of: Of,
    /// The value, or why there is none.
    pub value: Result<f64, String>,
    /// What makes the value uncertain.
    pub estimate: Estimate,
    /// The least allowed.
    pub lower: Option<f64>,
    /// The most allowed.
    pub upper: Option<f64>,
}

/// How a value lies to its limits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Met {
    /// Within them.
    Yes,
    /// Outside.
    No,
    /// Not known.
    Open,
}

impl Assessed {
    /// How it lies to its limits, for itself.
    pub fn met(&self) -> Met {
        match &self.value {
            Err(_) => Met::Open,
            Ok(v) if v.is_nan() => Met::Open,
            Ok(v) => {
                let low = self.lower.is_none_or(|l| *v >= l);
                let high = self.upper.is_none_or(|u| *v <= u);
                if low && high { Met::Yes } else { Met::No }
            }
        }
    }

    /// What is left to the nearer limit, as a share of half the band, or of the limit where there is one;
    /// negative outside.
    pub fn margin(&self) -> Option<f64> {
        let v = *self.value.as_ref().ok()?;
        match (self.lower, self.upper) {
            (Some(l), Some(u)) => Some((v - l).min(u - v) / ((u - l) / 2.0)),
            (None, Some(u)) => Some((u - v) / u.abs()),
            (Some(l), None) => Some((v - l) / l.abs()),
            (None, None) => None,
        }
    }
}

impl Evident for Evidence {
    fn causes(&self) -> Vec<Cause> {
        let values = [&self.turns, &self.winding, &self.remanence].into_iter().flatten();
        let of_values = values.flat_map(Estimate::moves).map(|(cause, _)| cause);
        each_once(of_values.chain(self.curve.iter().flat_map(ExcitationCurve::causes)))
    }

    fn moved(&self, source: &Name, times: f64) -> Self {
        let of = |value: &Result<Estimate, String>| {
            value.as_ref().map(|value| moved(value, source, times)).map_err(Clone::clone)
        };
        let (turns, winding, remanence) = (of(&self.turns), of(&self.winding), of(&self.remanence));
        let curve = self.curve.as_ref().map_err(Clone::clone);
        let curve = curve.and_then(|c| c.moved(source, times).map_err(|e| e.to_string()));
        Self { turns, winding, curve, remanence }
    }
}

/// A criterion's value with what the method makes uncertain of it (k = 2), as a share of it.
fn by_method(value: &Result<f64, String>, share: f64) -> Estimate {
    let Ok(value) = value else { return Estimate::default() };
    let method = Cause::expanded("method", Value::Percent(share));
    Estimate::exact(*value).with(method, *value)
}

/// What the indirect method itself may be off by where currents are not in line, as a share of the error.
const METHOD: f64 = 0.02;

/// What a knee point may be off by between the points of its curve, as a share (k = 2).
pub(in crate::instrument) const OF_KNEE: f64 = 0.01;

fn exact(value: &Result<f64, String>) -> Estimate {
    value.as_ref().map_or_else(|_| Estimate::default(), |value| Estimate::exact(*value))
}

/// Assesses a class; `connected` is the burden that is really there, where it was measured.
pub fn assess(
    class: Class,
    plate: &Plate,
    seen: &Evidence,
    connected: Option<Burden>,
) -> Vec<Assessed> {
    uncertain(seen, |seen| values(class, plate, seen, connected))
}

/// The same without what the readings make uncertain.
pub(super) fn values(
    class: Class,
    plate: &Plate,
    seen: &Evidence,
    connected: Option<Burden>,
) -> Vec<Assessed> {
    let all = Assessment { class, plate, seen };
    match class {
        Class::Measuring(_) => all.measuring(connected),
        Class::Protection { percent, is_low_remanence, limit_factor } => {
            all.protection(percent, is_low_remanence, limit_factor)
        }
        Class::KneePoint { is_low_remanence } => all.knee_point(is_low_remanence),
        Class::Transient(kind) => all.transient(kind),
        Class::IeeeMetering(percent) => all.metering(percent),
        Class::IeeeRelaying { volts, .. } => all.relaying(volts),
        Class::Voltage(_) | Class::VoltageProtection(_) => Vec::new(),
    }
}

struct Assessment<'a> {
    class: Class,
    plate: &'a Plate,
    seen: &'a Evidence,
}

impl Assessment<'_> {
    fn ratio(&self) -> f64 {
        self.plate.primary_a / self.plate.secondary_a
    }

    /// The rated burden, or a share of it, with the power factor that the standard takes.
    fn burden(&self, share: f64) -> Result<Burden, String> {
        let va = self.plate.burden_va.ok_or("the nameplate tells no rated burden")?;
        let usual = if va >= 5.0 { 0.8 } else { 1.0 };
        let wide = self.plate.extended > 1.2 && va <= 15.0;
        let cos = self.plate.power_factor.unwrap_or(if wide { 1.0 } else { usual });
        // From an extended rating up to 15 VA the range begins at 1 VA, else never below 1 VA.
        let least = if share < 1.0 && wide { 1.0 } else { (va * share).max(1.0f64.min(va)) };
        let va = if share < 1.0 { least } else { va };
        Ok(Burden::of_current(va, self.plate.secondary_a, cos))
    }

    fn of_loop(&self, burden: Burden) -> Result<Loop<'_>, String> {
        let curve = self.seen.curve.as_ref().map_err(Clone::clone)?;
        let turns = self.seen.turns.as_ref().map_err(Clone::clone)?.value;
        let winding_ohm = self.seen.winding.as_ref().map_err(Clone::clone)?.value;
        let (rated_ratio, rated_a) = (self.ratio(), self.plate.secondary_a);
        Ok(Loop { curve, turns, rated_ratio, rated_a, winding_ohm, burden })
    }

    /// Ratio error and phase displacement at a share of the rated current.
    fn errors(
        &self,
        share: f64,
        burden: &Result<Burden, String>,
        (name, words): (&str, &str),
        ratio: f64,
        minutes: Option<(f64, f64)>,
    ) -> Vec<Assessed> {
        let found = (|| {
            let of = self.of_loop(burden.clone()?)?;
            let found = of.errors(share).ok_or("the core was not measured as far up")?;
            let (low, _) = of.curve.span();
            // Permeability still falls towards nothing, and with it the exciting current a volt rises.
            if found.emf_v < low * 0.9 {
                return Err(format!(
                    "it takes the exciting current at {:.3} V, and that was measured down to {low:.3} V",
                    found.emf_v
                ));
            }
            // What the method is off by is a share of what the exciting current makes.
            Ok((found, METHOD * found.exciting_a / (share * of.rated_a)))
        })();
        let estimate = |value: &Result<f64, String>, one: f64| {
            let method = found.as_ref().map_or(0.0, |(_, method)| *method);
            let cause = Cause::expanded("method", Value::Percent(method));
            value
                .as_ref()
                .map_or_else(|_| Estimate::default(), |v| Estimate::exact(*v).with(cause, one))
        };
        let percent = waltron_core::quantity::significant(share * 100.0, 4);
        let at = format!("at {percent} % of rated current, {words}");
        let value = found.as_ref().map(|(f, _)| f.ratio).map_err(Clone::clone);
        let mut all = vec![Assessed {
            key: format!("ratio-error-{percent}%{name}"),
            what: format!("ratio error {at}"),
            of: Of::Share,
            estimate: estimate(&value, 1.0),
            value,
            lower: Some(-ratio),
            upper: Some(ratio),
        }];
        if let Some((lower, upper)) = minutes {
            let to_minutes = |radians: f64| radians.to_degrees() * 60.0;
            let value = found.as_ref().map(|(f, _)| to_minutes(f.phase)).map_err(Clone::clone);
            all.push(Assessed {
                key: format!("phase-{percent}%{name}"),
                what: format!("phase displacement {at}"),
                of: Of::Minutes,
                estimate: estimate(&value, to_minutes(1.0)),
                value,
                lower: Some(lower),
                upper: Some(upper),
            });
        }
        all
    }

    fn measuring(&self, connected: Option<Burden>) -> Vec<Assessed> {
        let Class::Measuring(class) = self.class else { return Vec::new() };
        let least = class.least_burden();
        let part =
            if least < 0.5 { ("-quarter", "quarter burden") } else { ("-half", "half burden") };
        let mut burdens =
            vec![(self.burden(1.0), ("", "rated burden")), (self.burden(least), part)];
        if let Some(burden) = connected {
            burdens.push((Ok(burden), ("-connected", "burden that is connected")));
        }
        let mut all = Vec::new();
        for row in class.rows(self.plate.extended) {
            for (burden, names) in &burdens {
                let minutes = row.minutes.map(|m| (-m, m));
                all.extend(self.errors(row.share, burden, *names, row.ratio, minutes));
            }
        }
        if let Some(factor) = self.plate.security_factor {
            all.push(self.security(factor));
        }
        all
    }

    /// The instrument security factor must lie below the rated one.
    fn security(&self, rated: f64) -> Assessed {
        let value = self.burden(1.0).and_then(|burden| match self.of_loop(burden)?.limit(0.1) {
            Limit::At(x) | Limit::Below(x) => Ok(x),
            // It lies even higher: too high for certain.
            Limit::Above(x) if x > rated => Ok(x),
            Limit::Above(x) => Err(format!(
                "the core was measured up to {x:.1} times rated current only, and is not saturated there"
            )),
        });
        Assessed {
            key: "security-factor".to_owned(),
            what: "instrument security factor at rated burden".to_owned(),
            of: Of::Number,
            estimate: by_method(&value, METHOD / 4.0),
            value,
            lower: None,
            upper: Some(rated),
        }
    }

    fn composite(
        &self,
        multiple: f64,
        burden: Result<Burden, String>,
        most: f64,
        what: &str,
    ) -> Assessed {
        let value = burden.and_then(|burden| {
            let of = self.of_loop(burden)?;
            of.composite(multiple).ok_or_else(|| {
                let (_, high) = of.curve.span();
                format!(
                    "it takes {:.1} V, and the core was measured up to {high:.1} V only",
                    of.emf_at(multiple)
                )
            })
        });
        // A core that saturates below the limit fails, though nobody went that far up.
        let value = value.or_else(|why| self.saturated(multiple, most).ok_or(why));
        Assessed {
            key: "composite-error".to_owned(),
            what: what.to_owned(),
            of: Of::Share,
            estimate: by_method(&value, METHOD),
            value,
            lower: None,
            upper: Some(most),
        }
    }

    /// The composite error at the highest e.m.f. that was measured, where it is beyond the limit already
    /// below the multiple: it only rises from there.
    fn saturated(&self, multiple: f64, most: f64) -> Option<f64> {
        let of = self.of_loop(self.burden(1.0).ok()?).ok()?;
        let (_, high) = of.curve.span();
        let reached = high / (of.rated_a * of.z().norm());
        let there = of.composite(reached * (1.0 - 1e-9))?;
        (reached < multiple && there > most).then_some(there)
    }

    fn remanence(&self) -> Assessed {
        let value = self.seen.remanence.as_ref().map(|r| r.value).map_err(Clone::clone);
        Assessed {
            key: "remanence".to_owned(),
            what: "remanence factor".to_owned(),
            of: Of::Share,
            estimate: exact(&value),
            value,
            lower: None,
            upper: Some(LOW_REMANENCE),
        }
    }

    fn protection(&self, percent: u8, is_low_remanence: bool, factor: f64) -> Vec<Assessed> {
        let rated = self.burden(1.0);
        let (ratio, minutes) =
            if percent == 5 { (0.01, Some((-60.0, 60.0))) } else { (0.03, None) };
        let mut all = self.errors(1.0, &rated, ("", "rated burden"), ratio, minutes);
        let what = format!("composite error at {factor} times rated current, rated burden");
        all.push(self.composite(factor, rated, f64::from(percent) / 100.0, &what));
        if is_low_remanence {
            all.push(self.remanence());
        }
        all
    }

    fn turns(&self, most: f64) -> Assessed {
        let ratio = self.ratio();
        // (Kr's turns less the real ones) over the real ones: IEC 61869-2, 3.4.218.
        let turns = self.seen.turns.as_ref().map_err(Clone::clone);
        let value = turns.map(|turns| (ratio - turns.value) / turns.value);
        Assessed {
            key: "turns-error".to_owned(),
            what: "turns ratio error".to_owned(),
            of: Of::Share,
            estimate: exact(&value),
            value,
            lower: Some(-most),
            upper: Some(most),
        }
    }

    fn knee_point(&self, is_low_remanence: bool) -> Vec<Assessed> {
        let plate = self.plate;
        let curve = || self.seen.curve.as_ref().map_err(Clone::clone);
        let mut all = vec![self.turns(if is_low_remanence { 0.01 } else { 0.0025 })];
        let rated =
            plate.knee_v.ok_or_else(|| "the nameplate tells no rated knee point".to_owned());
        let knee = curve().and_then(|c| match c.knee(KneeKind::TenFifty) {
            Some(knee) => Ok(knee.emf_v),
            None => {
                let (_, high) = c.span();
                // Beyond the rated value without a knee, it lies higher still.
                match plate.knee_v.filter(|v| high > *v * 1.1) {
                    Some(_) => Ok(high / 1.1),
                    None => {
                        Err(format!("no knee point up to {high:.1} V, as far as it was measured"))
                    }
                }
            }
        });
        all.push(Assessed {
            key: "knee-point".to_owned(),
            what: "rated knee-point e.m.f. reached".to_owned(),
            of: Of::Volt,
            estimate: by_method(&knee, OF_KNEE),
            value: rated.clone().and(knee),
            lower: plate.knee_v,
            upper: None,
        });
        let (most, share) = plate.exciting.unwrap_or((f64::NAN, 1.0));
        let exciting = rated.and_then(|v| {
            if most.is_nan() {
                return Err("the nameplate tells no exciting current".to_owned());
            }
            let c = curve()?;
            let at = v * share;
            c.current_at(at).ok_or_else(|| {
                format!(
                    "it takes {at:.1} V, and the core was measured up to {:.1} V only",
                    c.span().1
                )
            })
        });
        let at = waltron_core::quantity::significant(share * 100.0, 4);
        all.push(Assessed {
            key: "exciting-current".to_owned(),
            what: format!("exciting current at {at} % of the rated knee point"),
            of: Of::Ampere,
            estimate: by_method(&exciting, METHOD),
            value: exciting,
            lower: None,
            upper: Some(most).filter(|m| !m.is_nan()),
        });
        all.push(self.winding());
        if is_low_remanence {
            all.push(self.remanence());
        }
        all
    }

    fn winding(&self) -> Assessed {
        let rated = self.plate.resistance_ohm;
        let value = match rated {
            None => Err("the nameplate tells no rated resistance".to_owned()),
            Some(_) => self.seen.winding.as_ref().map(|w| w.value).map_err(Clone::clone),
        };
        Assessed {
            key: "winding-resistance".to_owned(),
            what: "winding resistance at the reference temperature".to_owned(),
            of: Of::Ohm,
            estimate: exact(&value),
            value,
            lower: None,
            upper: rated,
        }
    }

    fn transient(&self, kind: Transient) -> Vec<Assessed> {
        let rated = self.burden(1.0);
        let (ratio, minutes) = (kind.ratio(), kind.minutes());
        let mut all = self.errors(1.0, &rated, ("", "rated burden"), ratio, Some(minutes));
        let instantaneous = rated.clone().and_then(|burden| {
            let duty = self.plate.duty.ok_or(
                "the nameplate tells no duty: `symmetrical` and `dimensioning` factors are needed",
            )?;
            let of = self.of_loop(burden)?;
            let emf = duty.symmetrical * duty.dimensioning * of.rated_a * of.z().norm();
            let peak = of.curve.peak_at(emf).ok_or_else(|| {
                format!("it takes the peak current at {emf:.1} V, and that was not measured")
            })?;
            Ok(peak / (SQRT_2 * duty.symmetrical * of.rated_a))
        });
        let what = match kind {
            Transient::Z => "peak error of the alternating component in the rated duty",
            _ => "peak instantaneous error in the rated duty",
        };
        all.push(Assessed {
            key: "transient-error".to_owned(),
            what: what.to_owned(),
            of: Of::Share,
            estimate: by_method(&instantaneous, METHOD),
            value: instantaneous,
            lower: None,
            upper: Some(0.1),
        });
        if kind.remanence().is_some() {
            all.push(self.remanence());
        }
        if self.plate.resistance_ohm.is_some() {
            all.push(self.winding());
        }
        all
    }

    /// The parallelogram of ratio correction factor and phase angle (IEEE C57.13, 5.3): with the phase
    /// angle β in minutes, the transformer correction factor is RCF - β/2600, and lies in the same band.
    fn metering(&self, percent: f64) -> Vec<Assessed> {
        let mut all = Vec::new();
        for (share, times, at) in [(1.0, 1.0, "100%"), (0.1, 2.0, "10%")] {
            let rated = self.burden(1.0).map(|b| match self.plate.power_factor {
                Some(_) => b,
                None => Burden::of_size(b.z.norm(), 0.9),
            });
            let band = times * percent / 100.0;
            let found = rated.and_then(|burden| {
                let of = self.of_loop(burden)?;
                let found = of.errors(share).ok_or("the core was not measured as far up")?;
                if found.emf_v < of.curve.span().0 * 0.9 {
                    return Err("excitation was not measured as far down".to_owned());
                }
                let factor = 1.0 / (1.0 + found.ratio);
                Ok((factor, factor - found.phase.to_degrees() * 60.0 / 2600.0))
            });
            let one = |name: &str, words: &str, value: Result<f64, String>| Assessed {
                key: format!("{name}-{at}"),
                what: format!("{words} at {at} of rated current, rated burden"),
                of: Of::Number,
                estimate: exact(&value),
                value,
                lower: Some(1.0 - band),
                upper: Some(1.0 + band),
            };
            let (rcf, tcf) = (found.clone().map(|(rcf, _)| rcf), found.map(|(_, tcf)| tcf));
            all.push(one("ratio-correction", "ratio correction factor", rcf));
            all.push(one("transformer-correction", "transformer correction factor", tcf));
        }
        all
    }

    fn relaying(&self, volts: f64) -> Vec<Assessed> {
        let scale = (5.0 / self.plate.secondary_a).powi(2);
        let standard = RELAYING.iter().find(|(v, ..)| *v == volts);
        let burden = match standard {
            Some((_, ohms, cos)) => Ok(Burden::of_size(ohms * scale, *cos)),
            None => Err(format!("no standard burden belongs to {volts} V")),
        };
        let words = "standard burden";
        let mut all = self.errors(1.0, &burden, ("", words), 0.03, None);
        all.push(self.composite(
            20.0,
            burden,
            0.1,
            "error at 20 times rated current, standard burden",
        ));
        all
    }
}

/// The classes that a measured tap would meet.
pub(super) fn relaying_classes() -> impl Iterator<Item = Class> {
    RELAYING.iter().map(|(volts, ..)| Class::IeeeRelaying { is_calculated: true, volts: *volts })
}

/// IEEE metering classes.
pub(super) fn metering_classes() -> impl Iterator<Item = Class> {
    METERING.iter().map(|percent| Class::IeeeMetering(*percent))
}
