//! The secondary winding's resistance: a direct current, four wires, until the value is steady; then the
//! winding is discharged, and that is waited for.

use crate::asset::celsius;
use crate::measure::{between, direct, injected, of, point, probe, transformer};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, Values, Verdict, judge_between,
};
use waltron_core::injection::measuring::{Property, Read, When};
use waltron_core::injection::observation::{Ended, Observation};
use waltron_core::injection::program::{Condition, Program, Relation, Segment, Stop, Then};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Bench, Measuring, Planned, PlannedPoint, SetupError, Shot, Shots};
use waltron_core::procedure::{Method, TestHead, TestKeys};
use waltron_core::quantity::{Current, Dimension, Measure, Quantity, Ratio, Time, seconds, text};
use waltron_core::text::document::{AnyQuantityText, Field, Problem, Problems, QuantityText};
use waltron_core::text::name::Name;

/// The resistance lies within its tolerance.
const RESISTANCE: Criterion = Criterion::named("resistance");

/// The share of the current below which a winding is discharged.
const DISCHARGED: f64 = 0.01;

/// A direct current until the resistance is steady, then discharged; told at the reference temperature.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ResistanceKeys {
    /// The current; a tenth of the rated secondary current if not given, 0.1 A of a voltage transformer.
    current: Option<QuantityText<Current>>,
    /// The winding's temperature, such as `23 degC`.
    temperature: AnyQuantityText,
    /// The band in which the value must stay, as a share of it; `0.1 %` if not given.
    steady: Option<QuantityText<Ratio>>,
    /// For how long; 3 s if not given.
    steady_for: Option<QuantityText<Time>>,
    /// The longest that is waited for that, and for the discharge; 2 min if not given.
    at_most: Option<QuantityText<Time>>,
}

/// A resistance test with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct ResistanceTest {
    test: Name,
    current: Current,
    temperature_k: f64,
    steady: f64,
    steady_for: Time,
    at_most: Time,
}

impl TestKeys for ResistanceKeys {
    fn read(
        &self,
        head: TestHead<'_>,
        asset: &Asset,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let transformer = match transformer(asset) {
            Ok(transformer) => transformer,
            Err(error) => {
                problems.push(Problem::new(head.id.span(), error.to_string()));
                return None;
            }
        };
        let rated = transformer.secondary;
        let usual = if rated.dimension == Dimension::CURRENT { rated.si / 10.0 } else { 0.1 };
        let time = |field: &Option<QuantityText<Time>>, usual, problems: &mut Problems| {
            field.as_ref().map_or(Some(seconds(usual)), |t| t.positive(problems))
        };
        let current = self.current.as_ref();
        let current = current.map_or(Some(Current::from_si(usual)), |c| c.positive(problems));
        let temperature = self.temperature.positive_of(Dimension::TEMPERATURE, problems);
        let steady =
            self.steady.as_ref().map_or(Some(1e-3), |s| s.positive(problems).map(|s| s.value));
        let steady_for = time(&self.steady_for, 3.0, problems);
        let at_most = time(&self.at_most, 120.0, problems);
        let (steady_for, at_most) = (steady_for?, at_most?);
        if steady_for >= at_most {
            let place = self.steady_for.as_ref().map_or_else(|| head.id.span(), Field::span);
            let message = format!(
                "steady for {} cannot come true within {}",
                text(steady_for),
                text(at_most)
            );
            problems.push(Problem::new(place, message));
            return None;
        }
        Some(Arc::new(ResistanceTest {
            test: head.name(),
            current: current?,
            temperature_k: temperature?.si,
            steady: steady?,
            steady_for,
            at_most,
        }))
    }
}

impl Measuring for ResistanceTest {
    const WORD: &'static str = "resistance";

    fn shots(&self, bench: Bench<'_>) -> Result<Shots, SetupError> {
        let (transformer, rig) = (transformer(bench.asset)?.clone(), bench.capability);
        let frequency = bench.asset.ratings.frequency.unwrap_or_default();
        let out = direct(rig, "secondary current", self.current, frequency)?;
        let sides = ["secondary voltage", "secondary current"];
        let resistance = probe(rig, &sides, Property::Dc)?;
        let flowing = probe(rig, &sides[1..], Property::Dc)?;
        let next = |when| Stop { when, then: Then::Next };
        let stable = Condition::Stable {
            probe: resistance.clone(),
            within: self.steady,
            time: self.steady_for,
        };
        // Of either sign: a meter that is connected the wrong way round must not tell a charged winding
        // for a discharged one.
        let limit = self.current.si() * DISCHARGED;
        let below =
            |relation, limit_si| Condition::Reading { probe: flowing.clone(), relation, limit_si };
        let gone =
            Condition::All(vec![below(Relation::AtMost, limit), below(Relation::AtLeast, -limit)]);
        let mut charge = Segment::hold("charge", out, self.at_most).until(next(stable));
        let of = [probe(rig, &sides[..1], Property::Dc)?, flowing, resistance.clone()];
        charge.reads = of.map(|probe| Read { probe, when: When::EachLevel }).to_vec();
        let discharge = Segment::hold("discharge", Stimulus::off(), self.at_most).until(next(gone));
        let stimulus = Values::none().with("current", self.current);
        let ohms = |si: f64| Quantity { si, dimension: Dimension::RESISTANCE };
        let limits = transformer.winding.map_or(Limits::None, |winding| {
            let limits = transformer.resistance_tolerance.limits(winding.resistance_ohm);
            between(limits, Dimension::RESISTANCE)
        });
        let expected = match transformer.winding {
            Some(winding) => {
                Values::none().with_quantity("resistance", ohms(winding.resistance_ohm))
            }
            None => Values::none(),
        };
        let planned = Planned {
            points: vec![PlannedPoint::certain(point(&self.test, "resistance"), RESISTANCE)],
            stimulus: stimulus.clone(),
            expected: expected.clone(),
            limits: limits.clone(),
            program: Arc::new(Program::of(vec![charge, discharge])),
            // A winding charges for about as long as it is then watched, and discharges as long again.
            likely: self.steady_for * 4.0,
            place: None,
            not_tested: None,
            is_exact: true,
            also: Vec::new(),
        };
        let (this, material) = (self.clone(), transformer.material);
        let reference_k = transformer.reference_k;
        let grade = move |seen: &Observation| {
            let found = injected(point(&this.test, "resistance"), RESISTANCE, &stimulus);
            let found = Finding { expected: expected.clone(), limits: limits.clone(), ..found };
            let factor = material.factor(this.temperature_k, reference_k);
            vec![this.graded(found, seen, &resistance, (factor, reference_k))]
        };
        Ok(Shots::new(vec![Shot { planned, grade: Arc::new(grade) }]))
    }

    fn first_see_to(&self) -> Vec<String> {
        vec![
            "Connect current and voltage to the winding by wires of their own (four wires)"
                .to_owned(),
        ]
    }
}

impl ResistanceTest {
    fn graded(
        &self,
        found: Finding,
        seen: &Observation,
        resistance: &waltron_core::injection::measuring::Probe,
        (factor, reference_k): (f64, f64),
    ) -> Finding {
        let open =
            |found: Finding, why: String| found.judged(Judgement::new(Verdict::Inconclusive, why));
        let read = seen.in_segment(0, resistance).last().map(of);
        let read = match read {
            Some(Ok(read)) => read,
            Some(Err(why)) => return open(found, why),
            None => return open(found, "the resistance was not measured".to_owned()),
        };
        let ohms = |si: f64| Quantity { si, dimension: Dimension::RESISTANCE };
        let value = ohms(read.value * factor);
        let uncertainty = match read.u {
            Some(u) => Values::none().with_quantity("u", ohms(u * factor)),
            None => Values::none(),
        };
        let measured = Values::none()
            .with_quantity("resistance", value)
            .with_quantity("as_measured", ohms(read.value));
        let deviation = match found.expected.get("resistance") {
            Some(expected) => Values::none().with_percent("resistance", value.si / expected - 1.0),
            None => Values::none(),
        };
        let limits = (found.limits.lower(), found.limits.upper());
        let found = Finding { measured, uncertainty, deviation, ..found };
        let ended = seen.segments.first().map(|s| s.ended);
        if ended != Some(Ended::Stop(0)) {
            let (within, time) = (self.steady * 100.0, text(self.at_most));
            let within = waltron_core::quantity::significant(within, 3);
            return open(found, format!("not steady within {within} % after {time}"));
        }
        let mut judged = match limits {
            (Some(low), Some(high)) => judge_between(value, low, high),
            _ => Judgement::new(Verdict::Measured, "the file tells no value of the maker's"),
        };
        judged.reason.push_str(&format!(
            "; {} at {}, told at {}",
            ohms(read.value),
            celsius(self.temperature_k),
            celsius(reference_k)
        ));
        if seen.segments.get(1).map(|s| s.ended) != Some(Ended::Stop(0)) {
            // Whoever opens the circuit next must see it, however good the value is.
            judged.verdict = match judged.verdict {
                Verdict::Fail => Verdict::Fail,
                _ => Verdict::Inconclusive,
            };
            judged.reason.push_str(&format!(
                "; STILL CHARGED after {}: wait before the circuit is opened",
                text(self.at_most)
            ));
        }
        found.judged(judged)
    }
}
