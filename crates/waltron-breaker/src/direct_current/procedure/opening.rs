//! The opening time: from the current passing the setting to the contacts parting, on a step.

use super::firing::{self, At, Fired, Firing, Foreseen, Next};
use super::judging::{Found, OPENING, judged, point, quantity, required};
use super::source::{QUICK_HZ, Source, floor, samples};
use super::trip_level::FOUND;
use crate::direct_current::analysis::pulse::Shown;
use crate::direct_current::asset::{DcBreaker, amps};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::Value;
use waltron_core::grading::{Finding, Judgement, Values, Verdict};
use waltron_core::injection::observation::Observation;
use waltron_core::procedure::{Carried, FamilyKeys, Method, SetupError, TestHead};
use waltron_core::quantity::{Current, Dimension, Measure, seconds};
use waltron_core::text::document::{Field, Number, Problem, Problems, QuantityText};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Cause;

/// How often where the plan does not say, and to which multiple of the setting the step goes.
const USUAL: (f64, f64) = (3.0, 2.0);
/// The least multiple of the setting that passes it at a speed that tells when.
const LEAST: f64 = 1.2;
/// How long the step lasts: in time constants, and the rest in s.
const STEP: (f64, f64) = (6.0, 0.1);
/// The longest time constant that is foreseen, in s.
const SLOWEST_S: f64 = 0.1;
/// The samples before the contacts part that tell the current at that moment, in s.
const WINDOW_S: f64 = 0.001;
/// The samples around a place that tell how quickly the current rises there, in s.
const AROUND_S: f64 = 0.0005;

/// The opening time on a step of current.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OpeningTimeKeys {
    /// The current that would flow if it did not open; twice the setting, or what the source can, if not given.
    current: Option<QuantityText<Current>>,
    /// How often; 3 if not given.
    times: Option<Number>,
}

#[derive(Clone, Debug, PartialEq)]
pub(super) struct Opening {
    test: Name,
    current_a: Option<f64>,
    times: usize,
}

impl FamilyKeys for OpeningTimeKeys {
    type Family = DcBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &DcBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let current_a = match &self.current {
            None => None,
            Some(field) => {
                let wanted = field.positive(problems)?.si();
                if wanted < LEAST * of.setting.si() {
                    let least = amps(LEAST * of.setting.si());
                    let why =
                        format!("too near the setting to tell when it is passed: at least {least}");
                    problems.push(Problem::new(field.span(), why));
                    return None;
                }
                Some(wanted)
            }
        };
        let times = firing::times(self.times.as_ref(), USUAL.0, problems)?;
        Some(Arc::new(Fired(Opening { test: head.name(), current_a, times })))
    }
}

/// What a test of the opening time knows.
#[derive(Default)]
pub(super) struct Openings {
    /// Opening times, and how quickly the current rose when it passed the setting, in s and A/s.
    seen: Vec<(f64, f64)>,
    turn: usize,
    lacks: Option<(Verdict, String)>,
    is_done: bool,
    /// The setting that an earlier test of the run has found, in A.
    setting_a: Option<f64>,
}

/// The setting that is passed, in A, of a point's stimulus.
pub(crate) fn passing(stimulus: &Values) -> Option<f64> {
    stimulus.get("setting")
}

impl Opening {
    fn point(&self, of: &DcBreaker, setting_a: f64, prospective_a: Option<f64>) -> Finding {
        let stimulus = Values::none().with_quantity("setting", amps(setting_a));
        let stimulus = stimulus.with_some("current", prospective_a.map(Current::from_si));
        let found = Finding::not_tested(point(&self.test, "opening-time"), OPENING, stimulus, "");
        Finding { limits: required(of, &found), ..found }
    }

    fn setting(&self, of: &DcBreaker, state: &Openings) -> f64 {
        state.setting_a.unwrap_or(of.setting.si())
    }

    fn prospective(&self, at: &At<'_>, state: &Openings) -> f64 {
        let setting = self.setting(at.of, state);
        self.current_a.unwrap_or((USUAL.1 * setting).min(at.source.reach_a(at.circuit)))
    }

    fn graded(&self, at: &At<'_>, state: &mut Openings) -> Finding {
        let setting = self.setting(at.of, state);
        let found = self.point(at.of, setting, Some(self.prospective(at, state)));
        if let Some((verdict, why)) = state.lacks.take() {
            return found.judged(Judgement::new(verdict, why));
        }
        let times = state.seen.iter().map(|(time, _)| *time);
        let most = times.clone().fold(0.0f64, f64::max);
        let least = times.clone().fold(f64::INFINITY, f64::min);
        let rate = state.seen.iter().map(|(_, rate)| rate).sum::<f64>() / state.seen.len() as f64;
        let time = |si| quantity(si, Dimension::TIME);
        // What the current is off by moves the moment at which it passes.
        let sample = Value::Plain(time(at.source.rig.timing_resolution.si().max(1.0 / QUICK_HZ)));
        let passes = at.source.amps(setting).function(most, 1.0 / rate);
        let estimate = at
            .source
            .rig
            .timed_between(seconds(most), [None, None], None)
            .plus(&passes)
            .function(most, 1.0)
            .with_beside(Cause::limit("sampling", sample), 1.0);
        let measured = Values::none()
            .with_quantity("time", time(most))
            .with_quantity("shortest", time(least))
            .with_quantity("rate", quantity(rate, Dimension::CURRENT_RATE));
        let of = if state.setting_a.is_some() { "as found" } else { "of the file" };
        let each = times.map(|t| time(t).to_string()).collect::<Vec<_>>().join(", ");
        let note = format!(
            "{each} after the current passed {} (the setting {of}), rising by {}",
            amps(setting),
            quantity(rate, Dimension::CURRENT_RATE)
        );
        judged(at.of, found, Found { measured, estimate, note })
    }
}

impl Firing for Opening {
    type State = Openings;

    const WORD: &'static str = "opening-time";

    fn test(&self) -> &Name {
        &self.test
    }

    fn begins_closed(&self) -> bool {
        true
    }

    fn foreseen(&self, of: &DcBreaker, source: &Source) -> Result<Vec<Foreseen>, SetupError> {
        let time = STEP.0 * SLOWEST_S + STEP.1;
        let setting = of.setting.si();
        let found = self.point(of, setting, Some(self.current_a.unwrap_or(USUAL.1 * setting)));
        Ok(vec![Foreseen {
            points: vec![("opening-time".to_owned(), OPENING)],
            stimulus: found.stimulus,
            limits: found.limits,
            program: source
                .pulse(vec![source.hold("step", source.range_v(), seconds(time))], QUICK_HZ),
            count: self.times,
        }])
    }

    fn next(&self, at: &At<'_>, state: &mut Openings) -> Next {
        if state.is_done {
            return Next::Done;
        }
        let setting = self.setting(at.of, state);
        let prospective = self.prospective(at, state);
        let why = at.source.beyond(at.circuit, prospective.max(LEAST * setting), 0.0);
        if let Some(why) = why {
            state.is_done = true;
            let found = self.point(at.of, setting, Some(prospective));
            return Next::Conclude(vec![found.judged(Judgement::new(Verdict::NotTested, why))]);
        }
        let time = STEP.0 * at.circuit.time_constant().min(SLOWEST_S) + STEP.1;
        let volts = at.circuit.ohm * prospective;
        let program = at.source.pulse(vec![at.source.hold("step", volts, seconds(time))], QUICK_HZ);
        let part = format!("step {} of {}", state.turn + 1, self.times);
        Next::Fire { program: program.into(), part, serves: vec!["opening-time".to_owned()] }
    }

    fn seen(&self, at: &At<'_>, state: &mut Openings, seen: &Observation) -> Vec<Finding> {
        let setting = self.setting(at.of, state);
        let lacks = |why: &str| Err((Verdict::Inconclusive, why.to_owned()));
        let shown = match samples(seen) {
            None => lacks("the pulse was not captured"),
            Some(pulse) => match pulse.shown(WINDOW_S, floor(at.of)) {
                Shown::Opened(opened) => match pulse.passes(setting, opened.parted_s) {
                    Some(passed) => {
                        let slope = pulse.slope(passed - AROUND_S, passed + AROUND_S);
                        Ok((opened.parted_s - passed, slope.unwrap_or(f64::NAN)))
                    }
                    None => lacks(&format!(
                        "its contacts parted at {} already, below the setting",
                        amps(opened.level_a)
                    )),
                },
                Shown::Stayed { most_a } if most_a > at.of.band().1 => {
                    Err((Verdict::Fail, format!("it did not open on {}", amps(most_a))))
                }
                Shown::Stayed { most_a } => lacks(&format!("no more than {} flowed", amps(most_a))),
                Shown::Nothing => lacks("no current flowed: it was not closed"),
                Shown::Untold(why) => lacks(&why),
            },
        };
        match shown {
            Ok(one) => state.seen.push(one),
            Err(why) => state.lacks = Some(why),
        }
        state.turn += 1;
        if state.turn < self.times && state.lacks.is_none() {
            return Vec::new();
        }
        state.is_done = true;
        vec![self.graded(at, state)]
    }

    fn afresh(&self, state: &Openings) -> Openings {
        Openings { setting_a: state.setting_a, ..Openings::default() }
    }

    fn take_over(&self, state: &mut Openings, carried: &Carried) {
        state.setting_a = carried.get(FOUND).copied();
    }
}
