//! Making: it closes against rising currents, and must stay closed.

use super::firing::{At, Fired, Firing, Foreseen, Next};
use super::judging::{Found, MAKING, judged, point, required};
use super::source::{CLOSE, QUICK_HZ, Source, floor, samples};
use crate::direct_current::analysis::pulse::Shown;
use crate::direct_current::asset::{DcBreaker, amps};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{Finding, Judgement, Values, Verdict};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Switching};
use waltron_core::procedure::{FamilyKeys, Method, SetupError, TestHead};
use waltron_core::quantity::{Measure, Ratio, seconds, significant};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText};
use waltron_core::text::name::Name;

/// The first current, the last one and the steps, as shares of the setting.
const USUAL: (f64, f64, f64) = (0.5, 0.9, 0.1);
/// How long the voltage is there before the command, and how long the current must flow, in s.
const BEFORE_S: f64 = 0.05;
const FLOWS_S: f64 = 0.5;
/// What must flow at the end, as a share of what would.
const ENOUGH: f64 = 0.8;
/// The samples before the contacts part that tell the current at that moment, in s.
const WINDOW_S: f64 = 0.005;

/// The largest current against which it closes and stays closed.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MakingKeys {
    /// The first current as a share of the setting; 50 % if not given.
    from: Option<QuantityText<Ratio>>,
    /// The last one; 90 %, or what its limit asks for, if not given.
    to: Option<QuantityText<Ratio>>,
    /// The step; 10 % if not given.
    step: Option<QuantityText<Ratio>>,
}

#[derive(Clone, Debug, PartialEq)]
pub(super) struct Making {
    test: Name,
    /// Currents, in A.
    levels: Vec<f64>,
}

/// How often it is closed at most.
const MOST_CLOSINGS: f64 = 100.0;

impl FamilyKeys for MakingKeys {
    type Family = DcBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &DcBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let setting = of.setting.si();
        let share = |field: &Option<QuantityText<Ratio>>, usual: f64, problems: &mut Problems| {
            field.as_ref().map_or(Some(usual), |f| f.positive(problems).map(|r| r.value))
        };
        let wanted = of.making_a.and_then(|(min, _)| min).map(|min| min / setting);
        let from = share(&self.from, USUAL.0, problems)?;
        let to = share(&self.to, wanted.unwrap_or(USUAL.1).max(USUAL.1), problems)?;
        let step = share(&self.step, USUAL.2, problems)?;
        let odd = [
            (to < from, &self.to, "it lies below the first current"),
            (step < 0.01, &self.step, "that would be very many closings: at least 1 %"),
        ];
        for (is, field, why) in odd {
            if is {
                let span = field.as_ref().map_or(head.id.span(), Field::span);
                problems.push(Problem::new(span, why));
                return None;
            }
        }
        let count = ((to - from) / step - 1e-9).ceil().max(0.0);
        if count >= MOST_CLOSINGS {
            let span = self.step.as_ref().or(self.to.as_ref()).map_or(head.id.span(), Field::span);
            let why = format!(
                "from {} to {} times the setting that would be {} closings, and {MOST_CLOSINGS} are the most",
                significant(from, 3),
                significant(to, 3),
                significant(count + 1.0, 3)
            );
            let help = "take a larger `step`; the file's `making_current` says how far it goes";
            problems.push(Problem::new(span, why).help(help));
            return None;
        }
        let count = count as usize;
        let levels = (0..=count).map(|k| (from + step * k as f64).min(to) * setting).collect();
        Some(Arc::new(Fired(Making { test: head.name(), levels })))
    }
}

/// What a test of the making current knows.
#[derive(Default)]
pub(super) struct Made {
    at: usize,
    /// The largest current that flowed on, in A.
    largest: Option<f64>,
    is_done: bool,
}

impl Making {
    fn point(&self, of: &DcBreaker) -> Finding {
        let ends =
            [self.levels.first(), self.levels.last()].map(|a| amps(a.copied().unwrap_or(0.0)));
        let [from, to] = ends;
        let stimulus = Values::none().with_quantity("from", from).with_quantity("to", to);
        let found = Finding::not_tested(point(&self.test, "making-current"), MAKING, stimulus, "");
        Finding { limits: required(of, &found), ..found }
    }

    fn program(&self, source: &Source, volts: f64) -> Program {
        let mut close = source.hold("close", volts, seconds(FLOWS_S));
        close.switches = vec![Switching { output: CLOSE.into(), closed: true }];
        source.pulse(vec![source.hold("before", volts, seconds(BEFORE_S)), close], QUICK_HZ)
    }

    /// What the closings have come to; why there was none more.
    fn graded(&self, at: &At<'_>, state: &mut Made, ended: Option<(Verdict, String)>) -> Finding {
        state.is_done = true;
        let found = self.point(at.of);
        let least = found.limits.lower();
        match (state.largest, ended) {
            (None, Some((verdict, why))) => {
                // What lets go on less than it must make is bad for certain.
                let verdict = if verdict == Verdict::Fail && least.is_none() {
                    Verdict::Measured
                } else {
                    verdict
                };
                found.judged(Judgement::new(verdict, why))
            }
            (None, None) => found.judged(Judgement::new(
                Verdict::NotTested,
                "there was no current to close against",
            )),
            (Some(largest), ended) => {
                let estimate = at.source.amps(largest);
                let measured = Values::none().with_quantity("current", amps(largest));
                let is_short = least.is_some_and(|least| largest < least);
                match ended {
                    // It was not its fault that it did not make more.
                    Some((verdict, why)) if is_short && verdict != Verdict::Fail => {
                        let found = Finding { measured, ..found }.uncertain(&estimate);
                        found.judged(Judgement::new(verdict, why))
                    }
                    ended => {
                        let more = ended.map_or(String::new(), |(_, why)| format!("; {why}"));
                        let note =
                            format!("closed and stayed closed up to {}{more}", amps(largest));
                        judged(at.of, found, Found { measured, estimate, note })
                    }
                }
            }
        }
    }
}

impl Firing for Making {
    type State = Made;

    const WORD: &'static str = "making";

    fn test(&self) -> &Name {
        &self.test
    }

    fn begins_closed(&self) -> bool {
        false
    }

    fn foreseen(&self, of: &DcBreaker, source: &Source) -> Result<Vec<Foreseen>, SetupError> {
        if source.command(true).is_none() {
            let lacks = format!("no switch for `{CLOSE}`");
            return Err(SetupError::Lacks { lacks, what: "switches" });
        }
        let found = self.point(of);
        Ok(vec![Foreseen {
            points: vec![("making-current".to_owned(), MAKING)],
            stimulus: found.stimulus,
            limits: found.limits,
            program: self.program(source, source.range_v()),
            count: self.levels.len(),
        }])
    }

    fn next(&self, at: &At<'_>, state: &mut Made) -> Next {
        if state.is_done {
            return Next::Done;
        }
        let Some(level) = self.levels.get(state.at).copied() else {
            return Next::Conclude(vec![self.graded(at, state, None)]);
        };
        if let Some(why) = at.source.beyond(at.circuit, level, 0.0) {
            return Next::Conclude(vec![self.graded(at, state, Some((Verdict::NotTested, why)))]);
        }
        let program = self.program(at.source, level * at.circuit.ohm);
        let serves = vec!["making-current".to_owned()];
        Next::Fire {
            program: program.into(),
            part: format!("closing against {}", amps(level)),
            serves,
        }
    }

    fn seen(&self, at: &At<'_>, state: &mut Made, seen: &Observation) -> Vec<Finding> {
        let wanted = self.levels.get(state.at).copied().unwrap_or(0.0);
        let untold = |why: String| Some((Verdict::Inconclusive, why));
        let ended = match samples(seen) {
            None => untold("the pulse was not captured".to_owned()),
            Some(pulse) => {
                let was_closed = pulse.mean(0.8 * BEFORE_S) > floor(at.of);
                match pulse.shown(WINDOW_S, floor(at.of)) {
                    _ if was_closed => {
                        untold("it was closed before it was told to close".to_owned())
                    }
                    Shown::Stayed { most_a } if pulse.at_end() >= ENOUGH * wanted => {
                        let flows = pulse.at_end().min(most_a);
                        state.largest = Some(state.largest.map_or(flows, |l| l.max(flows)));
                        None
                    }
                    Shown::Stayed { most_a } => untold(format!(
                        "{} flowed and not {}: the source's store, or a contact that does not close",
                        amps(most_a),
                        amps(wanted)
                    )),
                    Shown::Opened(opened) => Some((
                        Verdict::Fail,
                        format!(
                            "closing against {} it opened again at {}",
                            amps(wanted),
                            amps(opened.level_a)
                        ),
                    )),
                    Shown::Nothing => Some((
                        Verdict::Fail,
                        format!("told to close against {} it did not", amps(wanted)),
                    )),
                    Shown::Untold(why) => untold(why),
                }
            }
        };
        state.at += 1;
        match ended {
            None => Vec::new(),
            ended => vec![self.graded(at, state, ended)],
        }
    }
}
