//! Times against the acceptance band of what should trip.

use super::{Found, Outcome, dimension_of, find, later, untested, verdict_of};
use crate::ast::{Expect, Requirement};
use crate::build::Built;
use crate::scene::{Injection, Last, Scene};
use std::ops::Range;
use waltron_core::characteristic::{Acceptance, earliest_of, spread};
use waltron_core::grading::{
    Criterion, Judgement, Limits, TripOutcome, Values, Verdict, judge_trip_time,
};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Dimension, Measure, Time, seconds, text};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{Event, Expr, ExprKind, Missing, Type, Which, wrong_kind};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Cause;

/// What a value is held against.
enum Band {
    /// This band, of what closes this contact; what makes the current uncertain, and by how many seconds each cause
    /// moves the expected time.
    Known(Acceptance, Name, Slope),
    /// One that follows from values that are measured.
    Later,
    /// None, for this reason.
    Without(Judgement),
}

/// Causes, and by how many seconds each moves a time, for one of its own unit.
type Slope = Vec<(Cause, f64)>;

/// What was put out as the fault.
enum Faulted {
    Stimulus(Stimulus),
    /// It is not known before.
    Later,
    /// It was not put out.
    Lost(Judgement),
}

fn faulted(span: &Range<usize>, scene: &Scene) -> Result<Faulted, Problem> {
    let none = || {
        Problem::new(span.clone(), "no fault was put out whose currents could be looked up")
            .help("give the multiple, as in `band(51P, 2 x)`")
    };
    match &scene.last {
        Last::Injection(injection) => {
            let fault = injection.fault.and_then(|i| injection.program.segments.get(i));
            let fault = fault.ok_or_else(none)?.profile.last();
            Ok(if injection.is_exact { Faulted::Stimulus(fault) } else { Faulted::Later })
        }
        Last::Unclear => Ok(Faulted::Later),
        Last::Lost(fails, why) => {
            Ok(Faulted::Lost(Judgement::new(verdict_of(*fails), why.as_str())))
        }
        Last::Nothing => Err(none()),
    }
}

/// The acceptance band of what should trip, for what the last fault put out or for a given multiple.
fn band_of(
    of: &Name,
    multiple: Option<&Expr>,
    span: &Range<usize>,
    scene: &Scene,
) -> Result<Band, Problem> {
    let asset = &scene.context.asset;
    let not_tested = |why: String| Ok(Band::Without(Judgement::new(Verdict::NotTested, why)));
    if let Some(element) = asset.element(of.as_str()) {
        if !element.enabled {
            return Ok(Band::Without(untested::switched_off(of)));
        }
        let trip = element.trip.clone();
        if let Some(band) = element.once_picked_up() {
            return Ok(Band::Known(band, trip, Slope::new()));
        }
        if let Some(multiple) = multiple {
            let Some(multiple) = super::known(multiple, Dimension::NUMBER, scene)? else {
                return Ok(Band::Later);
            };
            let slope = match faulted(span, scene) {
                Ok(Faulted::Stimulus(fault)) => {
                    slope_of(&fault, scene, |factor| element.required_at(multiple * factor))
                }
                _ => Slope::new(),
            };
            return Ok(Band::Known(element.required_at(multiple), trip, slope));
        }
        return Ok(match faulted(span, scene)? {
            Faulted::Stimulus(fault) => {
                let slope = slope_of(&fault, scene, |factor| {
                    element.required(&fault.with_currents(factor))
                });
                Band::Known(element.required(&fault), trip, slope)
            }
            Faulted::Later => Band::Later,
            Faulted::Lost(judged) => Band::Without(judged),
        });
    }
    if scene.context.is_contact(of.as_str()) {
        let fault = match faulted(span, scene)? {
            Faulted::Stimulus(fault) => fault,
            Faulted::Later => return Ok(Band::Later),
            Faulted::Lost(judged) => return Ok(Band::Without(judged)),
        };
        if asset.tripping(of).next().is_none() {
            return not_tested(format!("nothing that is switched on closes `{of}`"));
        }
        let required = |out: &Stimulus| earliest_of(asset.tripping(of).map(|e| e.required(out)));
        let slope = slope_of(&fault, scene, |factor| required(&fault.with_currents(factor)));
        return Ok(Band::Known(required(&fault), of.clone(), slope));
    }
    Err(scene.context.no_element(of, span))
}

/// How far what makes the currents uncertain that are out moves an expected time, which is this for so many times them.
fn slope_of(stimulus: &Stimulus, scene: &Scene, required: impl Fn(f64) -> Acceptance) -> Slope {
    let capability = &scene.context.capability;
    let share = capability.share_of(stimulus, Dimension::CURRENT).unwrap_or(0.0);
    if share <= 0.0 {
        return Slope::new();
    }
    let slope = spread(|factor| required(factor).expected, share).si() / share;
    let causes = capability.causes_of(stimulus, Dimension::CURRENT).into_iter();
    causes.map(|(cause, by)| (cause, by * slope)).collect()
}

/// What moves a time that is held against `curve(…)`, as it would against the band of the same element.
pub(super) fn along_curve(expected: &Expr, scene: &Scene) -> Slope {
    let Some((of, multiple, span)) = curve_in(expected) else { return Slope::new() };
    let Some(of) = scene.context.name_argument(of) else { return Slope::new() };
    match band_of(&of, multiple, span, scene) {
        Ok(Band::Known(_, _, slope)) => slope,
        _ => Slope::new(),
    }
}

/// The element, and the multiple, of a curve in an expression.
fn curve_in(expr: &Expr) -> Option<(&Expr, Option<&Expr>, &Range<usize>)> {
    match &expr.kind {
        ExprKind::Call(name, args) if name.as_str() == "curve" => match args.as_slice() {
            [of, rest @ ..] => Some((of, rest.first(), &expr.span)),
            [] => None,
        },
        ExprKind::Call(_, args) | ExprKind::List(args) => args.iter().find_map(curve_in),
        ExprKind::Unary(_, of) => curve_in(of),
        ExprKind::Binary(_, a, b) => curve_in(a).or_else(|| curve_in(b)),
        _ => None,
    }
}

/// A time against a band.
pub(super) fn band(
    value: &Expr,
    of: &Name,
    multiple: Option<&Expr>,
    span: &Range<usize>,
    scene: &Scene,
) -> Result<Outcome, Problem> {
    let found = find(value, scene)?;
    if dimension_of(&found) != Dimension::TIME && !matches!(found, Found::Any) {
        return Err(wrong_kind(value, &Type::Quantity(dimension_of(&found)), Dimension::TIME));
    }
    let mut outcome = Outcome::new(Criterion::TRIP_TIME, later());
    let (band, contact, slope) = match band_of(of, multiple, span, scene)? {
        Band::Known(band, contact, slope) => (band, contact, slope),
        Band::Later => return Ok(outcome),
        Band::Without(judged) => return Ok(Outcome { judged, ..outcome }),
    };
    if !scene.context.capability.sees(&contact) {
        outcome.judged = untested::not_wired(&contact);
        return Ok(outcome);
    }
    outcome.expected = Values::none().with_some("time", band.expected);
    outcome.limits = Limits::Operation { earliest: band.earliest, latest: band.latest };
    if band.earliest.is_none() {
        (outcome.criterion, outcome.limits) = (Criterion::NO_OPERATION, Limits::NoOperation);
    }
    match found {
        Found::Later(_) | Found::Any => {}
        Found::Known(measured) => {
            let t = Time::from_si(measured.value.si);
            outcome.judged = judge_trip_time(&band, TripOutcome::Operated(t));
            outcome.measured = Values::none().with("time", t);
            if let Some(expected) = band.expected {
                outcome.deviation = Values::none().with("time", t - expected);
                if expected.si() > 0.0 {
                    let share = ((t - expected) / expected).value;
                    outcome.deviation = outcome.deviation.with_percent("time", share);
                }
            }
            outcome.estimate = measured.estimate.map(|time| time.with_shares(slope, 1.0));
        }
        Found::Missing(missing) => outcome.judged = waited(&band, value, &missing, scene),
    }
    Ok(outcome)
}

/// What else may close the contact before the function under test must have, where that is known: a
/// time within its band need not be its own.
pub(crate) fn rival(expect: &Expect, scene: &Scene) -> Option<Problem> {
    let Requirement::Band(_, of, None, span) = &expect.what else { return None };
    let Ok(Faulted::Stimulus(fault)) = faulted(&span.0, scene) else { return None };
    let asset = &scene.context.asset;
    let element = asset.element(of.as_str())?;
    let (trip, own) = (&element.trip, element.required(&fault));
    let injection = scene.injection()?;
    let waited = injection.fault.and_then(|i| injection.program.segments.get(i)?.longest());
    let until = own.latest.or(waited)?;
    let rivals = asset.rivals(trip, of, &fault);
    let (id, other) =
        rivals.iter().find(|(_, other)| other.earliest.is_some_and(|t| t <= until))?;
    let from = other.earliest.map(text).unwrap_or_default();
    let message = format!("{id} may operate from {from} on, on the same contact `{trip}`");
    Some(Problem::new(span.0.clone(), message).help(format!(
        "`band({trip})` grades whatever closes the contact first; a time of {id} would be taken for one of {of}"
    )))
}

/// The contact did not operate: after how long a wait, or was it closed before?
fn waited(band: &Acceptance, value: &Expr, missing: &Missing, scene: &Scene) -> Judgement {
    let otherwise = || Judgement::new(verdict_of(missing.fails), missing.why.as_str());
    let ExprKind::Interval(from, to) = &value.kind else { return otherwise() };
    let Event::Contact { signal, closes: true, which: Which::First } = &**to else {
        return otherwise();
    };
    let Some(injection) = scene.injection() else { return otherwise() };
    match awaited(injection, from, signal) {
        Some(Ok(TripOutcome::Waited(t))) if t <= seconds(0.0) => {
            Judgement::new(Verdict::Inconclusive, "nothing was put out")
        }
        Some(Ok(outcome @ TripOutcome::Waited(_))) => judge_trip_time(band, outcome),
        Some(Err(judged)) => judged,
        _ => otherwise(),
    }
}

/// How long a contact was waited for: up to the end of the fault, or of the whole injection.
fn awaited(
    injection: &Injection,
    from: &Event,
    contact: &Name,
) -> Option<Result<TripOutcome, Judgement>> {
    let observation = injection.observation.as_ref()?;
    let start = Scene::moment(injection, observation, from, None).ok()??;
    let fault = injection.fault.and_then(|i| observation.segments.get(i)).map(|s| s.end);
    let end = fault.unwrap_or_else(|| observation.length());
    Some(waltron_core::procedure::seen_trip(observation, contact, start, end))
}

/// The time that a fault is likely to last, by the settings of what should trip.
pub(crate) fn likely_fault(built: &Built, scene: &Scene) -> Option<Time> {
    let segment = built.program.segments.get(built.fault?)?;
    let stimulus = segment.profile.last();
    let required = scene.context.asset.enabled().map(|e| e.required(&stimulus));
    let expected = required.filter_map(|band| band.expected).reduce(Time::min)?;
    Some(expected.min(segment.longest().unwrap_or(seconds(0.0))))
}
