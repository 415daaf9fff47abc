//! What is held against the limits of a direct-current breaker.

use crate::direct_current::asset::{DcBreaker, limits};
use crate::span::Ends;
use waltron_core::grading::{
    Criterion, Finding, Grade, Judgement, Limits, PointId, Value, Values, Verdict, judge_between,
};
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Estimate;

/// Resistance and inductance of the circuit.
pub(crate) const CIRCUIT: Criterion = Criterion::named("dc_circuit");
/// The current at which it opened on a ramp.
pub(crate) const LEVEL: Criterion = Criterion::named("dc_trip_level");
/// By how much those of one ramp differ.
pub(crate) const SPREAD: Criterion = Criterion::named("dc_level_spread");
/// The setting of its release.
pub(crate) const SETTING: Criterion = Criterion::named("dc_setting");
/// From the current passing the setting to the contacts parting.
pub(crate) const OPENING: Criterion = Criterion::named("dc_opening_time");
/// The largest current against which it closes and stays closed.
pub(crate) const MAKING: Criterion = Criterion::named("dc_making_current");
/// A resistance of contacts or of a joint.
pub(crate) const JOINT: Criterion = Criterion::named("dc_resistance");

/// A point of a test, by what it is called in it.
pub(super) fn point(test: &Name, what: &str) -> PointId {
    let what = what.replace(' ', "-");
    PointId { id: format!("{test}/{what}"), test: test.clone(), element: None, fault_loop: None }
}

/// What is required of a point.
pub(super) fn required(of: &DcBreaker, grade: &Finding) -> Limits {
    if grade.criterion == SETTING {
        let (low, high) = of.band();
        return limits(Some((Some(low), Some(high))), Dimension::CURRENT);
    }
    let (ends, dimension) = ends(of, grade);
    limits(ends, dimension)
}

fn ends(of: &DcBreaker, grade: &Finding) -> (Option<Ends>, Dimension) {
    if grade.criterion == OPENING {
        (of.opening_s, Dimension::TIME)
    } else if grade.criterion == MAKING {
        (of.making_a, Dimension::CURRENT)
    } else if grade.criterion == SPREAD {
        (of.spread_a, Dimension::CURRENT)
    } else if grade.criterion == JOINT {
        let named = |joint: &&crate::direct_current::asset::Joint| {
            grade.point.id.ends_with(&format!("/{}", joint.name.replace(' ', "-")))
        };
        (of.joints.iter().find(named).and_then(|j| j.resistance), Dimension::RESISTANCE)
    } else {
        (None, Dimension::NUMBER)
    }
}

/// What was measured, with what it is uncertain by.
pub(super) struct Found {
    pub(super) measured: Values,
    /// The first of that with what makes it uncertain.
    pub(super) estimate: Estimate,
    /// What is told besides the verdict.
    pub(super) note: String,
}

/// Holds a point's first value against what is required of it.
pub(super) fn judged(of: &DcBreaker, finding: Finding, found: Found) -> Finding {
    let required = required(of, &finding);
    let value = found.measured.iter().next().map(|(_, value)| value);
    let finding = Finding { limits: required.clone(), measured: found.measured, ..finding };
    let finding = finding.uncertain(&found.estimate);
    let Some(Value::Plain(value)) = value else {
        return finding.judged(Judgement::new(Verdict::Inconclusive, found.note));
    };
    if required.is_none() {
        return finding.judged(Judgement::new(Verdict::Measured, found.note));
    }
    let low = required.lower().unwrap_or(f64::NEG_INFINITY);
    let high = required.upper().unwrap_or(f64::INFINITY);
    let judgement = judge_between(value, low, high);
    let judgement = match judgement.verdict {
        Verdict::Pass => Judgement::new(Verdict::Pass, found.note),
        verdict => {
            let mut reason = judgement.reason;
            for more in [meaning(&finding.criterion, value.si > high), found.note.as_str()] {
                if !more.is_empty() {
                    reason = format!("{reason}; {more}");
                }
            }
            Judgement::new(verdict, reason)
        }
    };
    finding.judged(judgement)
}

/// Where to look first.
fn meaning(criterion: &Criterion, is_above: bool) -> &'static str {
    if *criterion == SETTING {
        "release: its mark, air gap, spring; or current the wrong way through it"
    } else if *criterion == OPENING && is_above {
        "slow to open: dry bearings, weak opening spring, holding magnet that lets go late"
    } else if *criterion == MAKING && !is_above {
        "it lets go while it closes: release set too low, or bounce of the contacts"
    } else if *criterion == JOINT && is_above {
        "contacts worn or burnt, or a loose joint: clean and tighten, measure again"
    } else if *criterion == SPREAD && is_above {
        "its level wanders: friction in the release, worn latch"
    } else {
        ""
    }
}

/// A point of a record once more: what was measured stays, and what is required of it is what the file says now.
pub(super) fn again(of: &DcBreaker, measured: &Grade) -> Finding {
    let kept = Finding::not_tested(
        measured.point.clone(),
        measured.criterion.clone(),
        measured.stimulus.clone(),
        "",
    );
    let reached = measured.measured.get("at_least");
    let opened = measured.measured.get("at_most");
    let has_value = reached.or(opened).is_none() && !measured.measured.is_empty();
    let is_of_value = matches!(measured.verdict, Verdict::Pass | Verdict::Fail | Verdict::Measured);
    let required = required(of, &kept);
    let kept = Finding {
        measured: measured.measured.clone(),
        uncertainty: measured.uncertainty.clone(),
        budget: measured.budget.clone(),
        ..kept
    };
    if !(has_value && is_of_value) || measured.criterion == CIRCUIT {
        // What it did not do it did not do; whether that was far enough depends on the limits.
        let u = measured.uncertainty.get("u").unwrap_or(0.0);
        let beyond = reached.zip(required.upper()).map(|(reached, upper)| reached - u > upper);
        let below = opened.zip(required.lower()).map(|(opened, lower)| opened < lower);
        let verdict = match beyond.or(below) {
            Some(true) => Verdict::Fail,
            Some(false) => Verdict::Inconclusive,
            None => measured.verdict,
        };
        let kept = Finding { limits: required, ..kept };
        return kept.judged(Judgement::new(verdict, measured.reason.clone()));
    }
    // What was told of a value is still so; of one that failed it stands behind why.
    let note = match measured.verdict {
        Verdict::Fail => told_behind(measured).to_owned(),
        _ => measured.reason.clone(),
    };
    let values = kept.measured.clone();
    let first = values.iter().next().map_or(0.0, |(_, value)| value.si());
    let estimate = Estimate::of_parts(first, &kept.budget);
    judged(of, kept, Found { measured: values, estimate, note })
}

/// What was told of a value besides that it failed, and where to look first.
fn told_behind(failed: &Grade) -> &str {
    let behind = failed.reason.split_once("; ").map_or("", |(_, behind)| behind);
    let meanings = [false, true].map(|is_above| meaning(&failed.criterion, is_above));
    let meant = meanings.into_iter().filter(|m| !m.is_empty()).find_map(|m| behind.strip_prefix(m));
    meant.unwrap_or(behind).trim_start_matches("; ")
}

pub(super) fn quantity(si: f64, dimension: Dimension) -> Quantity {
    Quantity { si, dimension }
}
