//! Grading what a sequence expects.

use super::ast::{Expect, Requirement, Side, Within};
use super::build::needed;
use super::scene::{Injection, Scene};
use crate::characteristic::{Acceptance, acceptance, earliest_of};
use crate::document::Problem;
use crate::expression::{Binary, Expr, ExprKind, Type, Value, evaluate, wrong_kind};
use crate::grading::{
    Criterion, Grade, Judgement, PointId, TripOutcome, Values, Verdict, judge_between,
    judge_trip_time,
};
use crate::name::{Name, nearest};
use crate::procedure::seen_trip;
use crate::quantity::{Dimension, Measure, Quantity, Time, seconds};
use crate::tolerance::{self, AnyTolerance, Combine};

/// What a requirement came to, before it belongs to a point.
struct Outcome {
    criterion: Criterion,
    expected: Values,
    measured: Values,
    deviation: Values,
    limits: Values,
    judged: Judgement,
}

/// Grades a requirement.
///
/// # Errors
/// Mistakes in it: names, kinds, tolerances that do not fit.
pub(super) fn grade(expect: &Expect, scene: &Scene, point: PointId) -> Result<Grade, Problem> {
    let outcome = match &expect.what {
        Requirement::Is(value, expected, within) => is_within(value, expected, within, scene)?,
        Requirement::Between(value, low, high) => between(value, low, high, scene)?,
        Requirement::Band(value, of, multiple, span) => {
            band(value, of, multiple.as_ref(), &span.0, scene)?
        }
        Requirement::Holds(condition) => holds(condition, scene)?,
    };
    Ok(Grade {
        point,
        attempt: 1,
        criterion: outcome.criterion,
        stimulus: stimulus(scene),
        expected: outcome.expected,
        measured: outcome.measured,
        deviation: outcome.deviation,
        limits: outcome.limits,
        uncertainty: Values::none(),
        verdict: outcome.judged.verdict,
        reason: outcome.judged.reason,
        skipped: false,
    })
}

/// What was injected, for its column: the largest phase current of a fault, or what a ramp went
/// through.
fn stimulus(scene: &Scene) -> Values {
    let Some(Injection { program, swept, .. }) = &scene.last else { return Values::none() };
    if let Some([from, to]) = swept {
        return Values::none().with_quantity("from", *from).with_quantity("to", *to);
    }
    let fault = Scene::fault_segment(program).and_then(|i| program.segments.get(i));
    let current = fault.map(|s| {
        let phases = s.profile.last().complex_phase_currents();
        crate::fault_loop::FaultLoop::largest_phase(phases)
    });
    Values::none().with_some("current", current.filter(|i| i.si() > 0.0))
}

/// A value under grading: known, not known yet, or an interval one of whose ends did not happen.
enum Found {
    Known(Quantity),
    Unknown(Dimension),
    /// Of a kind that is not known, since what yields it is mistaken.
    Any,
    /// Why there is none, in a sequence that runs.
    Missing(Dimension, Verdict, String),
}

fn find(expr: &Expr, scene: &Scene) -> Result<Found, Problem> {
    if let ExprKind::Interval(from, to) = &expr.kind
        && !scene.preview
        && scene.between(from, to) == Ok(None)
    {
        let why = "one of the two events did not happen".to_owned();
        return Ok(Found::Missing(Dimension::TIME, Verdict::Fail, why));
    }
    match evaluate(expr, scene)? {
        Value::Quantity(q) => Ok(Found::Known(q)),
        Value::Unknown(kind) if !scene.preview => {
            let dimension = if let Type::Quantity(d) = kind { d } else { Dimension::NUMBER };
            let unknown = (Verdict::Inconclusive, "it was not measured".to_owned());
            let (verdict, why) = scene.excuse_of(expr).cloned().unwrap_or(unknown);
            Ok(Found::Missing(dimension, verdict, why))
        }
        Value::Unknown(Type::Quantity(d)) => Ok(Found::Unknown(d)),
        Value::Unknown(_) => Ok(Found::Any),
        other => Err(Problem::new(
            expr.span.clone(),
            format!("this is {}, but a quantity can be graded", other.kind()),
        )),
    }
}

fn dimension_of(found: &Found) -> Dimension {
    match found {
        Found::Known(q) => q.dimension,
        Found::Unknown(d) => *d,
        Found::Any => Dimension::NUMBER,
        Found::Missing(d, ..) => *d,
    }
}

/// The name that a value goes by in records, and how it is shown.
fn named(expr: &Expr, q: Quantity, percent: bool) -> Values {
    let name = if matches!(expr.kind, ExprKind::Interval(..)) { "time" } else { "value" };
    if percent {
        Values::none().with_percent(name, q.si)
    } else {
        Values::none().with_quantity(name, q)
    }
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

fn against(
    value: &Expr,
    found: Found,
    expected: Option<Quantity>,
    (low, high): (f64, f64),
    percent: bool,
) -> Outcome {
    let dimension = dimension_of(&found);
    let q = |si| Quantity { si, dimension };
    let limits = if percent {
        Values::none().with_percent("lower", low).with_percent("upper", high)
    } else {
        Values::none().with_quantity("lower", q(low)).with_quantity("upper", q(high))
    };
    let expected_values = expected.map_or_else(Values::none, |e| named(value, e, percent));
    let (measured, deviation, judged) = match found {
        Found::Known(m) => {
            let deviation = expected.map_or_else(Values::none, |e| {
                let by = named(value, q(m.si - e.si), percent);
                if e.si != 0.0 && !percent {
                    by.with_percent("value", (m.si - e.si) / e.si.abs())
                } else {
                    by
                }
            });
            (named(value, m, percent), deviation, judge_between(m, low, high))
        }
        Found::Missing(_, verdict, why) => {
            (Values::none(), Values::none(), Judgement::new(verdict, why))
        }
        Found::Unknown(_) | Found::Any => (Values::none(), Values::none(), unknown()),
    };
    Outcome {
        criterion: Criterion::Value,
        expected: expected_values,
        measured,
        deviation,
        limits,
        judged,
    }
}

fn unknown() -> Judgement {
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
        return Ok(against(value, found, None, (0.0, 0.0), false));
    }
    let dimension = dimension_of(&found);
    let wanted = match evaluate(expected, scene)? {
        Value::Quantity(q) if q.dimension == dimension => q.si,
        Value::Unknown(Type::Any) => 1.0,
        Value::Unknown(Type::Quantity(d)) if d == dimension => 1.0,
        other => {
            return Err(wrong_kind(expected, &other.kind(), dimension)
                .help(format!("the value before `is` is {dimension}")));
        }
    };
    let tolerance = tolerance_of(within, dimension, scene)?;
    let percent = is_percent(expected);
    Ok(against(
        value,
        found,
        Some(Quantity { si: wanted, dimension }),
        tolerance.limits(wanted),
        percent,
    ))
}

fn between(value: &Expr, low: &Expr, high: &Expr, scene: &Scene) -> Result<Outcome, Problem> {
    let found = find(value, scene)?;
    if matches!(found, Found::Any) {
        return Ok(against(value, found, None, (0.0, 0.0), false));
    }
    let dimension = dimension_of(&found);
    let (low_si, high_si) = (needed(low, dimension, scene)?, needed(high, dimension, scene)?);
    if low_si > high_si {
        return Err(Problem::new(low.span.clone(), "the lower limit is above the upper one"));
    }
    Ok(against(value, found, None, (low_si, high_si), is_percent(low) || is_percent(high)))
}

fn tolerance_of(
    within: &Within,
    dimension: Dimension,
    scene: &Scene,
) -> Result<AnyTolerance, Problem> {
    let (below, above) = match within {
        Within::Of(id, span) => return element_tolerance(id, &span.0, dimension, scene),
        Within::Both(both) => {
            let both = side(both, dimension, scene)?;
            (both, both)
        }
        Within::Sides(above, below) => {
            (side(below, dimension, scene)?, side(above, dimension, scene)?)
        }
    };
    Ok(AnyTolerance { dimension, below, above })
}

fn side(side: &Side, dimension: Dimension, scene: &Scene) -> Result<tolerance::Side, Problem> {
    let (parts, combine) = match side {
        Side::One(a) => (vec![a], Combine::Larger),
        Side::Larger(a, b) => (vec![a, b], Combine::Larger),
        Side::Sum(a, b) => (vec![a, b], Combine::Sum),
    };
    let mut read = tolerance::Side { relative: 0.0, absolute: 0.0, combine };
    for part in parts {
        let share = is_percent(part) || (dimension != Dimension::NUMBER && is_number(part, scene));
        let si = needed(part, if share { Dimension::NUMBER } else { dimension }, scene)?;
        if si < 0.0 {
            return Err(Problem::new(part.span.clone(), "a tolerance cannot be negative"));
        }
        let slot = if share { &mut read.relative } else { &mut read.absolute };
        if *slot != 0.0 {
            return Err(Problem::new(part.span.clone(), "two parts of the same kind")
                .help("write one percentage and one absolute value, as in `5 % or 40 ms`"));
        }
        *slot = si;
    }
    Ok(read)
}

fn is_number(expr: &Expr, scene: &Scene) -> bool {
    // A bare number is not a share: people write `5` and mean either.
    !matches!(expr.kind, ExprKind::Quantity { percent: false, .. })
        && evaluate(expr, scene).is_ok_and(|v| v.kind() == Type::NUMBER)
}

fn no_element(id: &Name, span: &std::ops::Range<usize>, scene: &Scene) -> Problem {
    let asset = &scene.context.asset;
    let mut ids: Vec<&str> = asset.elements.iter().map(|e| e.id.as_str()).collect();
    ids.extend(asset.stages.iter().map(|s| s.id.as_str()));
    Problem::new(span.clone(), format!("the asset has no element `{id}`"))
        .did_you_mean(nearest(id.as_str(), ids.iter().copied()), || {
            format!("elements are {}", ids.join(", "))
        })
}

fn element_tolerance(
    id: &Name,
    span: &std::ops::Range<usize>,
    dimension: Dimension,
    scene: &Scene,
) -> Result<AnyTolerance, Problem> {
    let asset = &scene.context.asset;
    let (all, what): (Vec<AnyTolerance>, _) = if let Some(e) = asset.element(id.as_str()) {
        let t = &e.tolerances;
        let angle = t.angle.map(|a| a.any());
        let all = [Some(t.current.any()), Some(t.time.any()), angle, Some(t.reset_ratio.any())];
        (all.into_iter().flatten().collect(), "current, time, angle and reset ratio")
    } else if let Some(s) = asset.stage(id.as_str()) {
        (vec![s.pickup_tolerance, s.time_tolerance.any()], "its setting and time")
    } else {
        return Err(no_element(id, span, scene));
    };
    all.into_iter().find(|t| t.dimension == dimension).ok_or_else(|| {
        Problem::new(span.clone(), format!("{id} has no tolerance for {dimension}"))
            .help(format!("its file gives tolerances of {what}"))
    })
}

/// The acceptance band of what should trip, for the currents of the last fault or a given multiple.
fn acceptance_of(
    of: &Name,
    multiple: Option<&Expr>,
    span: &std::ops::Range<usize>,
    scene: &Scene,
) -> Result<(Acceptance, Name), Problem> {
    let asset = &scene.context.asset;
    if let Some(stage) = asset.stage(of.as_str()) {
        let t = &stage.time_tolerance;
        let (earliest, latest) = (Some(t.lower(stage.delay)), Some(t.upper(stage.delay)));
        let band = Acceptance { expected: Some(stage.delay), earliest, latest };
        return Ok((band, stage.trip.clone()));
    }
    let phases = || {
        let program = scene.last.as_ref().map(|l| &l.program);
        let fault = program.and_then(|p| Scene::fault_segment(p).and_then(|i| p.segments.get(i)));
        fault.map(|s| s.profile.last().complex_phase_currents()).ok_or_else(|| {
            Problem::new(span.clone(), "no fault was put out whose currents could be looked up")
                .help("give the multiple, as in `band(51P, 2 x)`")
        })
    };
    if let Some(element) = asset.element(of.as_str()) {
        let band = match multiple {
            Some(expr) => {
                let m = needed(expr, Dimension::NUMBER, scene)?;
                let t = &element.tolerances;
                let seen = element.pickup * m;
                acceptance(&element.characteristic, element.pickup, seen, &t.current, &t.time)
            }
            None => element.acceptance(phases()?),
        };
        return Ok((band, element.trip.clone()));
    }
    if scene.context.is_contact(of.as_str()) {
        let phases = phases()?;
        let all = asset.tripping(of).map(|e| e.acceptance(phases));
        return Ok((earliest_of(all), of.clone()));
    }
    Err(no_element(of, span, scene))
}

fn band(
    value: &Expr,
    of: &Name,
    multiple: Option<&Expr>,
    span: &std::ops::Range<usize>,
    scene: &Scene,
) -> Result<Outcome, Problem> {
    let (band, contact) = acceptance_of(of, multiple, span, scene)?;
    let found = find(value, scene)?;
    if dimension_of(&found) != Dimension::TIME && !matches!(found, Found::Any) {
        return Err(wrong_kind(value, &Type::Quantity(dimension_of(&found)), Dimension::TIME));
    }
    let expected = Values::none().with_some("time", band.expected);
    let limits =
        Values::none().with_some("earliest", band.earliest).with_some("latest", band.latest);
    let criterion =
        if band.earliest.is_some() { Criterion::TripTime } else { Criterion::NoOperation };
    let (measured, judged) = match found {
        Found::Unknown(_) | Found::Any => (None, unknown()),
        Found::Known(q) => {
            let t = Time::from_si(q.si);
            (Some(t), judge_trip_time(&band, TripOutcome::Operated(t)))
        }
        Found::Missing(..) => (None, waited(&band, &contact, scene)),
    };
    let deviation = match (measured, band.expected) {
        (Some(t), Some(e)) if e.si() > 0.0 => {
            Values::none().with("time", t - e).with_percent("time", ((t - e) / e).value)
        }
        (Some(t), Some(e)) => Values::none().with("time", t - e),
        _ => Values::none(),
    };
    let measured = Values::none().with_some("time", measured);
    Ok(Outcome { criterion, expected, measured, deviation, limits, judged })
}

/// The contact did not operate: after how long a wait, or was it closed before?
fn waited(band: &Acceptance, contact: &Name, scene: &Scene) -> Judgement {
    let fault = scene.last.as_ref().and_then(|injection| {
        let observation = injection.observation.as_ref()?;
        let index = Scene::fault_segment(&injection.program).unwrap_or(0);
        Some((observation, observation.segments.get(index)?))
    });
    let Some((observation, span)) = fault else {
        return Judgement::new(Verdict::Inconclusive, "the injection ended before inception");
    };
    match seen_trip(observation, contact, span) {
        Ok(TripOutcome::Waited(_)) if span.end <= span.start => {
            Judgement::new(Verdict::Inconclusive, "nothing was put out")
        }
        Ok(outcome) => judge_trip_time(band, outcome),
        Err(judged) => judged,
    }
}

fn holds(condition: &Expr, scene: &Scene) -> Result<Outcome, Problem> {
    let value = evaluate(condition, scene)?;
    let (measured, deviation) = (Values::none(), Values::none());
    let plain = |criterion, judged| Outcome {
        criterion,
        expected: Values::none(),
        measured: measured.clone(),
        deviation: deviation.clone(),
        limits: Values::none(),
        judged,
    };
    // A comparison of quantities shows both.
    if let ExprKind::Binary(op, left, right) = &condition.kind
        && matches!(op, Binary::Less | Binary::LessEqual | Binary::Greater | Binary::GreaterEqual)
        && let Ok(found) = find(left, scene)
    {
        let dimension = dimension_of(&found);
        let limit = needed(right, dimension, scene)?;
        let upper = matches!(op, Binary::Less | Binary::LessEqual);
        let q = |si| Quantity { si, dimension };
        let limits = Values::none().with_quantity(if upper { "upper" } else { "lower" }, q(limit));
        let (measured, judged) = match found {
            Found::Known(m) => {
                let (low, high) =
                    if upper { (f64::NEG_INFINITY, limit) } else { (limit, f64::INFINITY) };
                let mut judged = judge_between(m, low, high);
                if judged.verdict == Verdict::Pass && value == Value::Bool(false) {
                    judged =
                        Judgement::new(Verdict::Fail, "exactly at the limit, which does not count");
                }
                (named(left, m, is_percent(right)), judged)
            }
            Found::Missing(_, verdict, why) => (Values::none(), Judgement::new(verdict, why)),
            Found::Unknown(_) | Found::Any => (Values::none(), unknown()),
        };
        let limits = if is_percent(right) {
            Values::none().with_percent(if upper { "upper" } else { "lower" }, limit)
        } else {
            limits
        };
        return Ok(Outcome {
            criterion: Criterion::Value,
            expected: Values::none(),
            measured,
            deviation: Values::none(),
            limits,
            judged,
        });
    }
    let text = scene.context.text.get(condition.span.clone()).unwrap_or_default();
    match value {
        Value::Bool(true) => Ok(plain(
            Criterion::Condition,
            Judgement::new(Verdict::Pass, said(condition, scene, text, true)),
        )),
        Value::Bool(false) => Ok(plain(
            Criterion::Condition,
            Judgement::new(Verdict::Fail, said(condition, scene, text, false)),
        )),
        Value::Unknown(Type::Bool | Type::Any) => Ok(plain(Criterion::Condition, unknown())),
        other => Err(Problem::new(
            condition.span.clone(),
            format!(
                "this is {}, but something that is true or false can be expected",
                other.kind()
            ),
        )
        .help("write `is … within …`, `between … and …` or a comparison")),
    }
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

/// The grade of a sequence that ended before its last line.
pub(super) fn ended(point: PointId, verdict: Verdict, reason: String) -> Grade {
    Grade {
        point,
        attempt: 1,
        criterion: Criterion::Completion,
        stimulus: Values::none(),
        expected: Values::none(),
        measured: Values::none(),
        deviation: Values::none(),
        limits: Values::none(),
        uncertainty: Values::none(),
        verdict,
        reason,
        skipped: false,
    }
}

/// The time that a fault is likely to last, by the settings of what should trip.
pub(super) fn likely_fault(injection: &Injection, scene: &Scene) -> Option<Time> {
    let segment = injection.program.segments.get(Scene::fault_segment(&injection.program)?)?;
    let phases = segment.profile.last().complex_phase_currents();
    let bands =
        scene.context.asset.elements.iter().filter(|e| e.enabled).map(|e| e.acceptance(phases));
    let expected = bands.filter_map(|b| b.expected).reduce(Time::min)?;
    Some(expected.min(segment.longest().unwrap_or(seconds(0.0))))
}
