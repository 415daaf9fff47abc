//! The contact resistance of a pole that is closed: a direct current through it, four wires.

use super::grade::{Missing, Setup, Wanted};
use super::task::{Breaking, Task, Tested};
use crate::circuit_breaker::asset::{CircuitBreaker, Measurand};
use crate::four_wire;
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::Values;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Bench, FamilyKeys, Method, SetupError, TestHead};
use waltron_core::quantity::{Current, Frequency, Measure, Time, seconds};
use waltron_core::text::document::{Problems, QuantityText};
use waltron_core::text::name::Name;

/// What the output is called that feeds the poles, and the meters at a pole.
pub(crate) const CURRENT: &str = "pole current";
pub(crate) const VOLTAGE: &str = "pole voltage";

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

impl FamilyKeys for ContactResistanceKeys {
    type Family = CircuitBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &CircuitBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let current = four_wire::current(self.current.as_ref(), of.rated_a, problems)?;
        let time = self.time.as_ref().map_or(Some(seconds(2.0)), |t| t.positive(problems))?;
        Some(Arc::new(Tested(ContactResistanceTest { test: head.name(), current, time })))
    }
}

/// A direct current through a pole.
///
/// # Errors
/// The rig has no output for it.
pub(super) fn direct(
    rig: &Capability,
    amps: f64,
    frequency: Frequency,
) -> Result<Stimulus, SetupError> {
    let drive = four_wire::direct(four_wire::output(rig, CURRENT)?, amps, frequency);
    Ok(Stimulus { currents: vec![drive], voltages: Vec::new() })
}

impl Breaking for ContactResistanceTest {
    const WORD: &'static str = "contact-resistance";

    fn test(&self) -> &Name {
        &self.test
    }

    fn tasks(&self, setup: &Setup, bench: Bench<'_>) -> Result<Vec<Task>, SetupError> {
        let rig = &setup.rig;
        let output = four_wire::output(rig, CURRENT)?;
        let amps = four_wire::fed(self.current, output, setup.of.rated_a)?;
        let out = direct(rig, amps, bench.frequency()?)?;
        let probe = four_wire::quotient(rig, VOLTAGE, CURRENT)?;
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
                    let read = four_wire::reading(seen, &read).map_err(Missing::Untold);
                    vec![grader.finding("", &graded, fed.clone(), read)]
                }),
            }
        };
        Ok(poles.map(task).collect())
    }

    fn first_see_to(&self) -> Vec<String> {
        vec!["Connect current and voltage to each pole by wires of their own (four wires), the voltage inside".to_owned()]
    }
}
