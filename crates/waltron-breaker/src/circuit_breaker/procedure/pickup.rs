//! The lowest voltage at which a coil operates: pulses from below, with pauses that spare the coil.

use super::grade::{Missing, Setup, Wanted};
use super::step::{CHARGED, CHARGING, CONTROL, MOTOR_SUPPLY, control, seen_contacts};
use super::task::{Breaking, Task, Tested};
use crate::circuit_breaker::asset::{CircuitBreaker, Coil, Measurand};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{Value, Values};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::{Ended, Observation};
use waltron_core::injection::program::{
    Condition, Profile, Program, Rest, Segment, Steps, Stop, Switching, Then,
};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Bench, FamilyKeys, Method, SetupError, TestHead};
use waltron_core::quantity::{Dimension, Measure, Quantity, Ratio, Time, seconds};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText, Text};
use waltron_core::text::name::{Name, nearest};
use waltron_core::uncertainty::{Cause, Estimate};

/// The lowest pickup of coils.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LowestPickupKeys {
    /// Of this coil only; of each, one after the other, if not given.
    coil: Option<Text>,
    /// The first pulse, as a share of the rated voltage; 30 % if not given.
    from: Option<QuantityText<Ratio>>,
    /// The last one; 100 % if not given.
    to: Option<QuantityText<Ratio>>,
    /// From pulse to pulse; 2.5 % if not given.
    step: Option<QuantityText<Ratio>>,
    /// How long a pulse lasts; 300 ms if not given.
    pulse: Option<QuantityText<Time>>,
    /// The pause behind each, which spares the coil; 3 s if not given.
    pause: Option<QuantityText<Time>>,
}

/// A test of lowest pickups with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct LowestPickupTest {
    test: Name,
    coils: Vec<Coil>,
    from: f64,
    to: f64,
    step: f64,
    pulse: Time,
    pause: Time,
}

impl FamilyKeys for LowestPickupKeys {
    type Family = CircuitBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &CircuitBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let coils: Vec<Coil> = match &self.coil {
            None => of.coils.clone(),
            Some(text) => {
                let Some(coil) = of.coils.iter().find(|c| c.name == text.as_str()) else {
                    let names = || of.coils.iter().map(|c| c.name.as_str());
                    let near = nearest(text.as_str(), names());
                    let message = format!("no coil is called `{}`", text.as_str());
                    let list = || format!("it has {}", names().collect::<Vec<_>>().join(", "));
                    problems.push(Problem::new(text.span(), message).did_you_mean(near, list));
                    return None;
                };
                vec![coil.clone()]
            }
        };
        let share = |field: &Option<QuantityText<Ratio>>, usual, problems: &mut Problems| {
            field.as_ref().map_or(Some(usual), |f| f.positive(problems).map(|r| r.value))
        };
        let (from, to) = (share(&self.from, 0.3, problems)?, share(&self.to, 1.0, problems)?);
        let step = share(&self.step, 0.025, problems)?;
        let why = if from >= to {
            Some("the first pulse must be lower than the last one")
        } else if to > 1.1 + 1e-9 {
            Some("a coil withstands 110 % of its rated voltage (IEC 62271-1)")
        } else if (to - from) / step > 400.0 {
            Some("that would be more than 400 pulses for a coil")
        } else {
            None
        };
        if let Some(why) = why {
            let place = [&self.to, &self.from, &self.step].into_iter().flatten().next();
            let span = place.map_or_else(|| head.id.span(), Field::span);
            problems.push(Problem::new(span, why));
            return None;
        }
        let time = |field: &Option<QuantityText<Time>>, usual, problems: &mut Problems| {
            field.as_ref().map_or(Some(seconds(usual)), |t| t.positive(problems))
        };
        let (pulse, pause) = (time(&self.pulse, 0.3, problems)?, time(&self.pause, 3.0, problems)?);
        let test = LowestPickupTest { test: head.name(), coils, from, to, step, pulse, pause };
        Some(Arc::new(Tested(test)))
    }
}

impl LowestPickupTest {
    /// The shares of its pulses.
    fn shares(&self) -> Vec<f64> {
        let count = ((self.to - self.from) / self.step + 1e-9).floor() as usize;
        let mut all: Vec<f64> = (0..=count).map(|k| self.from + self.step * k as f64).collect();
        if all.last().is_some_and(|last| self.to - last > 1e-9) {
            all.push(self.to);
        }
        all
    }

    fn task(&self, setup: &Setup, bench: Bench<'_>, coil: &Coil) -> Result<Task, SetupError> {
        let (rig, frequency) = (&setup.rig, bench.frequency()?);
        if !rig.voltages.iter().any(|c| c.meaning == *CONTROL) {
            let lacks = format!("no output for `{CONTROL}`");
            return Err(SetupError::Lacks { lacks, what: "outputs" });
        }
        let command = coil.command();
        if !rig.switches(&command) {
            let lacks = format!("no switch for `{command}`");
            return Err(SetupError::Lacks { lacks, what: "switches" });
        }
        let contacts = seen_contacts(&setup.of, rig);
        if contacts.is_empty() {
            let lacks = "no input for any of the main contacts".to_owned();
            return Err(SetupError::Lacks { lacks, what: "inputs" });
        }
        let shares = self.shares();
        let levels = shares.iter().map(|s| control(rig, coil.feeds(), *s, frequency));
        let levels = levels.collect::<Result<Vec<_>, _>>()?;
        let off = control(rig, coil.feeds(), 0.0, frequency)?;
        let mut segments = Vec::new();
        if coil.closes && rig.sees(&CHARGED.into()) {
            let out = control(rig, coil.feeds(), 1.0, frequency)?;
            let mut spring = Segment::hold("spring", out, seconds(CHARGING));
            let charged = Condition::Contact { signal: CHARGED.into(), closed: true };
            spring = spring.until(Stop { when: charged, then: Then::Next });
            if rig.switches(&MOTOR_SUPPLY.into()) {
                spring.switches.push(Switching { output: MOTOR_SUPPLY.into(), closed: true });
            }
            segments.push(spring);
        }
        let rest = Some(Rest { stimulus: off, time: self.pause });
        let put_out = levels.clone();
        let steps = Steps { levels, dwell: self.pulse, rest };
        let moves = contacts
            .iter()
            .map(|(_, name)| Condition::Contact { signal: name.clone(), closed: coil.closes });
        let stop = Stop { when: Condition::Any(moves.collect()), then: Then::Off };
        let mut pulses = Segment::new("pulses", Profile::Steps(steps), vec![stop]);
        pulses.switches.push(Switching { output: command, closed: true });
        segments.push(pulses);
        let mut program = Program::of(segments);
        program.raw_edges = true;
        let span = shares.len() as f64;
        let wanted = Wanted::of(Measurand::PickupVoltage, &coil.name);
        let stimulus = Values::none().with_percent("from", self.from).with_percent("to", self.to);
        let (grader, fed, graded) = (setup.clone(), stimulus.clone(), wanted.clone());
        let (test, of) = (self.clone(), coil.clone());
        let pulses = program.segments.len() - 1;
        Ok(Task {
            label: String::new(),
            begins_closed: Some(!coil.closes),
            points: vec![wanted],
            stimulus,
            likely: (self.pulse + self.pause) * (span * 0.5),
            program: Arc::new(program),
            compared: Vec::new(),
            grade: Arc::new(move |seen| {
                vec![grader.finding(
                    "",
                    &graded,
                    fed.clone(),
                    test.found(&of, seen, pulses, (&grader.rig, &put_out)),
                )]
            }),
        })
    }

    /// The voltage of the pulse at which it operated: the step before it did not.
    fn found(
        &self,
        coil: &Coil,
        seen: &Observation,
        pulses: usize,
        (rig, levels): (&Capability, &[Stimulus]),
    ) -> super::grade::Measured {
        let untold = |why: &str| Missing::Untold(why.to_owned());
        let span = seen.segments.get(pulses).ok_or_else(|| untold("no pulse came"))?;
        let shares = self.shares();
        let volts =
            |share: f64| Quantity { si: share * coil.voltage_v, dimension: Dimension::VOLTAGE };
        if span.ended != Ended::Stop(0) {
            let most = volts(self.to);
            return Err(Missing::Undone(format!(
                "coil {} does not operate up to {most}",
                coil.name
            )));
        }
        let each = (self.pulse + self.pause).si();
        let at = ((span.end - span.start).si() / each).floor() as usize;
        let share = shares.get(at).ok_or_else(|| untold("it operated behind the last pulse"))?;
        if at == 0 {
            let first = volts(*share);
            return Err(untold(&format!("it operated at the first pulse, {first}: begin lower")));
        }
        // It lies anywhere between the pulse that did and the one that did not.
        let (this, before) = (volts(*share).si, volts(shares[at - 1]).si);
        let (middle, half) = ((this + before) / 2.0, (this - before) / 2.0);
        let out = levels.get(at).cloned().unwrap_or_default();
        let half = Value::Plain(Quantity { si: half, dimension: Dimension::VOLTAGE });
        Ok(Estimate::exact(middle)
            .with_shares(rig.causes_of(&out, Dimension::VOLTAGE), middle)
            .with(Cause::limit("step of the pulses", half), 1.0))
    }
}

impl Breaking for LowestPickupTest {
    const WORD: &'static str = "lowest-pickup";

    fn test(&self) -> &Name {
        &self.test
    }

    fn tasks(&self, setup: &Setup, bench: Bench<'_>) -> Result<Vec<Task>, SetupError> {
        self.coils.iter().map(|coil| self.task(setup, bench, coil)).collect()
    }
}
