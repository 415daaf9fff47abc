//! The secondary winding's resistance: a direct current, four wires, until the value is steady; then the
//! winding is discharged, and that is waited for.

use super::places::{spots, wanted};
use crate::instrument::analysis::Class;
use crate::instrument::asset::{InstrumentTransformer, Spot, Wanted};
use crate::material::{celsius, of_temperature};
use crate::measure::{between, direct, injected, of, point, probe};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, Values, Verdict, judge_between,
};
use waltron_core::injection::capability::{Capability, Discharge};
use waltron_core::injection::measuring::{Probe, Property, Read, When};
use waltron_core::injection::observation::{Ended, Observation};
use waltron_core::injection::program::{Condition, Program, Relation, Segment, Stop, Then};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Bench, Measuring, Planned, PlannedPoint, SetupError, Shot, Shots};
use waltron_core::procedure::{FamilyKeys, Method, TestHead};
use waltron_core::quantity::{
    Current, Dimension, Frequency, Measure, Quantity, Ratio, Time, seconds, significant, text,
};
use waltron_core::text::document::{AnyQuantityText, Field, Problem, Problems, QuantityText, Text};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Estimate;

/// The resistance lies within its tolerance.
pub(super) const RESISTANCE: Criterion = Criterion::named("resistance");

/// The share of the current below which a winding is discharged.
pub(super) const DISCHARGED: f64 = 0.01;

/// A direct current until the resistance is steady, then discharged; told at the reference temperature.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ResistanceKeys {
    /// The current; a tenth of the rated secondary current if not given, 0.1 A of a voltage transformer.
    current: Option<QuantityText<Current>>,
    /// The winding's temperature, such as `23 degC`.
    temperature: AnyQuantityText,
    /// What that is uncertain by (k = 2), such as `0.5 K`; 1 K if not given.
    temperature_uncertainty: Option<AnyQuantityText>,
    /// The band in which the value must stay, as a share of it; `0.1 %` if not given.
    steady: Option<QuantityText<Ratio>>,
    /// For how long; 3 s if not given.
    steady_for: Option<QuantityText<Time>>,
    /// The longest that is waited for that, 2 min if not given; the discharge may take five times as long.
    at_most: Option<QuantityText<Time>>,
    /// Of this phase only.
    phase: Option<Text>,
    /// Of this core, or winding, only.
    core: Option<Text>,
    /// At this tap only.
    tap: Option<Text>,
}

/// A resistance test with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct ResistanceTest {
    test: Name,
    current: Option<Current>,
    temperature_k: f64,
    temperature_u_k: f64,
    steady: f64,
    steady_for: Time,
    at_most: Time,
    wanted: Wanted,
}

impl FamilyKeys for ResistanceKeys {
    type Family = InstrumentTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &InstrumentTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let time = |field: &Option<QuantityText<Time>>, usual, problems: &mut Problems| {
            field.as_ref().map_or(Some(seconds(usual)), |t| t.positive(problems))
        };
        let current = match &self.current {
            Some(current) => Some(current.positive(problems)?),
            None => None,
        };
        let temperature_k = crate::material::temperature(&self.temperature, problems);
        let temperature_u_k = crate::material::temperature_uncertainty(
            self.temperature_uncertainty.as_ref(),
            problems,
        );
        let steady =
            self.steady.as_ref().map_or(Some(1e-3), |s| s.percentage(problems).map(|s| s.value));
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
        let (phase, core, tap) = (self.phase.as_ref(), self.core.as_ref(), self.tap.as_ref());
        let wanted = wanted(phase, core, tap, head, of, problems)?;
        Some(Arc::new(ResistanceTest {
            test: head.name(),
            current,
            temperature_k: temperature_k?,
            temperature_u_k: temperature_u_k?,
            steady: steady?,
            steady_for,
            at_most,
            wanted,
        }))
    }
}

/// A direct current through a winding until its resistance is steady.
#[derive(Clone, Debug)]
pub(super) struct Direct {
    pub(super) current: Current,
    pub(super) steady: f64,
    pub(super) steady_for: Time,
    pub(super) at_most: Time,
    resistance: Probe,
    flowing: Probe,
    volts: Probe,
    /// Integrals of voltage and current.
    flux: [Probe; 2],
    out: Stimulus,
}

/// What the first segment is called.
pub(super) const CHARGE: &str = "charge";

/// A tenth of what a secondary is rated for; 0.1 A of a voltage transformer.
fn usual(of: &InstrumentTransformer, spot: &Spot) -> Current {
    let rated = of.secondary(spot).secondary;
    let amps = if rated.dimension == Dimension::CURRENT { rated.si / 10.0 } else { 0.1 };
    Current::from_si(amps)
}

impl Direct {
    /// Of a place: with a tenth of the rated current, where none is given.
    pub(super) fn new(
        of: &InstrumentTransformer,
        spot: &Spot,
        rig: &Capability,
        current: Option<Current>,
        frequency: Frequency,
    ) -> Result<Self, SetupError> {
        let current = current.unwrap_or_else(|| usual(of, spot));
        let sides = ["secondary voltage", "secondary current"];
        Ok(Self {
            current,
            steady: 1e-3,
            steady_for: seconds(3.0),
            at_most: seconds(120.0),
            resistance: probe(rig, &sides, Property::Dc)?,
            flowing: probe(rig, &sides[1..], Property::Dc)?,
            volts: probe(rig, &sides[..1], Property::Dc)?,
            flux: [
                probe(rig, &sides[..1], Property::Integral)?,
                probe(rig, &sides[1..], Property::Integral)?,
            ],
            out: direct(rig, "secondary current", current, frequency)?,
        })
    }

    pub(super) fn program(&self) -> Program {
        let next = |when| Stop { when, then: Then::Next };
        let stable = Condition::Stable {
            probe: self.resistance.clone(),
            within: self.steady,
            time: self.steady_for,
        };
        let mut charge = Segment::hold(CHARGE, self.out.clone(), self.at_most).until(next(stable));
        let [volts, amps] = self.flux.clone();
        let of = [self.volts.clone(), self.flowing.clone(), self.resistance.clone(), volts, amps];
        charge.reads = of.map(|probe| Read { probe, when: When::EachLevel }).to_vec();
        let program = Program::of(vec![charge, self.discharge(self.current, DISCHARGED)]);
        self.discharged(program)
    }

    /// A program after which the winding is waited for until it is discharged, whatever ended it.
    pub(super) fn discharged(&self, mut program: Program) -> Program {
        let below_a = self.current.si().abs() * DISCHARGED;
        let meter = self.flowing.of.name().cloned();
        program.discharge = meter.map(|meter| Discharge { meter: meter.as_str().into(), below_a });
        program
    }

    /// Off until what flowed is gone but for a share. Of either sign: a meter that is connected the wrong way round must
    /// not tell a charged winding for a discharged one.
    pub(super) fn discharge(&self, from: Current, share: f64) -> Segment {
        let limit = from.si() * share;
        let below = |relation, limit_si| Condition::Reading {
            probe: self.flowing.clone(),
            relation,
            limit_si,
        };
        let gone =
            Condition::All(vec![below(Relation::AtMost, limit), below(Relation::AtLeast, -limit)]);
        let next = Stop { when: gone, then: Then::Next };
        Segment::hold("discharge", Stimulus::off(), self.discharge_at_most()).until(next)
    }

    /// Without a source to drive it a winding takes five time constants, of a good core some minutes.
    fn discharge_at_most(&self) -> Time {
        self.at_most * 5.0
    }

    /// What it takes if all is well: a winding charges for about as long as it is then watched, and
    /// discharges as long again.
    pub(super) fn likely(&self) -> Time {
        self.steady_for * 4.0
    }

    /// The resistance as measured, in ohms, with what it is uncertain by.
    ///
    /// # Errors
    /// Why there is none.
    pub(super) fn read(&self, seen: &Observation) -> Result<Estimate, String> {
        let read = seen.in_segment(0, &self.resistance).last().map(of);
        let read = read.ok_or("the resistance was not measured")??;
        if seen.segments.first().map(|s| s.ended) != Some(Ended::Stop(0)) {
            let (within, time) = (significant(self.steady * 100.0, 3), text(self.at_most));
            return Err(format!("not steady within {within} % after {time}"));
        }
        Ok(read.estimate())
    }

    /// By how much the flux rose while it was charged, in V·s: what the drop in the winding leaves of the
    /// voltage's integral.
    pub(super) fn rise(&self, seen: &Observation, winding_ohm: f64) -> Option<f64> {
        let [volts, amps] = &self.flux;
        let read = |probe| of(seen.in_segment(0, probe).last()?).ok().map(|shown| shown.value);
        Some(read(volts)? - winding_ohm * read(amps)?)
    }

    /// What whoever opens the circuit next must see.
    pub(super) fn still_charged(&self, seen: &Observation) -> Option<String> {
        // What the rig has waited for afterwards is discharged.
        let waited = seen.discharge.is_some_and(|discharge| discharge.is_done);
        let in_time = seen.segments.get(1).map(|s| s.ended) == Some(Ended::Stop(0));
        (!in_time && !waited).then(|| {
            let time = text(self.discharge_at_most());
            format!("STILL CHARGED after {time}: wait before the circuit is opened")
        })
    }
}

impl Measuring for ResistanceTest {
    const WORD: &'static str = "resistance";

    fn shots(&self, bench: Bench<'_>) -> Result<Shots, SetupError> {
        let (of, spots) = spots(bench.asset, &self.wanted)?;
        let shots = spots.iter().map(|spot| self.shot(of, spot, bench));
        Ok(Shots::new(shots.collect::<Result<_, _>>()?))
    }

    fn first_see_to(&self) -> Vec<String> {
        vec![
            "Connect current and voltage to the winding by wires of their own (four wires)"
                .to_owned(),
        ]
    }
}

/// What is required of a winding's resistance, and the maker's value.
pub(super) fn required(of: &InstrumentTransformer, spot: &Spot) -> (Limits, Values) {
    let Some(rated) = of.tap(spot).resistance_ohm else { return (Limits::None, Values::none()) };
    let limits = between(of.resistance_tolerance.limits(rated), Dimension::RESISTANCE);
    (limits, Values::none().with_quantity("resistance", ohms(rated)))
}

fn ohms(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::RESISTANCE }
}

/// By how much a place's resistance is larger at the reference temperature.
pub(super) fn factor(of: &InstrumentTransformer, spot: &Spot, from_k: f64) -> f64 {
    let secondary = of.secondary(spot);
    let by_ieee = of.tap(spot).class.is_some_and(|c| c.standard() == Class::IEEE);
    secondary.material.factor(by_ieee, from_k, secondary.reference_k)
}

/// By how much that changes for each kelvin that it is warmer, in 1/K.
pub(super) fn slope(of: &InstrumentTransformer, spot: &Spot, from_k: f64) -> f64 {
    let secondary = of.secondary(spot);
    let by_ieee = of.tap(spot).class.is_some_and(|c| c.standard() == Class::IEEE);
    secondary.material.slope(by_ieee, from_k, secondary.reference_k)
}

impl ResistanceTest {
    fn shot(
        &self,
        of: &InstrumentTransformer,
        spot: &Spot,
        bench: Bench<'_>,
    ) -> Result<Shot, SetupError> {
        let frequency = bench.asset.ratings.frequency.unwrap_or_default();
        let direct = Direct {
            steady: self.steady,
            steady_for: self.steady_for,
            at_most: self.at_most,
            ..Direct::new(of, spot, bench.capability, self.current, frequency)?
        };
        let stimulus = Values::none().with("current", direct.current);
        let (limits, expected) = required(of, spot);
        let mut program = direct.program();
        program.connection = spot.connection.clone();
        let of_place = point(&self.test, &format!("{}resistance", spot.prefix));
        let planned = Planned {
            points: vec![PlannedPoint::certain(of_place.clone(), RESISTANCE)],
            stimulus: stimulus.clone(),
            expected: expected.clone(),
            limits: limits.clone(),
            program: Arc::new(program),
            likely: direct.likely(),
            place: None,
            not_tested: None,
            is_exact: true,
            also: Vec::new(),
        };
        let told = Told {
            temperature_k: self.temperature_k,
            reference_k: of.secondary(spot).reference_k,
            factor: factor(of, spot, self.temperature_k),
            slope: slope(of, spot, self.temperature_k),
            uncertainty_k: self.temperature_u_k,
        };
        let grade = move |seen: &Observation| {
            let found = injected(of_place.clone(), RESISTANCE, &stimulus);
            let found = Finding { expected: expected.clone(), limits: limits.clone(), ..found };
            vec![graded(found, &direct, seen, told)]
        };
        Ok(Shot { planned, grade: Arc::new(grade) })
    }
}

/// At which temperature it was measured, and at which it is told.
#[derive(Clone, Copy, Debug)]
pub(super) struct Told {
    pub(super) temperature_k: f64,
    pub(super) reference_k: f64,
    pub(super) factor: f64,
    /// By how much that changes for each kelvin, in 1/K, and what the temperature is uncertain by (k = 2), in K.
    pub(super) slope: f64,
    pub(super) uncertainty_k: f64,
}

impl Told {
    /// As it was measured, at a temperature that nobody knows.
    pub(super) fn as_measured(reference_k: f64) -> Self {
        let (factor, slope, uncertainty_k) = (1.0, 0.0, 0.0);
        Self { temperature_k: reference_k, reference_k, factor, slope, uncertainty_k }
    }
}

pub(super) fn graded(found: Finding, direct: &Direct, seen: &Observation, told: Told) -> Finding {
    let read = match direct.read(seen) {
        Ok(read) => read,
        Err(mut why) => {
            if let Some(charged) = direct.still_charged(seen) {
                why = format!("{charged}; {why}");
            }
            let read = seen.in_segment(0, &direct.resistance).last().map(of);
            let value = read
                .and_then(Result::ok)
                .map(|r| Quantity { si: r.value * told.factor, dimension: Dimension::RESISTANCE });
            let measured = value.map_or_else(Values::none, |value| {
                Values::none().with_quantity("resistance", value)
            });
            return Finding { measured, ..found }
                .judged(Judgement::new(Verdict::Inconclusive, why));
        }
    };
    let as_measured = read.value;
    let value = ohms(as_measured * told.factor);
    // However sure the temperature is, what no accuracy is stated of has no U.
    let estimate = read.is_stated().then(|| {
        let warmer = of_temperature(told.uncertainty_k);
        read.times(told.factor).with(warmer, as_measured * told.slope)
    });
    let measured = Values::none()
        .with_quantity("resistance", value)
        .with_quantity("as_measured", ohms(as_measured));
    let deviation = match found.expected.get("resistance") {
        Some(expected) => Values::none().with_percent("resistance", value.si / expected - 1.0),
        None => Values::none(),
    };
    let mut judged = match (found.limits.lower(), found.limits.upper()) {
        (Some(low), Some(high)) => judge_between(value, low, high),
        _ => Judgement::new(Verdict::Measured, "the file tells no value of the maker's"),
    };
    judged.reason.push_str(&format!(
        "; {} at {}, told at {}",
        ohms(as_measured),
        celsius(told.temperature_k),
        celsius(told.reference_k)
    ));
    if let Some(charged) = direct.still_charged(seen) {
        // Whoever opens the circuit next must see it, however good the value is.
        judged.verdict = match judged.verdict {
            Verdict::Fail => Verdict::Fail,
            _ => Verdict::Inconclusive,
        };
        judged.reason.push_str(&format!("; {charged}"));
    }
    let found = Finding { measured, deviation, ..found }.judged(judged);
    found.uncertain(&estimate.unwrap_or_default())
}
