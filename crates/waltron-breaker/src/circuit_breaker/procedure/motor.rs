//! The motor that charges the closing spring: how long, and with which current.

use super::grade::{Missing, Setup, Wanted};
use super::seen::scatters;
use super::step::{CHARGED, CHARGING, MOTOR_SUPPLY, RATE_HZ, control};
use super::task::{Breaking, Task, Tested};
use crate::circuit_breaker::analysis::scatter::scatter;
use crate::circuit_breaker::asset::{CircuitBreaker, Measurand, Motor};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{Value, Values};
use waltron_core::injection::measuring::{Capture, Part};
use waltron_core::injection::observation::{Ended, Observation};
use waltron_core::injection::program::{Condition, Program, Segment, Stop, Switching, Then};
use waltron_core::procedure::{Bench, FamilyKeys, Method, SetupError, TestHead};
use waltron_core::quantity::{Dimension, Measure, Quantity, Time, seconds};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Cause;

/// Samples a second of the motor's current.
const MOTOR_HZ: f64 = RATE_HZ / 10.0;

/// What the meter of the motor's current is called.
pub(crate) const CURRENT: &str = "motor current";

/// How long it is waited until the spring has gone, in s.
const DISCHARGE_S: f64 = 0.4;

/// How long the inrush is left out of the mean, in s.
const INRUSH_S: f64 = 0.5;

/// The charging of the closing spring.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MotorKeys {
    /// The longest that is waited for it; 30 s if not given.
    at_most: Option<QuantityText<Time>>,
}

/// A test of a spring's motor with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct MotorTest {
    test: Name,
    motor: Motor,
    at_most: Time,
}

impl FamilyKeys for MotorKeys {
    type Family = CircuitBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &CircuitBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let Some(motor) = of.motor else {
            problems.push(Problem::new(head.id.span(), "the asset's file has no `[motor]`"));
            return None;
        };
        let usual = seconds(CHARGING);
        let at_most = self.at_most.as_ref().map_or(Some(usual), |t| t.positive(problems))?;
        Some(Arc::new(Tested(MotorTest { test: head.name(), motor, at_most })))
    }
}

impl Breaking for MotorTest {
    const WORD: &'static str = "motor";

    fn test(&self) -> &Name {
        &self.test
    }

    fn tasks(&self, setup: &Setup, bench: Bench<'_>) -> Result<Vec<Task>, SetupError> {
        let rig = &setup.rig;
        let supply: Name = MOTOR_SUPPLY.into();
        let lacks = |lacks: String, what| Err(SetupError::Lacks { lacks, what });
        if !rig.switches(&supply) {
            return lacks(format!("no switch for `{supply}`"), "switches");
        }
        if !rig.sees(&CHARGED.into()) {
            return lacks(format!("no input for `{CHARGED}`"), "inputs");
        }
        let out = control(rig, (self.motor.voltage_v, false), 1.0, bench.frequency()?)?;
        let charged = Condition::Contact { signal: CHARGED.into(), closed: true };
        let mut charge = Segment::hold("charge", out.clone(), self.at_most);
        charge = charge.until(Stop { when: charged, then: Then::Next });
        charge.switches = vec![Switching { output: supply.clone(), closed: true }];
        let mut after = Segment::hold("after", out, seconds(0.2));
        after.switches = vec![Switching { output: supply.clone(), closed: false }];
        // Closing with the motor off lets the spring go.
        let closing = setup.of.coils(true).find(|coil| rig.switches(&coil.command()));
        let discharge = closing.map(|coil| {
            let out = control(rig, coil.feeds(), 1.0, bench.frequency()?)?;
            let mut discharge = Segment::hold("discharge", out, seconds(DISCHARGE_S));
            discharge.switches = vec![
                Switching { output: supply.clone(), closed: false },
                Switching { output: coil.command(), closed: true },
            ];
            charge.switches.push(Switching { output: coil.command(), closed: false });
            Ok::<_, SetupError>(discharge)
        });
        let discharge = discharge.transpose()?;
        let begins_closed = discharge.as_ref().map(|_| false);
        // What was charged in part lets nothing go: it is charged first.
        let whole = discharge.as_ref().map(|_| Segment { name: "spring".into(), ..charge.clone() });
        let segments = whole.into_iter().chain(discharge).chain([charge, after]);
        let segments: Vec<Segment> = segments.collect();
        let charging = segments.len() - 2;
        let mut program = Program::of(segments);
        program.raw_edges = true;
        let has_meter = rig.meter(CURRENT).is_some();
        let mut points = vec![Measurand::MotorTime];
        if has_meter {
            points.extend([Measurand::MotorInrush, Measurand::MotorCurrent]);
            let of = vec![CURRENT.into()];
            program.captures = vec![Capture {
                name: format!("{} motor", self.test).as_str().into(),
                of,
                rate_hz: MOTOR_HZ,
                part: Part::Segment(charging),
            }];
            program.capture = Some(format!("{} motor", self.test).as_str().into());
        }
        let points: Vec<Wanted> = points.into_iter().map(|what| Wanted::of(what, "")).collect();
        let (grader, wanted) = (setup.clone(), points.clone());
        let grade = move |seen: &Observation| {
            let each = wanted.iter().map(|w| {
                grader.finding("", w, Values::none(), measured(&grader, w.what, charging, seen))
            });
            each.collect()
        };
        Ok(vec![Task {
            label: String::new(),
            begins_closed,
            points,
            stimulus: Values::none(),
            likely: seconds(10.0).min(self.at_most),
            program: Arc::new(program),
            grade: Arc::new(grade),
            compared: Vec::new(),
        }])
    }

    fn first_see_to(&self) -> Vec<String> {
        vec!["The closing spring is let go before its motor is timed: where the rig does not close the breaker, close it by hand with the motor's supply off".to_owned()]
    }
}

fn measured(
    setup: &Setup,
    what: Measurand,
    charging: usize,
    seen: &Observation,
) -> super::grade::Measured {
    let untold = |why: &str| Missing::Untold(why.to_owned());
    let span = seen.segments.get(charging).ok_or_else(|| untold("nothing was played"))?;
    if seen.closed_before(&CHARGED.into(), span.start) {
        return Err(untold("the spring was charged already: discharge it first"));
    }
    if span.ended != Ended::Stop(0) {
        let why = "the spring was not charged in that time: motor, limit switch, supply";
        return Err(Missing::Undone(why.to_owned()));
    }
    let time = (span.end - span.start).si();
    if what == Measurand::MotorTime {
        let charged = Name::from(CHARGED);
        return Ok(setup.rig.timed(seconds(time), &charged, seen.host_timing));
    }
    let captured = seen.captures.first();
    let track = captured.and_then(|c| c.tracks.first());
    let samples = track.map(|t| &t.samples[..]).filter(|s| !s.is_empty());
    let samples = samples.ok_or_else(|| untold("its samples are not there"))?;
    let shown = |amps: f64| setup.rig.seen(&CURRENT.into(), amps.into()).real();
    let u = |amps: f64| shown(amps).expanded();
    // What is no number hides among maxima.
    let sum: f64 = samples.iter().sum();
    let most = samples.iter().fold(0.0f64, |a, b| a.max(b.abs()));
    if !sum.is_finite() || most <= u(most) {
        return Err(untold("no current flows while it charges: the meter is not in its circuit"));
    }
    let amps = |si: f64| Quantity { si, dimension: Dimension::CURRENT };
    if what == Measurand::MotorInrush {
        // Where it is largest at once, it was larger when the motor was switched on, up to a sample before; one that rises
        // first is told as it is.
        let at = samples.iter().position(|a| a.abs() >= most).unwrap_or(0);
        let falls = samples.get(at + 1).map_or(0.0, |a| (most - a.abs()).max(0.0));
        let since =
            captured.map_or(0.0, |c| c.start.si() + at as f64 / c.rate_hz - span.start.si());
        let share = Some((since * MOTOR_HZ).max(0.0)).filter(|share| *share < 1.5);
        let before = falls * share.unwrap_or(0.0).min(1.0);
        let most = most + before;
        let between = Cause::limit("sampling", Value::Plain(amps(falls / 2.0)));
        let scatter = scatters(amps(scatter(samples)));
        return Ok(shown(most).with_beside(between, 1.0).with_beside(scatter, 1.0));
    }
    let from = ((INRUSH_S * MOTOR_HZ) as usize).min(samples.len() / 2);
    let part = &samples[from..];
    let mean = part.iter().sum::<f64>() / part.len() as f64;
    if mean.abs() <= u(mean) {
        return Err(untold("no current flows while it charges: the meter is not in its circuit"));
    }
    let scatter = scatters(amps(scatter(part) / (part.len() as f64).sqrt()));
    Ok(shown(mean).with_beside(scatter, 1.0))
}
