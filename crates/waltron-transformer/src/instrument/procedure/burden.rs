//! The burden: a current through what is connected to the secondary, and the voltage at it.

use super::places::{spots, wanted};
use crate::instrument::asset::{InstrumentTransformer, Kind, Spot, Wanted};
use crate::measure::{between, current, injected, point, probe, shown};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, Values, Verdict, judge_between,
};
use waltron_core::injection::measuring::Property;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::procedure::{Bench, Measuring, Planned, PlannedPoint, SetupError, Shot, Shots};
use waltron_core::procedure::{FamilyKeys, Method, TestHead};
use waltron_core::quantity::{Current, Dimension, Measure, Quantity, Time, seconds, significant};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText, Text};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Estimate;

/// What is connected lies between a quarter of the rated burden and all of it.
const BURDEN: Criterion = Criterion::named("burden");

/// The least burden at which a class holds, as a share of the rated one (IEC 61869-2:2012, 5.6.201).
const LEAST: f64 = 0.25;

/// What is connected to the secondary: impedance, power factor, and VA at the rated current.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct BurdenKeys {
    /// The current through it; the rated secondary current if not given.
    current: Option<QuantityText<Current>>,
    /// How long; 2 s if not given.
    time: Option<QuantityText<Time>>,
    /// Of this phase only.
    phase: Option<Text>,
    /// Of this core only.
    core: Option<Text>,
    /// At this tap only; at the whole winding if not given.
    tap: Option<Text>,
}

/// A burden test with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct BurdenTest {
    test: Name,
    current: Option<Current>,
    time: Time,
    wanted: Wanted,
}

impl FamilyKeys for BurdenKeys {
    type Family = InstrumentTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &InstrumentTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        if of.kind == Kind::Voltage {
            let why = "the burden of current transformers is measured so";
            problems.push(Problem::new(head.id.span(), why));
            return None;
        }
        let current = match &self.current {
            Some(current) => Some(current.positive(problems)?),
            None => None,
        };
        let time = self.time.as_ref().map_or(Some(seconds(2.0)), |t| t.positive(problems));
        let (phase, core, tap) = (self.phase.as_ref(), self.core.as_ref(), self.tap.as_ref());
        let wanted = wanted(phase, core, tap, head, of, problems)?;
        Some(Arc::new(BurdenTest { test: head.name(), current, time: time?, wanted }))
    }
}

impl Measuring for BurdenTest {
    const WORD: &'static str = "burden";

    fn shots(&self, bench: Bench<'_>) -> Result<Shots, SetupError> {
        let (of, spots) = spots(bench.asset, &self.wanted)?;
        // A burden hangs on the tap that is in service: of several the whole winding's.
        let whole = |spot: &&Spot| {
            self.wanted.tap.is_some() || std::ptr::eq(of.tap(spot), of.secondary(spot).whole())
        };
        let shots = spots.iter().filter(whole).map(|spot| self.shot(of, spot, bench));
        Ok(Shots::new(shots.collect::<Result<_, _>>()?))
    }
}

impl BurdenTest {
    fn shot(
        &self,
        of: &InstrumentTransformer,
        spot: &Spot,
        bench: Bench<'_>,
    ) -> Result<Shot, SetupError> {
        let rig = bench.capability;
        let frequency = bench.frequency()?;
        let rated_a = of.secondary(spot).secondary.si;
        let amps = self.current.unwrap_or(Current::from_si(rated_a));
        let out = current(rig, "burden current", amps, frequency)?;
        let sides = ["burden voltage", "burden current"];
        let impedance = probe(rig, &sides, Property::Phasor)?;
        let mut program = Program::of(vec![Segment::hold("burden", out, self.time)]);
        program.reads = vec![
            probe(rig, &sides[..1], Property::Phasor)?,
            probe(rig, &sides[1..], Property::Phasor)?,
            impedance.clone(),
        ];
        program.connection = spot.connection.clone();
        let stimulus = Values::none().with("current", amps);
        let rated = of.tap(spot).burden_va;
        let limits = rated.map_or(Limits::None, |va| between((LEAST * va, va), Dimension::POWER));
        let of_place = point(&self.test, &format!("{}burden", spot.prefix));
        let planned = Planned {
            points: vec![PlannedPoint::certain(of_place.clone(), BURDEN)],
            stimulus: stimulus.clone(),
            expected: Values::none(),
            limits: limits.clone(),
            program: Arc::new(program),
            likely: self.time,
            place: None,
            not_tested: None,
            is_exact: true,
            also: Vec::new(),
        };
        let grade = move |seen: &Observation| {
            let found = injected(of_place.clone(), BURDEN, &stimulus);
            let found = Finding { limits: limits.clone(), ..found };
            vec![match shown(seen, &impedance) {
                Err(why) => found.judged(Judgement::new(Verdict::Inconclusive, why)),
                Ok(read) => {
                    graded(found, &read.estimate(), read.angle.unwrap_or_default(), rated_a)
                }
            }]
        };
        Ok(Shot { planned, grade: Arc::new(grade) })
    }
}

fn graded(found: Finding, ohms: &Estimate, angle: f64, rated_a: f64) -> Finding {
    let square = rated_a * rated_a;
    let burden = ohms.clone().times(square);
    let ohms = ohms.value;
    let va = |si: f64| Quantity { si, dimension: Dimension::POWER };
    let measured = va(burden.value);
    let side = if angle >= 0.0 { "lagging" } else { "leading" };
    let z = Quantity { si: ohms, dimension: Dimension::RESISTANCE };
    let told = format!("{z}, power factor {} {side}", significant(angle.cos().abs(), 4));
    let mut judged = match (found.limits.lower(), found.limits.upper()) {
        (Some(low), Some(high)) => judge_between(measured, low, high),
        _ => Judgement::new(Verdict::Measured, "the nameplate tells no rated burden"),
    };
    judged.reason = match judged.verdict {
        Verdict::Pass => format!("between a quarter of the rated burden and all of it; {told}"),
        _ => format!("{}; {told}", judged.reason),
    };
    let measured = Values::none()
        .with_quantity("burden", measured)
        .with_quantity("impedance", z)
        .with_quantity("power_factor", Quantity::number(angle.cos()));
    Finding { measured, ..found }.uncertain(&burden).judged(judged)
}
