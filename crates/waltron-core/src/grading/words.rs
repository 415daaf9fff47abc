//! A graded point in words, the same in the terminal, in tables and in reports.

use super::{Grade, Limits, Summary, Values};

/// What was put out, in short: a current, what a ramp went through, or how quickly it rose.
pub fn injected(stimulus: &Values) -> Option<String> {
    let value = |name: &str| stimulus.text(name);
    let swept = |from: &str, to: &str| Some(format!("{} → {}", value(from)?, value(to)?));
    let plain = value("current").or_else(|| value("voltage"));
    plain
        .or_else(|| swept("from_current", "to_current"))
        .or_else(|| swept("from", "to"))
        .or_else(|| value("rate"))
}

/// The value a point is about, the first one; a measured one keeps its trailing zeros.
pub fn main_value(values: &Values, limits: &Limits, measured: bool) -> String {
    match values.iter().next() {
        Some((_, value)) if measured => format!("{value:#}"),
        Some((_, value)) => value.to_string(),
        None if limits.is_of_operation() => "no trip".to_owned(),
        None => "–".to_owned(),
    }
}

/// How many points pass: `37 of 57 points pass`, of those not reached as well; points of which nothing
/// is required do not count.
pub fn passing(summary: Summary, not_reached: usize) -> String {
    match summary.total() - summary.measured + not_reached {
        0 if summary.measured > 0 => "nothing is required of what was measured".to_owned(),
        1 if not_reached == 1 => "the one point was not reached".to_owned(),
        1 if summary.pass == 1 => "the one point passes".to_owned(),
        1 => "the one point does not pass".to_owned(),
        all => format!("{} of {all} points pass", summary.pass),
    }
}

/// The share of its tolerance that a value has used: 1 on its limit. `None` where nothing was measured,
/// expected, or limited on that side.
pub fn tolerance_used(grade: &Grade) -> Option<f64> {
    let (name, _) = grade.measured.iter().next()?;
    let (measured, expected) = (grade.measured.get(name)?, grade.expected.get(name)?);
    let off = measured - expected;
    let room = if off >= 0.0 {
        grade.limits.upper()? - expected
    } else {
        expected - grade.limits.lower()?
    };
    Some(if off == 0.0 { 0.0 } else { (off.abs() / room.max(0.0)).min(1e9) })
}
