//! Which classes a measured tap would meet: the whole table.

use super::burden::Burden;
use super::classes::{Class, Measuring, Transient};
use super::criteria::{Assessed, Evidence, Met, Plate, metering_classes, relaying_classes, values};
use super::errors::{Limit, Loop};

/// A class with whether a tap meets it.
#[derive(Clone, Debug, PartialEq)]
pub struct Meets {
    /// The class; a protection class with the highest accuracy limit factor that holds.
    pub class: String,
    /// Whether it is met.
    pub met: Met,
    /// What decides: the criterion with the least margin, or why nothing is known.
    pub why: String,
}

/// The outcome of several criteria: the first that is not met, the first that is open, else the closest.
pub fn decided(all: &[Assessed]) -> (Met, String) {
    if all.is_empty() {
        return (Met::Open, "the nameplate tells too little to assess it".to_owned());
    }
    if let Some(failed) = all.iter().find(|a| a.met() == Met::No) {
        return (Met::No, failed.what.clone());
    }
    if let Some(open) = all.iter().find(|a| a.met() == Met::Open) {
        let why = open.value.as_ref().err().cloned().unwrap_or_default();
        return (Met::Open, format!("{}: {why}", open.what));
    }
    let margin = |a: &&Assessed| a.margin().unwrap_or(f64::INFINITY);
    let closest = all.iter().min_by(|a, b| margin(a).total_cmp(&margin(b)));
    (Met::Yes, closest.map(|a| a.what.clone()).unwrap_or_default())
}

/// Every class that such a nameplate could bear, at its rated burden.
pub fn table(plate: &Plate, seen: &Evidence) -> Vec<Meets> {
    let mut all = Vec::new();
    let mut add = |class: Class| {
        let (met, why) = decided(&values(class, plate, seen, None));
        all.push(Meets { class: class.to_string(), met, why });
    };
    Measuring::ALL.into_iter().map(Class::Measuring).for_each(&mut add);
    for percent in [5, 10] {
        let factor = limit_factor(plate, seen, f64::from(percent) / 100.0);
        // The standard factor that still holds, at least 5.
        let usual = [30.0, 20.0, 15.0, 10.0, 5.0];
        let holds = factor.map(|x| usual.into_iter().find(|f| *f <= x).unwrap_or(5.0));
        let limit_factor = holds.unwrap_or(5.0);
        add(Class::Protection { percent, is_low_remanence: false, limit_factor });
    }
    if plate.knee_v.is_some() {
        add(Class::KneePoint { is_low_remanence: false });
    }
    if plate.duty.is_some() {
        [Transient::X, Transient::Y, Transient::Z]
            .into_iter()
            .map(Class::Transient)
            .for_each(&mut add);
    }
    metering_classes().for_each(&mut add);
    relaying_classes().for_each(&mut add);
    all
}

/// The accuracy limit factor at the rated burden; as far as it was measured where it is not reached.
fn limit_factor(plate: &Plate, seen: &Evidence, share: f64) -> Option<f64> {
    let va = plate.burden_va?;
    let cos = plate.power_factor.unwrap_or(if va >= 5.0 { 0.8 } else { 1.0 });
    let of = Loop {
        curve: seen.curve.as_ref().ok()?,
        turns: seen.turns.as_ref().ok()?.value,
        rated_ratio: plate.primary_a / plate.secondary_a,
        rated_a: plate.secondary_a,
        winding_ohm: seen.winding.as_ref().ok()?.value,
        burden: Burden::of_current(va, plate.secondary_a, cos),
    };
    match of.limit(share) {
        Limit::At(x) | Limit::Above(x) => Some(x),
        Limit::Below(_) => None,
    }
}
