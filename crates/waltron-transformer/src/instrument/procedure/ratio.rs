//! The ratio: one side fed, both sides read; with it the polarity.

use super::places::{spots, wanted};
use super::primary;
use crate::instrument::asset::{InstrumentTransformer, Kind, Spot, Wanted};
use crate::measure::{between, current, injected, point, probe, shown, voltage};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, Values, Verdict, judge_between,
};
use waltron_core::injection::measuring::{Property, words};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::procedure::{Bench, Measuring, Planned, PlannedPoint, SetupError, Shot, Shots};
use waltron_core::procedure::{FamilyKeys, Method, TestHead};
use waltron_core::quantity::{Current, Dimension, Measure, Quantity, Time, Voltage, seconds};
use waltron_core::text::document::{AnyQuantityText, Field, Problem, Problems, QuantityText, Text};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Estimate;

/// The ratio lies within its tolerance.
pub(super) const RATIO: Criterion = Criterion::named("ratio");

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
    /// Of this phase only.
    phase: Option<Text>,
    /// Of this core, or winding, only.
    core: Option<Text>,
    /// At this tap only.
    tap: Option<Text>,
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
    /// As the plan gives it; else by the place.
    level: Option<Quantity>,
    time: Time,
    wanted: Wanted,
}

impl FamilyKeys for RatioKeys {
    type Family = InstrumentTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &InstrumentTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let by_current = self.by == Some(ByForm::Current);
        if by_current && of.kind == Kind::Voltage {
            let message = "a voltage transformer has no ratio of currents";
            let problem = Problem::new(head.id.span(), message);
            problems.push(problem.help("leave `by` out"));
            return None;
        }
        let dimension = if by_current { Dimension::CURRENT } else { Dimension::VOLTAGE };
        let level = match &self.level {
            Some(level) => Some(Some(level.positive_of(dimension, problems)?)),
            None => Some(None),
        };
        let (phase, core, tap) = (self.phase.as_ref(), self.core.as_ref(), self.tap.as_ref());
        let wanted = wanted(phase, core, tap, head, of, problems)?;
        if self.level.is_none() {
            for spot in of.spots(&wanted).unwrap_or_default() {
                if let Err(why) = usual(of, &spot, by_current) {
                    problems.push(
                        Problem::new(head.id.span(), why)
                            .help("give `level`, or `test_voltage` in the asset's `[[core]]`"),
                    );
                    return None;
                }
            }
        }
        let time = self.time.as_ref().map_or(Some(seconds(2.0)), |t| t.positive(problems));
        Some(Arc::new(RatioTest {
            test: head.name(),
            by_current,
            level: level?,
            time: time?,
            wanted,
        }))
    }
}

/// What is fed in where the plan does not say: half of the largest test voltage, or a tenth of the rated
/// primary value.
fn usual(of: &InstrumentTransformer, spot: &Spot, by_current: bool) -> Result<Quantity, String> {
    let tap = of.tap(spot);
    if of.kind == Kind::Current && !by_current {
        let volts = tap.test_voltage_v.map(|v| v / 2.0);
        let why = "nothing says which voltage the secondary withstands";
        return volts
            .map(|si| Quantity { si, dimension: Dimension::VOLTAGE })
            .ok_or_else(|| why.to_owned());
    }
    let tenth = |q: Quantity| Quantity { si: q.si / 10.0, ..q };
    tap.primary.map(tenth).ok_or_else(|| "nothing says what the primary is rated for".to_owned())
}

impl Measuring for RatioTest {
    const WORD: &'static str = "ratio";

    fn shots(&self, bench: Bench<'_>) -> Result<Shots, SetupError> {
        let (of, spots) = spots(bench.asset, &self.wanted)?;
        let shots = spots.iter().map(|spot| self.shot(of, spot, bench));
        Ok(Shots::new(shots.collect::<Result<_, _>>()?))
    }
}

impl RatioTest {
    fn shot(
        &self,
        of: &InstrumentTransformer,
        spot: &Spot,
        bench: Bench<'_>,
    ) -> Result<Shot, SetupError> {
        let rig = bench.capability;
        let frequency = bench.frequency()?;
        let usual = || {
            let level = usual(of, spot, self.by_current).map_err(SetupError::Unknown)?;
            // No more than the rig puts out and its meter shows.
            let fed = match (of.kind, self.by_current) {
                (Kind::Current, true) => "primary current",
                (Kind::Current, false) => "secondary voltage",
                (Kind::Voltage, _) => "primary voltage",
            };
            let currents = rig.currents.iter().find(|c| c.meaning == *fed).map(|c| c.range.si());
            let voltages = rig.voltages.iter().find(|c| c.meaning == *fed).map(|c| c.range.si());
            let meter = rig.meters.iter().find(|m| m.meaning == *fed).map(|m| m.range);
            let most = [currents, voltages, meter].into_iter().flatten();
            Ok(Quantity { si: most.fold(level.si, f64::min), ..level })
        };
        let level = self.level.map_or_else(usual, Ok)?;
        // The whole winding sees more than a tap of it is fed with.
        let tap = of.tap(spot);
        let is_part = !std::ptr::eq(tap, of.secondary(spot).whole());
        let withstands = tap.test_voltage_v.filter(|_| is_part && !self.by_current);
        if let Some(most) = withstands.filter(|most| level.si > most * (1.0 + 1e-9)) {
            let most = Quantity { si: most, dimension: Dimension::VOLTAGE };
            let place = spot.connection.as_ref().map_or("the winding", |c| c.as_str());
            let why = format!("{level} is more than the {most} that {place} withstands");
            return Err(SetupError::Unknown(why));
        }
        let volts = Voltage::from_si(level.si);
        let (out, sides) = match (of.kind, self.by_current) {
            (Kind::Current, true) => {
                let amps = Current::from_si(level.si);
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
        let rated = of.secondary(spot).ratio(of.tap(spot));
        let mut program = match (of.kind, rated) {
            (Kind::Current, Some(rated)) if self.by_current => {
                let amps = Current::from_si(level.si);
                primary::fed(rig, ("ratio", amps, self.time), rated, frequency)?
            }
            (Kind::Current, None) if self.by_current => {
                return Err(SetupError::Unknown(
                    "nothing says what the primary is rated for: whether the secondary is closed cannot be told".to_owned(),
                ));
            }
            _ => Program::of(vec![Segment::hold("ratio", out, self.time)]),
        };
        program.reads = each.into_iter().chain([whole.clone()]).collect();
        program.connection = spot.connection.clone();
        let program = Arc::new(program);
        let fed = if self.by_current { "current" } else { "voltage" };
        let stimulus = Values::none().with_quantity(fed, level);
        let ratio = of.secondary(spot).ratio(of.tap(spot));
        let expected = match ratio {
            Some(ratio) => Values::none().with_quantity("ratio", Quantity::number(ratio)),
            None => Values::none(),
        };
        let limits = ratio.map_or(Limits::None, |ratio| {
            between(of.ratio_tolerance.limits(ratio), Dimension::NUMBER)
        });
        let fed_program = Arc::clone(&program);
        let (test, prefix) = (self.test.clone(), spot.prefix.clone());
        let of_place = move |what: &str| point(&test, &format!("{prefix}{what}"));
        let points = [("ratio", RATIO), ("polarity", Criterion::CONDITION)];
        let planned = Planned {
            points: points
                .iter()
                .map(|(id, criterion)| PlannedPoint::certain(of_place(id), criterion.clone()))
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
            let ratio_found = injected(of_place("ratio"), RATIO, &stimulus);
            let polarity_found = injected(of_place("polarity"), Criterion::CONDITION, &stimulus);
            let ratio_found =
                Finding { expected: expected.clone(), limits: limits.clone(), ..ratio_found };
            let shown = match primary::open_secondary(&fed_program, seen) {
                Some(why) => Err(why),
                None => shown(seen, &whole),
            };
            match shown {
                Err(why) => vec![
                    ratio_found.judged(Judgement::new(Verdict::Inconclusive, why.clone())),
                    polarity_found.judged(Judgement::new(Verdict::Inconclusive, why)),
                ],
                Ok(read) => {
                    // Nothing has no angle, whatever is shown for one.
                    let angle = read.angle.filter(|_| read.value > read.u.unwrap_or(0.0));
                    vec![
                        graded_ratio(ratio_found, &read.estimate(), ratio),
                        graded_polarity(polarity_found, angle.and(read.angle_estimate())),
                    ]
                }
            }
        };
        Ok(Shot { planned, grade: Arc::new(grade) })
    }
}

pub(super) fn graded_ratio(found: Finding, ratio: &Estimate, expected: Option<f64>) -> Finding {
    let value = ratio.value;
    let measured = Quantity::number(value);
    let judged = match (found.limits.lower(), found.limits.upper()) {
        (Some(low), Some(high)) => judge_between(measured, low, high),
        _ => Judgement::new(Verdict::Measured, "the file tells no rated ratio"),
    };
    Finding {
        measured: Values::none().with_quantity("ratio", measured),
        deviation: match expected {
            Some(expected) => Values::none().with_percent("ratio", value / expected - 1.0),
            None => Values::none(),
        },
        ..found
    }
    .uncertain(ratio)
    .judged(judged)
}

/// The largest uncertainty of an angle that still tells a polarity, in radians: 30°.
const VAGUE: f64 = std::f64::consts::PI / 6.0;

pub(super) fn graded_polarity(found: Finding, angle: Option<Estimate>) -> Finding {
    // Of what is lost in the meters' uncertainty the angle may be any.
    let Some(estimate) = angle.filter(|angle| angle.expanded() < VAGUE) else {
        let why = "too little was measured to tell the angle between both sides";
        return found.judged(Judgement::new(Verdict::Inconclusive, why));
    };
    let angle = estimate.value;
    let degrees = Quantity { si: angle, dimension: Dimension::ANGLE };
    let told = words::polarity(angle);
    let verdict = match told.starts_with("in phase") {
        true => Verdict::Pass,
        false => Verdict::Fail,
    };
    Finding {
        measured: Values::none().with_quantity("angle", degrees),
        limits: Limits::None,
        ..found
    }
    .uncertain(&estimate)
    .judged(Judgement::new(verdict, told))
}
