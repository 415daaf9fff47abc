//! What readings of insulation resistance come to.

use super::keys::{InsulationResistanceTest, MINUTE_S, TEN_S};
use super::{INDEX, RESISTANCE};
use crate::material::celsius;
use crate::measure::{injected, point};
use crate::power::asset::PowerTransformer;
use crate::power::procedure::leads::{letters, others, to_all, to_other};
use waltron_core::grading::{
    Finding, Judgement, Limits, PointId, Value, Values, Verdict, judge_between,
};
use waltron_core::quantity::{Dimension, Quantity, Voltage, significant};

/// A part of the insulation.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Part {
    /// As points call it: `H`, `HL`.
    pub(super) name: String,
    /// Where the leads are.
    pub(super) leads: String,
    /// The most that may be put on, in V.
    pub(super) most_v: f64,
}

/// What is put on a winding at most, in V: 5 kV, and 500 V where it is rated up to 1.1 kV.
fn most_of(of: &PowerTransformer, k: usize) -> f64 {
    let rated = of.windings[k].voltage_v;
    if rated <= 1100.0 { 500.0 } else { (rated / 3f64.sqrt()).min(5000.0) }
}

/// Each winding to all others and the tank, and each to the next ones.
pub(super) fn parts(of: &PowerTransformer) -> Vec<Part> {
    let letters = letters(of);
    let mut all = Vec::new();
    for (k, own) in letters.iter().enumerate() {
        let others = others(letters, own);
        let most_v = most_of(of, k);
        all.push(Part { name: (*own).to_owned(), leads: to_all(own, &others), most_v });
        for (next, other) in letters.iter().enumerate().skip(k + 1) {
            let leads = to_other(own, other, &others);
            let most_v = most_v.min(most_of(of, next));
            all.push(Part { name: format!("{own}{other}"), leads, most_v });
        }
    }
    all
}

fn ohms(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::RESISTANCE }
}

/// What a part must have.
#[derive(Clone, Debug)]
pub(super) struct Required {
    pub(super) resistance: PointId,
    pub(super) index: Option<PointId>,
    stimulus: Values,
    kelvin: f64,
    least_ohm: Option<f64>,
    least_index: Option<f64>,
}

/// A resistance so long after the voltage came: seconds, ohms, and what that is uncertain by.
pub(super) type Reading = (f64, f64, Option<f64>);

impl Required {
    pub(super) fn new(
        test: &InsulationResistanceTest,
        of: &PowerTransformer,
        part: &Part,
        volts: Option<Voltage>,
    ) -> Self {
        let index = test.times_s.contains(&TEN_S);
        let index = index.then(|| point(&test.test, &format!("{}/polarisation-index", part.name)));
        Self {
            resistance: point(&test.test, &part.name),
            index,
            stimulus: Values::none().with_some("voltage", volts),
            kelvin: test.temperature_k,
            least_ohm: of.allowed.insulation_ohm,
            least_index: of.allowed.polarisation_index,
        }
    }

    pub(super) fn limits(&self) -> Limits {
        match self.least_ohm {
            Some(least) => Limits::Between { lower: Some(Value::Plain(ohms(least))), upper: None },
            None => Limits::None,
        }
    }

    /// All points of it, as not to be told for a reason.
    pub(super) fn none(&self, verdict: Verdict, why: &str) -> Vec<Finding> {
        let judged = || Judgement::new(verdict, why.to_owned());
        let first = injected(self.resistance.clone(), RESISTANCE, &self.stimulus);
        let mut all = vec![Finding { limits: self.limits(), ..first }.judged(judged())];
        let second = |id: &PointId| injected(id.clone(), INDEX, &self.stimulus).judged(judged());
        all.extend(self.index.iter().map(second));
        all
    }

    /// By readings at rising times; said how they were had.
    pub(super) fn graded(&self, readings: &[Reading], how: &str) -> Vec<Finding> {
        let at = |time: f64| readings.iter().find(|(t, ..)| (t - time).abs() < 0.5);
        let Some((_, minute, u)) = at(MINUTE_S).copied() else {
            return self.none(Verdict::Inconclusive, "nothing was read after 60 s");
        };
        if let Some((t, ohm, _)) = readings.iter().find(|(_, ohm, _)| *ohm <= 0.0) {
            let why = format!("{} after {} s is no resistance", ohms(*ohm), significant(*t, 3));
            return self.none(Verdict::Inconclusive, &why);
        }
        // Twice as much for each 10 K less (IEEE C57.152 gives it as usual of oil-filled ones).
        let at_20 = minute * 2f64.powf((self.kelvin - 293.15) / 10.0);
        let mut measured = Values::none()
            .with_quantity("resistance_20", ohms(at_20))
            .with_quantity("resistance", ohms(minute));
        for (time, ohm, _) in readings {
            let name = match time.round() as u32 {
                15 => "after_15s",
                30 => "after_30s",
                600 => "after_600s",
                _ => continue,
            };
            measured = measured.with_quantity(name, ohms(*ohm));
        }
        let uncertainty = u.map_or(Values::none(), |u| {
            Values::none().with_quantity("u", ohms(u * at_20 / minute))
        });
        let first = injected(self.resistance.clone(), RESISTANCE, &self.stimulus);
        let first = Finding { measured, uncertainty, limits: self.limits(), ..first };
        let told = format!("{} at {} after 1 min", ohms(minute), celsius(self.kelvin));
        let judged = match self.least_ohm {
            Some(least) => {
                let mut judged = judge_between(ohms(at_20), least, f64::INFINITY);
                judged.reason = format!("{told}; {}{how}", judged.reason);
                judged
            }
            None => {
                let why = format!("{told}; the file gives no least one{how}");
                Judgement::new(Verdict::Measured, why)
            }
        };
        let mut all = vec![first.judged(judged)];
        if let Some(id) = &self.index {
            all.push(self.index(id, minute, at(TEN_S).map(|r| r.1), how));
        }
        all
    }

    fn index(&self, id: &PointId, minute: f64, ten: Option<f64>, how: &str) -> Finding {
        let found = injected(id.clone(), INDEX, &self.stimulus);
        let Some(ten) = ten else {
            let why = "nothing was read after 600 s";
            return found.judged(Judgement::new(Verdict::Inconclusive, why));
        };
        let index = ten / minute;
        let found = Finding {
            measured: Values::none()
                .with_quantity("index", Quantity::number(index))
                .with_quantity("after_600s", ohms(ten))
                .with_quantity("resistance", ohms(minute)),
            ..found
        };
        let told = format!("{} over {}", ohms(ten), ohms(minute));
        let Some(least) = self.least_index else {
            let why = format!("{told}; the file gives no least one{how}");
            return found.judged(Judgement::new(Verdict::Measured, why));
        };
        let lower = Some(Value::Plain(Quantity::number(least)));
        let found = Finding { limits: Limits::Between { lower, upper: None }, ..found };
        let mut judged = judge_between(Quantity::number(index), least, f64::INFINITY);
        judged.reason = format!("{told}; {}{how}", judged.reason);
        found.judged(judged)
    }
}
