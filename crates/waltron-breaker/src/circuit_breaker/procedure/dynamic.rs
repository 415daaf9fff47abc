//! Dynamic contact resistance: a direct current through a pole while it opens.

use super::grade::{Measured, Missing, Setup, Wanted};
use super::resistance::{CURRENT, VOLTAGE, direct};
use super::seen::scatters;
use super::step::{RATE_HZ, TRAVEL, control, seen_contacts};
use super::task::{Breaking, Task, Tested};
use crate::circuit_breaker::analysis::dynamic;
use crate::circuit_breaker::asset::{CircuitBreaker, Coil, Measurand};
use crate::four_wire::USUAL_A;
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{Value, Values};
use waltron_core::injection::measuring::{Capture, Part};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment, Switching};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Bench, FamilyKeys, Method, SetupError, TestHead};
use waltron_core::quantity::{Current, Dimension, Measure, Quantity, seconds};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Cause;

/// How long the current flows before the command, how long the command lasts, and how long is looked after it.
const TIMES_S: [f64; 3] = [0.1, 0.15, 0.05];

/// The resistance of each pole while it opens.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DynamicResistanceKeys {
    /// The current; 100 A, or what breaker and rig allow, if not given.
    current: Option<QuantityText<Current>>,
}

/// A test of dynamic contact resistances with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct DynamicResistanceTest {
    test: Name,
    current: Option<Current>,
    trip: Coil,
}

impl FamilyKeys for DynamicResistanceKeys {
    type Family = CircuitBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &CircuitBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let Some(trip) = of.coils(false).next().cloned() else {
            let why = "the asset's file has no coil that trips the breaker";
            problems.push(Problem::new(head.id.span(), why));
            return None;
        };
        let current = match &self.current {
            None => None,
            Some(field) => Some((field.positive(problems)?, field.span())),
        };
        if let Some((_, span)) = current.as_ref().filter(|(amps, _)| amps.si() > of.rated_a) {
            let rated = Quantity { si: of.rated_a, dimension: Dimension::CURRENT };
            problems.push(Problem::new(span.clone(), format!("the breaker carries {rated}")));
            return None;
        }
        let current = current.map(|(amps, _)| amps);
        Some(Arc::new(Tested(DynamicResistanceTest { test: head.name(), current, trip })))
    }
}

impl Breaking for DynamicResistanceTest {
    const WORD: &'static str = "dynamic-resistance";

    fn test(&self) -> &Name {
        &self.test
    }

    fn tasks(&self, setup: &Setup, bench: Bench<'_>) -> Result<Vec<Task>, SetupError> {
        let (rig, frequency) = (&setup.rig, bench.frequency()?);
        let range = rig.currents.iter().find(|c| c.meaning == *CURRENT);
        let range = range.map_or(f64::INFINITY, |c| c.range.si());
        let amps = self.current.map_or(USUAL_A.min(range).min(setup.of.rated_a), Measure::si);
        let fed = direct(rig, amps, frequency)?;
        let trips = control(rig, self.trip.feeds(), 1.0, frequency)?;
        let out = Stimulus { currents: fed.currents, voltages: trips.voltages };
        let command = self.trip.command();
        if !rig.switches(&command) {
            let lacks = format!("no switch for `{command}`");
            return Err(SetupError::Lacks { lacks, what: "switches" });
        }
        for meaning in [CURRENT, VOLTAGE] {
            if rig.meter(meaning).is_none() {
                let lacks = format!("no meter for `{meaning}`");
                return Err(SetupError::Lacks { lacks, what: "meters" });
            }
        }
        let segment = |name: &str, k: usize, closed: bool| {
            let mut segment = Segment::hold(name, out.clone(), seconds(TIMES_S[k]));
            segment.switches = vec![Switching { output: command.clone(), closed }];
            segment
        };
        let looks = [CURRENT, VOLTAGE, TRAVEL].map(Name::from);
        let looks = looks.into_iter().filter(|name| rig.meter(name.as_str()).is_some());
        let looks: Vec<Name> = looks.collect();
        let contacts = seen_contacts(&setup.of, rig);
        if contacts.is_empty() {
            let lacks = "no input for any of the main contacts".to_owned();
            return Err(SetupError::Lacks { lacks, what: "inputs" });
        }
        let poles = setup.of.poles.iter().enumerate();
        let task = |(k, pole): (usize, &String)| {
            let mut program = Program::of(vec![
                segment("before", 0, false),
                segment("open", 1, true),
                segment("after", 2, false),
            ]);
            program.raw_edges = true;
            let first = setup.of.contacts().into_iter().find(|(of, _)| *of == k);
            program.connection = first.map(|(_, name)| name);
            let name: Name = format!("{} {pole}", self.test).as_str().into();
            program.captures = vec![Capture {
                name: name.clone(),
                of: looks.clone(),
                rate_hz: RATE_HZ,
                part: Part::Whole,
            }];
            program.capture = Some(name);
            let stimulus = Values::none().with("current", Current::from_si(amps));
            let points = [Measurand::ArcingTime, Measurand::ArcingResistance];
            let points: Vec<Wanted> = points.map(|what| Wanted::of(what, pole)).to_vec();
            let (grader, fed, wanted) = (setup.clone(), stimulus.clone(), points.clone());
            Task {
                label: String::new(),
                begins_closed: Some(true),
                points,
                stimulus,
                likely: seconds(TIMES_S.iter().sum()),
                program: Arc::new(program),
                compared: Vec::new(),
                grade: Arc::new(move |seen| {
                    let each = wanted.iter().map(|w| {
                        grader.finding("", w, fed.clone(), measured(&grader, w.what, seen))
                    });
                    each.collect()
                }),
            }
        };
        Ok(poles.map(task).collect())
    }

    fn first_see_to(&self) -> Vec<String> {
        vec!["Connect current and voltage to each pole by wires of their own (four wires), the voltage inside".to_owned()]
    }
}

fn measured(setup: &Setup, what: Measurand, seen: &Observation) -> Measured {
    let untold = |why: &str| Missing::Untold(why.to_owned());
    let captured = seen.captures.first().ok_or_else(|| untold("its samples are not there"))?;
    let track = |of: &str| {
        let found = captured.tracks.iter().find(|t| t.of == *of);
        found.map(|t| &t.samples[..]).filter(|s| !s.is_empty())
    };
    let both = track(VOLTAGE).zip(track(CURRENT));
    let (volts, amps) = both.ok_or_else(|| untold("its samples are not there"))?;
    let undone = || {
        Missing::Undone(
            "the current through the pole did not end: it did not open, or no current flowed"
                .to_owned(),
        )
    };
    let read = dynamic::read(volts, amps, captured.rate_hz).ok_or_else(undone)?;
    let (main, arcing) = read.parts_s;
    if what == Measurand::ArcingTime {
        let step = Quantity { si: 1.0 / captured.rate_hz, dimension: Dimension::TIME };
        let timed = setup.rig.timed_between(seconds(arcing - main), [None, None], None);
        return Ok(timed.with(Cause::limit("sampling", Value::Plain(step)), 1.0));
    }
    let none = || untold("no arcing contact carried alone: there is none, or it is burnt away");
    let (ohm, scatter) = read.arcing_ohm.ok_or_else(none)?;
    let fed = amps.first().copied().unwrap_or(0.0);
    let shown = |of: &str, value: f64| setup.rig.seen(&of.into(), value.into()).real();
    let worth = shown(VOLTAGE, ohm * fed).over(&shown(CURRENT, fed));
    let scatter = Quantity { si: scatter, dimension: Dimension::RESISTANCE };
    Ok(worth.function(ohm, 1.0).with_beside(scatters(scatter), 1.0))
}
