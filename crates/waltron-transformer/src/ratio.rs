//! The ratio: one side fed, both sides read; with it the polarity.

use crate::asset::Kind;
use crate::measure::{between, current, injected, point, probe, shown, transformer, voltage};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, Values, Verdict, judge_between,
};
use waltron_core::injection::measuring::{Property, words};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::procedure::{Bench, Measuring, Planned, PlannedPoint, SetupError, Shot, Shots};
use waltron_core::procedure::{Method, TestHead, TestKeys};
use waltron_core::quantity::{Current, Dimension, Measure, Quantity, Time, Voltage, seconds};
use waltron_core::text::document::{AnyQuantityText, Field, Problem, Problems, QuantityText};
use waltron_core::text::name::Name;

/// The ratio lies within its tolerance.
const RATIO: Criterion = Criterion::named("ratio");

/// Both sides read: the ratio with its deviation from the nameplate, and the polarity.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RatioKeys {
    /// What is fed in: `voltage` (default; a current transformer's from its secondary with the primary
    /// open, a voltage transformer's from its primary) or `current` (a current transformer's primary).
    by: Option<ByForm>,
    /// How much; half of the largest test voltage, or a tenth of the rated primary value, if not given.
    level: Option<AnyQuantityText>,
    /// How long; 2 s if not given.
    time: Option<QuantityText<Time>>,
}

/// What is fed in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum ByForm {
    /// A voltage.
    Voltage,
    /// The primary current.
    Current,
}

/// A ratio test with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct RatioTest {
    test: Name,
    /// Whether the primary current is fed in.
    by_current: bool,
    level: Quantity,
    time: Time,
}

impl TestKeys for RatioKeys {
    fn read(
        &self,
        head: TestHead<'_>,
        asset: &Asset,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let of = match transformer(asset) {
            Ok(of) => of,
            Err(error) => {
                problems.push(Problem::new(head.id.span(), error.to_string()));
                return None;
            }
        };
        let by_current = self.by == Some(ByForm::Current);
        if by_current && of.kind == Kind::Voltage {
            let message = "a voltage transformer has no ratio of currents";
            let problem = Problem::new(head.id.span(), message);
            problems.push(problem.help("leave `by` out"));
            return None;
        }
        let dimension = if by_current { Dimension::CURRENT } else { Dimension::VOLTAGE };
        let usual = match (of.kind, by_current) {
            (Kind::Current, false) => of.test_voltage_v.map(|v| v / 2.0),
            _ => Some(of.primary.si / 10.0),
        };
        let level = match (&self.level, usual) {
            (Some(level), _) => level.positive_of(dimension, problems),
            (None, Some(si)) => Some(Quantity { si, dimension }),
            (None, None) => {
                let message = "nothing says which voltage the secondary withstands";
                problems.push(
                    Problem::new(head.id.span(), message)
                        .help("give `level`, or `test_voltage` in the asset's [ratings]"),
                );
                None
            }
        };
        let time = self.time.as_ref().map_or(Some(seconds(2.0)), |t| t.positive(problems));
        Some(Arc::new(RatioTest { test: head.name(), by_current, level: level?, time: time? }))
    }
}

impl Measuring for RatioTest {
    const WORD: &'static str = "ratio";

    fn shots(&self, bench: Bench<'_>) -> Result<Shots, SetupError> {
        let (of, rig) = (transformer(bench.asset)?.clone(), bench.capability);
        let frequency = bench.frequency()?;
        let volts = Voltage::from_si(self.level.si);
        let (out, sides) = match (of.kind, self.by_current) {
            (Kind::Current, true) => {
                let amps = Current::from_si(self.level.si);
                let out = current(rig, "primary current", amps, frequency)?;
                (out, ["primary current", "secondary current"])
            }
            (Kind::Current, false) => {
                let out = voltage(rig, "secondary voltage", volts, frequency)?;
                (out, ["secondary voltage", "primary voltage"])
            }
            (Kind::Voltage, _) => {
                let out = voltage(rig, "primary voltage", volts, frequency)?;
                (out, ["primary voltage", "secondary voltage"])
            }
        };
        let whole = probe(rig, &sides, Property::Phasor)?;
        let each = [
            probe(rig, &sides[..1], Property::Phasor)?,
            probe(rig, &sides[1..], Property::Phasor)?,
        ];
        let mut program = Program::of(vec![Segment::hold("ratio", out, self.time)]);
        program.reads = each.into_iter().chain([whole.clone()]).collect();
        let program = Arc::new(program);
        let fed = if self.by_current { "current" } else { "voltage" };
        let stimulus = Values::none().with_quantity(fed, self.level);
        let ratio = of.ratio();
        let expected = Values::none().with_quantity("ratio", Quantity::number(ratio));
        let limits = between(of.ratio_tolerance.limits(ratio), Dimension::NUMBER);
        let test = self.test.clone();
        let points = [("ratio", RATIO), ("polarity", Criterion::CONDITION)];
        let planned = Planned {
            points: points
                .iter()
                .map(|(id, criterion)| PlannedPoint::certain(point(&test, id), criterion.clone()))
                .collect(),
            stimulus: stimulus.clone(),
            expected: expected.clone(),
            limits: limits.clone(),
            program,
            likely: self.time,
            place: None,
            not_tested: None,
            is_exact: true,
            also: Vec::new(),
        };
        let grade = move |seen: &Observation| {
            let ratio_found = injected(point(&test, "ratio"), RATIO, &stimulus);
            let polarity_found =
                injected(point(&test, "polarity"), Criterion::CONDITION, &stimulus);
            let ratio_found =
                Finding { expected: expected.clone(), limits: limits.clone(), ..ratio_found };
            match shown(seen, &whole) {
                Err(why) => vec![
                    ratio_found.judged(Judgement::new(Verdict::Inconclusive, why.clone())),
                    polarity_found.judged(Judgement::new(Verdict::Inconclusive, why)),
                ],
                Ok(read) => {
                    vec![
                        graded_ratio(ratio_found, read.value, read.u, ratio),
                        graded_polarity(polarity_found, read.angle, read.angle_u),
                    ]
                }
            }
        };
        Ok(Shots::new(vec![Shot { planned, grade: Arc::new(grade) }]))
    }
}

fn graded_ratio(found: Finding, value: f64, u: Option<f64>, expected: f64) -> Finding {
    let measured = Quantity::number(value);
    let (low, high) = (found.limits.lower(), found.limits.upper());
    let judged =
        judge_between(measured, low.unwrap_or(f64::NEG_INFINITY), high.unwrap_or(f64::INFINITY));
    let uncertainty = match u {
        Some(u) => Values::none().with_quantity("u", Quantity::number(u)),
        None => Values::none(),
    };
    Finding {
        measured: Values::none().with_quantity("ratio", measured),
        deviation: Values::none().with_percent("ratio", value / expected - 1.0),
        uncertainty,
        ..found
    }
    .judged(judged)
}

/// The largest uncertainty of an angle that still tells a polarity, in radians: 30°.
const VAGUE: f64 = std::f64::consts::PI / 6.0;

fn graded_polarity(found: Finding, angle: Option<f64>, u: Option<f64>) -> Finding {
    // Of what is lost in the meters' uncertainty the angle may be any.
    let Some(angle) = angle.filter(|_| u.is_none_or(|u| u < VAGUE)) else {
        let why = "too little was measured to tell the angle between both sides";
        return found.judged(Judgement::new(Verdict::Inconclusive, why));
    };
    let degrees = Quantity { si: angle, dimension: Dimension::ANGLE };
    let uncertainty = match u {
        Some(si) => Values::none().with_quantity("u", Quantity { si, dimension: Dimension::ANGLE }),
        None => Values::none(),
    };
    let told = words::polarity(angle);
    let verdict = match told.starts_with("in phase") {
        true => Verdict::Pass,
        false => Verdict::Fail,
    };
    Finding {
        measured: Values::none().with_quantity("angle", degrees),
        limits: Limits::None,
        uncertainty,
        ..found
    }
    .judged(Judgement::new(verdict, told))
}
