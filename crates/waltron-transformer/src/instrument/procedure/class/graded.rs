//! Criteria of a class, and the class as a whole, as points.

use crate::instrument::analysis::criteria::{Assessed, Met, Of};
use crate::instrument::analysis::{Class, meets};
use crate::instrument::procedure::plausible::{Doubt, Kind as DoubtKind};
use waltron_core::grading::{Finding, Judgement, Limits, Value, Values, Verdict, judge_between};
use waltron_core::quantity::{Dimension, Quantity, significant};

/// The verdict of a class as a whole.
pub(in crate::instrument::procedure) fn verdict(
    class: Class,
    assessed: &[Assessed],
    doubts: &[Doubt],
) -> Judgement {
    let (met, why) = meets::decided(assessed);
    let doubtful = doubts.iter().find(|d| d.kind == DoubtKind::HookUp);
    let defect = doubts.iter().find(|d| d.kind == DoubtKind::Defect);
    match (met, doubtful, defect) {
        (_, Some(doubt), _) => {
            Judgement::new(Verdict::Inconclusive, format!("doubtful: {}", doubt.words))
        }
        // Whoever puts it into service must not read a pass.
        (Met::Yes, None, Some(doubt)) => Judgement::new(
            Verdict::Inconclusive,
            format!("class {class} is met by the values, but {}", doubt.words),
        ),
        (Met::Yes, None, None) => {
            Judgement::new(Verdict::Pass, format!("class {class} is met; closest: {why}"))
        }
        (Met::No, ..) => Judgement::new(Verdict::Fail, format!("class {class} is not met: {why}")),
        (Met::Open, ..) => {
            Judgement::new(Verdict::Inconclusive, format!("class {class} is not proved: {why}"))
        }
    }
}

/// A criterion as a point.
pub(in crate::instrument::procedure) fn criterion(
    found: Finding,
    a: &Assessed,
    doubtful: Option<&Doubt>,
) -> Finding {
    let value = |si: f64| match a.of {
        Of::Share => Value::Percent(si),
        Of::Minutes => Value::Minutes((si / 60.0).to_radians()),
        Of::Number => Value::Plain(Quantity::number(si)),
        Of::Volt => Value::Plain(Quantity { si, dimension: Dimension::VOLTAGE }),
        Of::Ampere => Value::Plain(Quantity { si, dimension: Dimension::CURRENT }),
        Of::Ohm => Value::Plain(Quantity { si, dimension: Dimension::RESISTANCE }),
    };
    let limits = match (a.lower, a.upper) {
        (None, None) => Limits::None,
        (lower, upper) => Limits::Between { lower: lower.map(value), upper: upper.map(value) },
    };
    let found = Finding { limits, ..found };
    let si = match &a.value {
        Ok(si) => *si,
        Err(why) => {
            let why = format!("{}: {why}", a.what);
            return found.judged(Judgement::new(Verdict::Inconclusive, why));
        }
    };
    let name = match a.of {
        Of::Share => "error",
        Of::Minutes => "phase",
        Of::Number => "factor",
        Of::Volt => "voltage",
        Of::Ampere => "current",
        Of::Ohm => "resistance",
    };
    let mut measured = Values::none().with_value(name, value(si));
    let mut words = a.what.clone();
    if let Some(margin) = a.margin() {
        measured = measured.with_percent("margin", margin);
        words.push_str(&format!(", margin {} %", significant(margin * 100.0, 2)));
    }
    // The criterion's estimate is told in its own unit.
    let estimate = a.estimate.clone().times(value(1.0).si());
    let found = Finding { measured, ..found }.uncertain(&estimate);
    let quantity = match value(si) {
        Value::Plain(q) => q,
        other => Quantity::number(other.si()),
    };
    let (low, high) = (found.limits.lower(), found.limits.upper());
    let judged = match (low, high) {
        (None, None) => Judgement::new(Verdict::Measured, "nothing is rated"),
        (low, high) => {
            judge_between(quantity, low.unwrap_or(f64::NEG_INFINITY), high.unwrap_or(f64::INFINITY))
        }
    };
    let judged = match doubtful {
        Some(doubt) => {
            Judgement::new(Verdict::Inconclusive, format!("{words}; doubtful: {}", doubt.words))
        }
        None if a.of == Of::Minutes && judged.verdict == Verdict::Fail => {
            Judgement::new(Verdict::Fail, format!("{words}: outside the limits"))
        }
        None if judged.verdict == Verdict::Fail => {
            Judgement { reason: format!("{words}: {}", judged.reason), ..judged }
        }
        None => Judgement { reason: words, ..judged },
    };
    found.judged(judged)
}
