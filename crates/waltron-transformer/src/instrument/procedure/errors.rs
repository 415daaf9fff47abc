//! Ratio error and phase displacement by primary injection, at several currents, with the burden on.

use super::excitation::of_current;
use super::places::{spots, wanted};
use super::primary;
use crate::instrument::analysis::Class;
use crate::instrument::asset::{InstrumentTransformer, Spot, Wanted};
use crate::measure::{injected, point, probe, shown};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, PointId, Value, Values, Verdict,
};
use waltron_core::injection::measuring::Property;
use waltron_core::injection::observation::Observation;
use waltron_core::procedure::{Bench, Measuring, Planned, PlannedPoint, SetupError, Shot, Shots};
use waltron_core::procedure::{FamilyKeys, Method, TestHead};
use waltron_core::quantity::{Current, Measure, Time, seconds, significant};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText, Text};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Estimate;

/// The errors at a current.
const ERRORS: Criterion = Criterion::named("errors");

/// The primary fed with currents: ratio error and phase displacement with the burden that is connected;
/// held against the class where its table has that current.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ErrorsKeys {
    /// Primary currents, such as `["60 A", "600 A"]`.
    at: Vec<QuantityText<Current>>,
    /// How long each; 2 s if not given.
    time: Option<QuantityText<Time>>,
    /// Of this phase only.
    phase: Option<Text>,
    /// Of this core only.
    core: Option<Text>,
    /// At this tap only; at the whole winding if not given.
    tap: Option<Text>,
}

/// A test of errors with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct ErrorsTest {
    test: Name,
    at: Vec<Current>,
    time: Time,
    wanted: Wanted,
}

impl FamilyKeys for ErrorsKeys {
    type Family = InstrumentTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &InstrumentTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        of_current(head, of, problems)?;
        let at: Vec<Option<Current>> = self.at.iter().map(|f| f.positive(problems)).collect();
        let at: Vec<Current> = at.into_iter().collect::<Option<_>>()?;
        if at.is_empty() {
            problems.push(Problem::new(head.id.span(), "`at` needs a current"));
            return None;
        }
        let time = self.time.as_ref().map_or(Some(seconds(2.0)), |t| t.positive(problems));
        let (phase, core, tap) = (self.phase.as_ref(), self.core.as_ref(), self.tap.as_ref());
        let wanted = wanted(phase, core, tap, head, of, problems)?;
        Some(Arc::new(ErrorsTest { test: head.name(), at, time: time?, wanted }))
    }
}

impl Measuring for ErrorsTest {
    const WORD: &'static str = "errors";

    fn shots(&self, bench: Bench<'_>) -> Result<Shots, SetupError> {
        let (of, spots) = spots(bench.asset, &self.wanted)?;
        let whole = |spot: &&Spot| {
            self.wanted.tap.is_some() || std::ptr::eq(of.tap(spot), of.secondary(spot).whole())
        };
        let mut shots = Vec::new();
        for spot in spots.iter().filter(whole) {
            for at in &self.at {
                shots.push(self.shot(of, spot, *at, bench)?);
            }
        }
        Ok(Shots::new(shots))
    }

    fn first_see_to(&self) -> Vec<String> {
        vec![
            "Close the secondary over its burden, and short the secondaries of the other cores: none may be open while the primary is fed".to_owned(),
        ]
    }
}

/// What a class allows at a share of the rated current: ratio error, minutes.
fn allowed(class: Option<Class>, extended: f64, share: f64) -> Option<(f64, Option<f64>)> {
    let near = |row: f64| (share / row - 1.0).abs() < 0.02;
    match class? {
        Class::Measuring(class) => {
            let rows = class.rows(extended);
            let row = rows.iter().find(|row| near(row.share))?;
            Some((row.ratio, row.minutes))
        }
        Class::Protection { percent: 5, .. } if near(1.0) => Some((0.01, Some(60.0))),
        Class::Protection { .. } if near(1.0) => Some((0.03, None)),
        _ => None,
    }
}

impl ErrorsTest {
    fn shot(
        &self,
        of: &InstrumentTransformer,
        spot: &Spot,
        at: Current,
        bench: Bench<'_>,
    ) -> Result<Shot, SetupError> {
        let rig = bench.capability;
        let rated = of.secondary(spot).ratio(of.tap(spot)).ok_or_else(|| {
            SetupError::Unknown("nothing says what the primary is rated for".to_owned())
        })?;
        let sides = ["secondary current", "primary current"];
        let whole = probe(rig, &sides, Property::Phasor)?;
        let mut program = primary::fed(rig, ("errors", at, self.time), rated, bench.frequency()?)?;
        program.reads = vec![
            probe(rig, &sides[..1], Property::Phasor)?,
            probe(rig, &sides[1..], Property::Phasor)?,
            whole.clone(),
        ];
        program.connection = spot.connection.clone();
        let stimulus = Values::none().with("current", at);
        let name = |what: &str| -> PointId {
            let amps = waltron_core::quantity::text(at).replace(' ', "");
            point(&self.test, &format!("{}{amps}/{what}", spot.prefix))
        };
        let points = [name("ratio-error"), name("phase")];
        let tap = of.tap(spot);
        let share = tap.primary.map_or(0.0, |p| at.si() / p.si);
        let limits = allowed(tap.class, tap.extended, share);
        let planned = Planned {
            points: points.iter().map(|p| PlannedPoint::certain(p.clone(), ERRORS)).collect(),
            stimulus: stimulus.clone(),
            expected: Values::none(),
            limits: Limits::None,
            program: Arc::new(program),
            likely: self.time,
            place: None,
            not_tested: None,
            is_exact: true,
            also: Vec::new(),
        };
        let fed = Arc::clone(&planned.program);
        let grade = move |seen: &Observation| {
            let [ratio, phase] = points.clone().map(|point| injected(point, ERRORS, &stimulus));
            if let Some(why) = primary::open_secondary(&fed, seen) {
                return open(ratio, phase, why);
            }
            let (read, angle) = match shown(seen, &whole) {
                // What is lost in the meters' uncertainty says nothing, of its angle neither.
                Ok(read) if read.u.is_some_and(|u| read.value <= u) => {
                    let why =
                        "too little was measured: the secondary is open, or its leads are off";
                    return open(ratio, phase, why.to_owned());
                }
                Ok(read) => (read.estimate(), read.angle_estimate()),
                Err(why) => return open(ratio, phase, why),
            };
            let Some(angle) = angle else {
                return open(ratio, phase, "there is no phase".to_owned());
            };
            let error = read.times(rated);
            let error = error.clone().function(error.value - 1.0, 1.0);
            let ratio = judged(
                ratio,
                (&error, Value::Percent),
                limits.map(|(ratio, _)| Value::Percent(ratio)),
            );
            let minutes = limits.and_then(|(_, minutes)| minutes);
            let phase = judged(
                phase,
                (&angle, Value::Minutes),
                minutes.map(|m| Value::Minutes((m / 60.0).to_radians())),
            );
            vec![ratio, phase]
        };
        Ok(Shot { planned, grade: Arc::new(grade) })
    }
}

fn open(ratio: Finding, phase: Finding, why: String) -> Vec<Finding> {
    let open = Judgement::new(Verdict::Inconclusive, why);
    vec![ratio.judged(open.clone()), phase.judged(open)]
}

/// A value against a limit on both sides.
fn judged(
    found: Finding,
    (estimate, of): (&Estimate, fn(f64) -> Value),
    most: Option<Value>,
) -> Finding {
    let value = of(estimate.value);
    let opposite = |value: Value| match value {
        Value::Percent(si) => Value::Percent(-si),
        Value::Minutes(si) => Value::Minutes(-si),
        Value::Plain(q) => Value::Plain(waltron_core::quantity::Quantity { si: -q.si, ..q }),
    };
    let name = if matches!(value, Value::Minutes(_)) { "phase" } else { "error" };
    let measured = Values::none().with_value(name, value);
    let Some(most) = most else {
        let why = "the class says nothing at this current";
        let found = Finding { measured, ..found }.uncertain(estimate);
        return found.judged(Judgement::new(Verdict::Measured, why));
    };
    let limits = Limits::Between { lower: Some(opposite(most)), upper: Some(most) };
    let margin = 1.0 - value.si().abs() / most.si();
    let told = format!("margin {} %", significant(margin * 100.0, 2));
    // What is no number is within no limit.
    let judged = match value.si().abs() <= most.si() {
        true => Judgement::new(Verdict::Pass, told),
        false => Judgement::new(Verdict::Fail, format!("outside the class: {told}")),
    };
    Finding { measured, limits, ..found }.uncertain(estimate).judged(judged)
}
