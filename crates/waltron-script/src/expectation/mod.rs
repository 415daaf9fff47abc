//! Grading what a sequence expects.

mod band;
mod tolerance;
mod untested;

pub(super) use band::{likely_fault, rival};

use super::ast::{Expect, Requirement, Within};
use super::scene::Scene;
use super::stimuli::of_requirement;
use std::f64::consts::PI;
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, PointId, Value as Shown, Values, Verdict, judge_between,
};
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{
    Binary, Expr, ExprKind, Measured, Missing, Type, Value, evaluate, not_there, wrong_kind,
};
use waltron_core::uncertainty::Estimate;

/// What a requirement came to, before it belongs to a point.
struct Outcome {
    criterion: Criterion,
    expected: Values,
    measured: Values,
    deviation: Values,
    limits: Limits,
    /// The measured value with what makes it uncertain, where that is known.
    estimate: Option<Estimate>,
    judged: Judgement,
}

impl Outcome {
    fn new(criterion: Criterion, judged: Judgement) -> Self {
        Self {
            criterion,
            expected: Values::none(),
            measured: Values::none(),
            deviation: Values::none(),
            limits: Limits::None,
            estimate: None,
            judged,
        }
    }

    fn of(self, point: PointId, stimulus: Values) -> Finding {
        let found = Finding {
            expected: self.expected,
            measured: self.measured,
            deviation: self.deviation,
            limits: self.limits,
            ..Finding::not_tested(point, self.criterion, stimulus, "")
        };
        let found = found.judged(self.judged);
        found.uncertain(&self.estimate.unwrap_or_default())
    }
}

/// Grades a requirement.
///
/// # Errors
/// Mistakes in it: names, kinds, tolerances that do not fit; a limit that is not there.
pub(super) fn grade(expect: &Expect, scene: &Scene, point: PointId) -> Result<Finding, Problem> {
    let outcome = match &expect.what {
        Requirement::Is(value, expected, within) => is_within(value, expected, within, scene)?,
        Requirement::Between(value, low, high) => between(value, low, high, scene)?,
        Requirement::Band(value, of, multiple, span) => {
            band::band(value, of, multiple.as_ref(), &span.0, scene)?
        }
        Requirement::Holds(condition) => holds(condition, scene)?,
    };
    let outcome = match untested::untested(expect, scene) {
        Some(judged) => Outcome { judged, ..outcome },
        None => outcome,
    };
    Ok(outcome.of(point, of_requirement(&expect.what, scene)))
}

/// The grade of a requirement whose limits are not there, for this reason.
pub(super) fn not_graded(
    expect: &Expect,
    scene: &Scene,
    point: PointId,
    problem: &Problem,
) -> Finding {
    let criterion = match &expect.what {
        Requirement::Band(..) => Criterion::TRIP_TIME,
        Requirement::Holds(condition) if compared(condition).is_none() => Criterion::CONDITION,
        _ => Criterion::VALUE,
    };
    let judged = Judgement::new(verdict_of(problem.fails), problem.message.as_str());
    Outcome::new(criterion, judged).of(point, of_requirement(&expect.what, scene))
}

/// What a missing value comes to.
pub(super) fn verdict_of(fails: bool) -> Verdict {
    if fails { Verdict::Fail } else { Verdict::Inconclusive }
}

/// A value under grading.
enum Found {
    Known(Measured),
    /// It is not known before something is measured.
    Later(Dimension),
    /// Of a kind that is not known, since what yields it is mistaken.
    Any,
    /// It is not there, in a sequence that runs.
    Missing(Missing),
}

fn find(expr: &Expr, scene: &Scene) -> Result<Found, Problem> {
    Ok(match evaluate(expr, scene)? {
        Value::Quantity(value) => Found::Known(Measured { value, estimate: None }),
        Value::Measured(measured) => Found::Known(measured),
        Value::Missing(missing) => Found::Missing(*missing),
        Value::Range(range) => Found::Later(range.dimension),
        Value::Unknown(Type::Quantity(d)) => Found::Later(d),
        Value::Unknown(Type::Any) => Found::Any,
        other => {
            let message = format!("this is {}, but a quantity can be graded", other.kind());
            return Err(Problem::new(expr.span.clone(), message));
        }
    })
}

fn dimension_of(found: &Found) -> Dimension {
    match found {
        Found::Known(m) => m.value.dimension,
        Found::Later(d) => *d,
        Found::Any => Dimension::NUMBER,
        Found::Missing(m) => match m.kind {
            Type::Quantity(d) => d,
            _ => Dimension::NUMBER,
        },
    }
}

/// A quantity that something is held against; `None` where it is not known before.
///
/// # Errors
/// A value of another kind; one that is not there, for its reason.
fn known(expr: &Expr, wanted: Dimension, scene: &Scene) -> Result<Option<f64>, Problem> {
    match evaluate(expr, scene)? {
        Value::Unknown(Type::Any) => Ok(None),
        Value::Missing(missing) => Err(not_there(expr, &missing)),
        value if value.kind() != Type::Quantity(wanted) => {
            Err(wrong_kind(expr, &value.kind(), wanted))
        }
        value => Ok(value.quantity().map(|q| q.si)),
    }
}

/// The name that a value goes by in records, and how it is shown.
fn named(expr: &Expr, q: Quantity, percent: bool) -> Values {
    let name = if matches!(expr.kind, ExprKind::Interval(..)) { "time" } else { "value" };
    shown(name, q, percent)
}

fn shown(name: &'static str, q: Quantity, percent: bool) -> Values {
    Values::none().with_value(name, Shown::shown(q, percent))
}

fn is_percent(expr: &Expr) -> bool {
    match &expr.kind {
        ExprKind::Quantity { percent, .. } => *percent,
        ExprKind::Binary(Binary::Multiply | Binary::Add | Binary::Subtract, a, b) => {
            is_percent(a) || is_percent(b)
        }
        _ => false,
    }
}

/// The turn nearest to a place on the circle, where the value is an angle.
fn around(m: Quantity, near: f64) -> Quantity {
    if m.dimension != Dimension::ANGLE || !near.is_finite() {
        return m;
    }
    let turned = (m.si - near + PI).rem_euclid(2.0 * PI) - PI;
    Quantity { si: near + turned, ..m }
}

fn against(
    value: &Expr,
    found: Found,
    expected: Option<f64>,
    limits: Option<(f64, f64)>,
    percent: bool,
) -> Outcome {
    let dimension = dimension_of(&found);
    let q = |si| Quantity { si, dimension };
    let mut outcome = Outcome::new(Criterion::VALUE, later());
    if let Some(expected) = expected {
        outcome.expected = named(value, q(expected), percent);
    }
    if let Some((low, high)) = limits {
        let limit = |si| Some(Shown::shown(q(si), percent));
        outcome.limits = Limits::Between { lower: limit(low), upper: limit(high) };
    }
    match (found, limits) {
        (Found::Known(measured), Some((low, high))) => {
            let near = expected.unwrap_or(f64::midpoint(low, high));
            let m = around(measured.value, near);
            if let Some(e) = expected {
                outcome.deviation = named(value, q(m.si - e), percent);
                if e != 0.0 && !percent && dimension != Dimension::ANGLE {
                    let share = (m.si - e) / e.abs();
                    outcome.deviation = outcome.deviation.with_percent("value", share);
                }
            }
            outcome.judged = judge_between(m, low, high);
            outcome.measured = named(value, measured.value, percent);
            outcome.estimate = measured.estimate;
        }
        (Found::Missing(missing), _) => {
            outcome.judged = Judgement::new(verdict_of(missing.fails), missing.why);
        }
        _ => {}
    }
    outcome
}

/// What stands for a verdict before anything is measured.
fn later() -> Judgement {
    Judgement::new(Verdict::Inconclusive, "it was not measured")
}

fn is_within(
    value: &Expr,
    expected: &Expr,
    within: &Within,
    scene: &Scene,
) -> Result<Outcome, Problem> {
    let found = find(value, scene)?;
    if matches!(found, Found::Any) {
        return Ok(against(value, found, None, None, false));
    }
    let dimension = dimension_of(&found);
    let wanted = known(expected, dimension, scene).map_err(|p| {
        if p.help.is_some() { p.help(format!("the value before `is` is {dimension}")) } else { p }
    })?;
    let tolerance = tolerance::tolerance_of(within, dimension, scene)?;
    let limits = match (wanted, &tolerance) {
        (Some(wanted), Some(tolerance)) => Some(tolerance.limits(wanted)),
        _ => None,
    };
    let mut outcome = against(value, found, wanted, limits, is_percent(expected));
    if dimension == Dimension::TIME {
        let slope = band::along_curve(expected, scene);
        outcome.estimate = outcome.estimate.map(|time| time.with_shares(slope, 1.0));
    }
    Ok(outcome)
}

fn between(value: &Expr, low: &Expr, high: &Expr, scene: &Scene) -> Result<Outcome, Problem> {
    let found = find(value, scene)?;
    if matches!(found, Found::Any) {
        return Ok(against(value, found, None, None, false));
    }
    let dimension = dimension_of(&found);
    let limits = match (known(low, dimension, scene)?, known(high, dimension, scene)?) {
        (Some(a), Some(b)) if a > b => {
            return Err(Problem::new(low.span.clone(), "the lower limit is above the upper one"));
        }
        (Some(a), Some(b)) => Some((a, b)),
        _ => None,
    };
    Ok(against(value, found, None, limits, is_percent(low) || is_percent(high)))
}

/// The two sides of a comparison of quantities.
fn compared(condition: &Expr) -> Option<(Binary, &Expr, &Expr)> {
    let ExprKind::Binary(op, left, right) = &condition.kind else { return None };
    let ordered =
        matches!(op, Binary::Less | Binary::LessEqual | Binary::Greater | Binary::GreaterEqual);
    ordered.then_some((*op, left, right))
}

fn holds(condition: &Expr, scene: &Scene) -> Result<Outcome, Problem> {
    let value = evaluate(condition, scene)?;
    // A comparison of quantities shows both.
    if let Some((op, left, right)) = compared(condition)
        && let Ok(found) = find(left, scene)
    {
        return compare(op, left, right, found, &value, scene);
    }
    let text = scene.context.text.get(condition.span.clone()).unwrap_or_default();
    let judged = match value {
        Value::Bool(true) => Judgement::new(Verdict::Pass, said(condition, scene, text, true)),
        Value::Bool(false) => Judgement::new(Verdict::Fail, said(condition, scene, text, false)),
        Value::Unknown(Type::Bool | Type::Any) => later(),
        Value::Missing(missing) => Judgement::new(verdict_of(missing.fails), missing.why),
        other => {
            let message = format!(
                "this is {}, but something that is true or false can be expected",
                other.kind()
            );
            return Err(Problem::new(condition.span.clone(), message)
                .help("write `is … within …`, `between … and …` or a comparison"));
        }
    };
    Ok(Outcome::new(Criterion::CONDITION, judged))
}

/// A comparison: the value on the left against the limit on the right.
fn compare(
    op: Binary,
    left: &Expr,
    right: &Expr,
    found: Found,
    value: &Value,
    scene: &Scene,
) -> Result<Outcome, Problem> {
    let mut outcome = Outcome::new(Criterion::VALUE, later());
    if matches!(found, Found::Any) {
        return Ok(outcome);
    }
    let dimension = dimension_of(&found);
    let limit = known(right, dimension, scene)?;
    let (upper, percent) = (matches!(op, Binary::Less | Binary::LessEqual), is_percent(right));
    let q = |si| Quantity { si, dimension };
    if let Some(limit) = limit {
        let limit = Some(Shown::shown(q(limit), percent));
        outcome.limits = match upper {
            true => Limits::Between { lower: None, upper: limit },
            false => Limits::Between { lower: limit, upper: None },
        };
    }
    match (found, limit) {
        (Found::Known(measured), Some(limit)) => {
            let (low, high) =
                if upper { (f64::NEG_INFINITY, limit) } else { (limit, f64::INFINITY) };
            outcome.judged = judge_between(measured.value, low, high);
            if outcome.judged.verdict == Verdict::Pass && *value == Value::Bool(false) {
                let why = "exactly at the limit, which does not count";
                outcome.judged = Judgement::new(Verdict::Fail, why);
            }
            outcome.measured = named(left, measured.value, percent);
            outcome.estimate = measured.estimate;
        }
        (Found::Missing(missing), _) => {
            outcome.judged = Judgement::new(verdict_of(missing.fails), missing.why);
        }
        _ => {}
    }
    Ok(outcome)
}

/// What was found, in words.
fn said(condition: &Expr, scene: &Scene, text: &str, holds: bool) -> String {
    let (name, wanted) = match &condition.kind {
        ExprKind::Name(name) => (Some(name), true),
        ExprKind::Unary(_, inner) => match &inner.kind {
            ExprKind::Name(name) => (Some(name), false),
            _ => (None, true),
        },
        _ => (None, true),
    };
    match name.filter(|n| scene.context.is_contact(n.as_str())) {
        Some(name) if wanted == holds => format!("`{name}` operated"),
        Some(name) => format!("`{name}` did not operate"),
        None if holds => format!("`{text}` holds"),
        None => format!("`{text}` does not hold"),
    }
}

/// The grade of a step that could not be done, while the rest of its sequence goes on.
pub(super) fn not_done(point: PointId, verdict: Verdict, reason: String) -> Finding {
    Outcome::new(Criterion::STEP, Judgement::new(verdict, reason)).of(point, Values::none())
}

/// The grade of a sequence that ended before its last line.
pub(super) fn ended(point: PointId, verdict: Verdict, reason: String) -> Finding {
    Outcome::new(Criterion::COMPLETION, Judgement::new(verdict, reason)).of(point, Values::none())
}
