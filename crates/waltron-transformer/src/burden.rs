//! The burden: a current through what is connected to the secondary, and the voltage at it.

use crate::asset::Kind;
use crate::measure::{between, current, injected, point, probe, shown, transformer};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, Values, Verdict, judge_between,
};
use waltron_core::injection::measuring::Property;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::procedure::{Bench, Measuring, Planned, PlannedPoint, SetupError, Shot, Shots};
use waltron_core::procedure::{Method, TestHead, TestKeys};
use waltron_core::quantity::{Current, Dimension, Measure, Quantity, Time, seconds, significant};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText};
use waltron_core::text::name::Name;

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
}

/// A burden test with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct BurdenTest {
    test: Name,
    current: Current,
    time: Time,
}

impl TestKeys for BurdenKeys {
    fn read(
        &self,
        head: TestHead<'_>,
        asset: &Asset,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let of = transformer(asset).map_err(|error| error.to_string());
        let of = of.and_then(|of| match of.kind {
            Kind::Current => Ok(of),
            Kind::Voltage => Err("the burden of current transformers is measured so".to_owned()),
        });
        let of = match of {
            Ok(of) => of,
            Err(why) => {
                problems.push(Problem::new(head.id.span(), why));
                return None;
            }
        };
        let rated = Current::from_si(of.secondary.si);
        let current = self.current.as_ref().map_or(Some(rated), |c| c.positive(problems));
        let time = self.time.as_ref().map_or(Some(seconds(2.0)), |t| t.positive(problems));
        Some(Arc::new(BurdenTest { test: head.name(), current: current?, time: time? }))
    }
}

impl Measuring for BurdenTest {
    const WORD: &'static str = "burden";

    fn shots(&self, bench: Bench<'_>) -> Result<Shots, SetupError> {
        let (of, rig) = (transformer(bench.asset)?, bench.capability);
        let frequency = bench.frequency()?;
        let out = current(rig, "burden current", self.current, frequency)?;
        let sides = ["burden voltage", "burden current"];
        let impedance = probe(rig, &sides, Property::Phasor)?;
        let mut program = Program::of(vec![Segment::hold("burden", out, self.time)]);
        program.reads = vec![
            probe(rig, &sides[..1], Property::Phasor)?,
            probe(rig, &sides[1..], Property::Phasor)?,
            impedance.clone(),
        ];
        let stimulus = Values::none().with("current", self.current);
        let rated = of.burden_va;
        let limits = rated.map_or(Limits::None, |va| between((LEAST * va, va), Dimension::POWER));
        let (test, rated_a) = (self.test.clone(), of.secondary.si);
        let planned = Planned {
            points: vec![PlannedPoint::certain(point(&test, "burden"), BURDEN)],
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
            let found = injected(point(&test, "burden"), BURDEN, &stimulus);
            let found = Finding { limits: limits.clone(), ..found };
            vec![match shown(seen, &impedance) {
                Err(why) => found.judged(Judgement::new(Verdict::Inconclusive, why)),
                Ok(read) => {
                    let (z, angle) = (read.value, read.angle.unwrap_or_default());
                    graded(found, z, angle, read.u, rated_a)
                }
            }]
        };
        Ok(Shots::new(vec![Shot { planned, grade: Arc::new(grade) }]))
    }
}

fn graded(found: Finding, ohms: f64, angle: f64, u: Option<f64>, rated_a: f64) -> Finding {
    let square = rated_a * rated_a;
    let va = |si: f64| Quantity { si, dimension: Dimension::POWER };
    let measured = va(ohms * square);
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
    let uncertainty = match u {
        Some(u) => Values::none().with_quantity("u", va(u * square)),
        None => Values::none(),
    };
    let measured = Values::none()
        .with_quantity("burden", measured)
        .with_quantity("impedance", z)
        .with_quantity("power_factor", Quantity::number(angle.cos()));
    Finding { measured, uncertainty, ..found }.judged(judged)
}
