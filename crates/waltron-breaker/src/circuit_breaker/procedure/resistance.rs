//! The contact resistance of a pole that is closed: a direct current through it, four wires.

use super::grade::{Setup, Wanted};
use super::task::{Breaking, Task, Tested, of_test};
use crate::circuit_breaker::asset::Measurand;
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::grading::Values;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Probe, Property, Signal, Worked};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::injection::stimulus::{Dc, Drive, Stimulus};
use waltron_core::procedure::{Bench, Method, SetupError, TestHead, TestKeys};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{
    Current, Dimension, Frequency, Measure, Quantity, Time, degrees, seconds,
};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText};
use waltron_core::text::name::Name;

/// What the output is called that feeds the poles, and the meters at a pole.
pub(crate) const CURRENT: &str = "pole current";
pub(crate) const VOLTAGE: &str = "pole voltage";

/// The least current that tells a contact resistance (IEC 62271-1, 7.4.4).
const LEAST_A: f64 = 50.0;

/// What is fed in where the plan does not say, in A.
pub(super) const USUAL_A: f64 = 100.0;

/// The contact resistance of every pole.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ContactResistanceKeys {
    /// The current, at least 50 A; 100 A, or what breaker and rig allow, if not given.
    current: Option<QuantityText<Current>>,
    /// How long it flows; 2 s if not given.
    time: Option<QuantityText<Time>>,
}

/// A test of contact resistances with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct ContactResistanceTest {
    test: Name,
    current: Option<Current>,
    time: Time,
}

impl TestKeys for ContactResistanceKeys {
    fn read(
        &self,
        head: TestHead<'_>,
        asset: &Asset,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let of = of_test(head, asset, problems)?;
        let current = match &self.current {
            None => None,
            Some(field) => {
                let amps = field.positive(problems)?;
                let why = if amps.si() < LEAST_A {
                    Some(
                        "less than 50 A does not tell a contact resistance (IEC 62271-1)"
                            .to_owned(),
                    )
                } else if amps.si() > of.rated_a {
                    let rated = Quantity { si: of.rated_a, dimension: Dimension::CURRENT };
                    Some(format!("the breaker carries {rated}"))
                } else {
                    None
                };
                if let Some(why) = why {
                    problems.push(Problem::new(field.span(), why));
                    return None;
                }
                Some(amps)
            }
        };
        let time = self.time.as_ref().map_or(Some(seconds(2.0)), |t| t.positive(problems))?;
        Some(Arc::new(Tested(ContactResistanceTest { test: head.name(), current, time })))
    }
}

pub(super) fn direct(
    rig: &Capability,
    amps: f64,
    frequency: Frequency,
) -> Result<Stimulus, SetupError> {
    let channel = rig.currents.iter().find(|c| c.meaning == *CURRENT).ok_or_else(|| {
        SetupError::Lacks { lacks: format!("no output for `{CURRENT}`"), what: "outputs" }
    })?;
    let nothing = Phasor::new(Current::from_si(0.0), degrees(0.0));
    let mut drive = Drive::sine(channel.id.clone(), nothing, frequency);
    drive.dc = Some(Dc::constant(Current::from_si(amps)));
    Ok(Stimulus { currents: vec![drive], voltages: Vec::new() })
}

impl Breaking for ContactResistanceTest {
    const WORD: &'static str = "contact-resistance";

    fn test(&self) -> &Name {
        &self.test
    }

    fn tasks(&self, setup: &Setup, bench: Bench<'_>) -> Result<Vec<Task>, SetupError> {
        let rig = &setup.rig;
        let range = rig.currents.iter().find(|c| c.meaning == *CURRENT);
        let range = range.map_or(f64::INFINITY, |c| c.range.si());
        let amps = self.current.map_or(USUAL_A.min(range).min(setup.of.rated_a), Measure::si);
        if amps < LEAST_A {
            let range = Quantity { si: range, dimension: Dimension::CURRENT };
            return Err(SetupError::Unknown(format!(
                "the rig's {range} do not tell a contact resistance: it takes at least 50 A (IEC 62271-1)"
            )));
        }
        let out = direct(rig, amps, bench.frequency()?)?;
        for meaning in [CURRENT, VOLTAGE] {
            let fits = rig.meter(meaning).is_some_and(|m| m.coupling.is_dc());
            if !fits {
                let lacks = format!("no meter for `{meaning}` that shows DC");
                return Err(SetupError::Lacks { lacks, what: "meters" });
            }
        }
        let of = Worked::Quotient([Signal::from(VOLTAGE), Signal::from(CURRENT)]).into();
        let mut probe = Probe { of, what: Property::Dc, dimension: Dimension::RESISTANCE };
        rig.restore(&mut probe);
        let poles = setup.of.poles.iter().enumerate();
        let task = |(k, pole): (usize, &String)| {
            let mut program = Program::of(vec![Segment::hold("current", out.clone(), self.time)]);
            program.reads = vec![probe.clone()];
            // Of several units in series the pole is measured as a whole.
            let first = setup.of.contacts().into_iter().find(|(of, _)| *of == k);
            program.connection = first.map(|(_, name)| name);
            let stimulus = Values::none().with("current", Current::from_si(amps));
            let wanted = Wanted::of(Measurand::ContactResistance, pole);
            let (grader, read, label) = (setup.clone(), probe.clone(), String::new());
            let fed = stimulus.clone();
            let graded = wanted.clone();
            Task {
                label,
                begins_closed: Some(true),
                points: vec![wanted],
                stimulus,
                likely: self.time,
                program: Arc::new(program),
                compared: Vec::new(),
                grade: Arc::new(move |seen| {
                    vec![grader.finding("", &graded, fed.clone(), reading(seen, &read))]
                }),
            }
        };
        Ok(poles.map(task).collect())
    }

    fn first_see_to(&self) -> Vec<String> {
        vec!["Connect current and voltage to each pole by wires of their own (four wires), the voltage inside".to_owned()]
    }
}

/// What a probe showed at the end.
pub(super) fn reading(seen: &Observation, probe: &Probe) -> super::grade::Measured {
    let untold = |why: String| super::grade::Missing::Untold(why);
    let read = seen.at_end(probe).ok_or_else(|| untold(format!("`{probe}` was not measured")))?;
    match (&read.lacks, read.value.get("value")) {
        (Some(lack), _) => Err(untold(format!("no value: {lack}"))),
        (None, None) => Err(untold(format!("`{probe}` shows nothing"))),
        (None, Some(value)) => Ok((value, read.uncertainty.get("value").unwrap_or(0.0))),
    }
}
