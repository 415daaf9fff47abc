//! What readings of insulation resistance come to.

use super::keys::{InsulationResistanceTest, MINUTE_S, TEN_S};
use super::{INDEX, RESISTANCE};
use crate::material::{celsius, of_temperature};
use crate::measure::{injected, point};
use crate::power::asset::PowerTransformer;
use crate::power::procedure::leads::{letters, others, to_all, to_other};
use waltron_core::grading::{
    Finding, Judgement, Limits, PointId, Value, Values, Verdict, judge_between,
};
use waltron_core::quantity::{Dimension, Quantity, Voltage, significant};
use waltron_core::uncertainty::{Accuracy, Cause, Estimate};

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
    uncertainty_k: f64,
    least_ohm: Option<f64>,
    least_index: Option<f64>,
}

/// A resistance so long after the voltage came: seconds, and ohms with what makes them uncertain.
pub(super) type Reading = (f64, Estimate);

/// Losses of insulation double for each 10 K; of single ones for each 8 K to 12.5 K, a quarter more or less.
const DOUBLING: f64 = 0.25;

/// What an instrument shows that somebody reads.
pub(super) fn typed(ohm: f64, accuracy: Option<Accuracy>) -> Estimate {
    let Some(accuracy) = accuracy else { return Estimate::exact(ohm) };
    let width = accuracy.width(ohm);
    let cause = |what: &str, si| {
        Cause::of(accuracy.means, format!("instrument's {what}"), Value::Plain(ohms(si)))
    };
    Estimate::exact(ohm)
        .with(cause("size", width.size), 1.0)
        .with(cause("offset", width.offset), 1.0)
}

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
            uncertainty_k: test.temperature_u_k,
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
        let at = |time: f64| readings.iter().find(|(t, _)| (t - time).abs() < 0.5);
        let Some((_, of_minute)) = at(MINUTE_S) else {
            return self.none(Verdict::Inconclusive, "nothing was read after 60 s");
        };
        let minute = of_minute.value;
        if let Some((t, ohm)) = readings.iter().find(|(_, ohm)| ohm.value <= 0.0) {
            let why =
                format!("{} after {} s is no resistance", ohms(ohm.value), significant(*t, 3));
            return self.none(Verdict::Inconclusive, &why);
        }
        // Twice as much for each 10 K less (IEEE C57.152 gives it as usual of oil-filled ones).
        let tens = (self.kelvin - 293.15) / 10.0;
        let at_20 = minute * 2f64.powf(tens);
        let mut measured = Values::none()
            .with_quantity("resistance_20", ohms(at_20))
            .with_quantity("resistance", ohms(minute));
        for (time, ohm) in readings {
            let name = match time.round() as u32 {
                15 => "after_15s",
                30 => "after_30s",
                600 => "after_600s",
                _ => continue,
            };
            measured = measured.with_quantity(name, ohms(ohm.value));
        }
        let first = injected(self.resistance.clone(), RESISTANCE, &self.stimulus);
        let first = Finding { measured, limits: self.limits(), ..first };
        // What is typed in without its instrument's accuracy has no U, however sure the temperature is.
        let first = match of_minute.is_certain() {
            true => first,
            false => {
                let doubled = at_20 * std::f64::consts::LN_2;
                let doubling = Cause::limit("doubling for each 10 K", Value::Percent(DOUBLING));
                let estimate = of_minute
                    .clone()
                    .times(at_20 / minute)
                    .with(of_temperature(self.uncertainty_k), doubled / 10.0)
                    .with(doubling, doubled * tens);
                first.uncertain(&estimate)
            }
        };
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
            all.push(self.index(id, of_minute, at(TEN_S).map(|r| &r.1), how));
        }
        all
    }

    fn index(
        &self,
        id: &PointId,
        of_minute: &Estimate,
        ten: Option<&Estimate>,
        how: &str,
    ) -> Finding {
        let found = injected(id.clone(), INDEX, &self.stimulus);
        let Some(of_ten) = ten else {
            let why = "nothing was read after 600 s";
            return found.judged(Judgement::new(Verdict::Inconclusive, why));
        };
        let (ten, minute) = (of_ten.value, of_minute.value);
        let index = ten / minute;
        let found = Finding {
            measured: Values::none()
                .with_quantity("index", Quantity::number(index))
                .with_quantity("after_600s", ohms(ten))
                .with_quantity("resistance", ohms(minute)),
            ..found
        };
        // What the meters are off by is in both, and drops out.
        let found = found.uncertain(&of_ten.clone().over(of_minute));
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
