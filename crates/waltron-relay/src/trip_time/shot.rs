//! One point: what is required of it, and what was seen.

use super::{FAULT, Shot};
use crate::show;
use waltron_core::grading::{
    Criterion, Finding, Judgement, Limits, TripOutcome, Values, Verdict, judge_trip_time,
};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::seen_trip;
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::{Current, Measure, seconds, text};
use waltron_core::text::name::Name;

impl Shot {
    pub(super) fn criterion(&self) -> Criterion {
        if self.body.band.earliest.is_some() {
            Criterion::TRIP_TIME
        } else {
            Criterion::NO_OPERATION
        }
    }

    pub(super) fn expected(&self) -> Values {
        Values::none().with_some("time", self.body.band.expected)
    }

    /// The point with what is required of it, not tested for this reason.
    pub(super) fn not_tested(&self, reason: &str) -> Finding {
        let (point, stimulus) = (self.point.clone(), self.body.stimulus.clone());
        Finding {
            expected: self.expected(),
            limits: self.limits(),
            ..Finding::not_tested(point, self.criterion(), stimulus, reason.to_owned())
        }
    }

    pub(super) fn limits(&self) -> Limits {
        let band = &self.body.band;
        match band.earliest {
            None => Limits::NoOperation,
            earliest => Limits::Operation { earliest, latest: band.latest },
        }
    }

    /// What it comes to at the expected time.
    pub(super) fn foreseen(&self, trip: &Name, capability: &Capability) -> Option<Finding> {
        let expected = self.body.band.expected?;
        let timed = capability.timed(expected, trip, None);
        let estimate = timed.with_shares(self.body.causes.clone(), self.body.slope.si());
        let measured = Values::none().with("time", expected);
        Some(Finding { measured, ..self.not_tested("") }.uncertain(&estimate))
    }

    pub(super) fn grade(
        &self,
        observation: &Observation,
        trip: &Name,
        capability: &Capability,
    ) -> Finding {
        self.grade_of(&self.body.program, observation, trip, capability)
    }

    /// The grade of what was seen of a program.
    pub(super) fn grade_of(
        &self,
        program: &Program,
        observation: &Observation,
        trip: &Name,
        capability: &Capability,
    ) -> Finding {
        let fault = program.position(FAULT).and_then(|i| observation.segments.get(i));
        let (measured, judged) = match fault {
            None => (
                None,
                Judgement::new(Verdict::Inconclusive, "the injection ended before inception"),
            ),
            Some(fault) => match seen_trip(observation, trip, fault.start, fault.end) {
                Ok(outcome) => {
                    let operated = match outcome {
                        TripOutcome::Operated(t) => Some(t),
                        TripOutcome::Waited(_) => None,
                    };
                    (operated, judge_trip_time(&self.body.band, outcome))
                }
                Err(judged) => (None, judged),
            },
        };
        // What was not seen proves no more than the time that it was waited for.
        let waited = fault.map_or(seconds(0.0), |fault| fault.end - fault.start);
        let judged = match judged.verdict {
            Verdict::Pass if measured.is_none() && waited < self.body.needed * 0.999 => {
                let (waited, needed) = (text(waited), text(self.body.needed));
                let why = format!("waited {waited} only, {needed} are needed: a longer `wait`");
                Judgement::new(Verdict::Inconclusive, why)
            }
            _ => judged,
        };
        let mut reason = judged.reason;
        if let Some(other) = &self.body.overtaken_by {
            reason.push_str(&format!("; {other} operates first here"));
        }
        let deviation = match (measured, self.body.band.expected) {
            (Some(t), Some(expected)) if expected.si() > 0.0 => Values::none()
                .with("time", t - expected)
                .with_percent("time", ((t - expected) / expected).value),
            (Some(t), Some(expected)) => Values::none().with("time", t - expected),
            _ => Values::none(),
        };
        // What times it, and what puts the current out, carried along the curve.
        let estimate = measured.map(|t| {
            let timed = capability.timed(t, trip, observation.host_timing);
            timed.with_shares(self.body.causes.clone(), self.body.slope.si())
        });
        let found = Finding {
            point: self.point.clone(),
            criterion: self.criterion(),
            stimulus: self.body.stimulus.clone(),
            expected: self.expected(),
            measured: Values::none().with_some("time", measured),
            deviation,
            limits: self.limits(),
            verdict: judged.verdict,
            reason,
            ..Finding::not_tested(self.point.clone(), self.criterion(), Values::none(), "")
        };
        found.uncertain(&estimate.unwrap_or_default())
    }
}

impl Shot {
    /// The injection and its grading in the sequence language.
    pub(super) fn script(&self, trip: &Name, ask_reset: bool, of_contact: bool) -> String {
        if let Some(reason) = &self.body.ambiguous {
            return format!("# {}: not tested, {reason}\n", self.point.id);
        }
        let fault_loop = self.point.fault_loop.unwrap_or(FaultLoop::AN);
        let current = Current::from_si(self.body.stimulus.get("current").unwrap_or(0.0));
        let lines = show::fault_lines(
            &self.body.program.segments,
            fault_loop,
            &show::current(current),
            trip,
        );
        let short = self.point.id.strip_prefix(&format!("{}/", self.point.test));
        let label = short.unwrap_or(&self.point.id);
        let contact = show::name(trip);
        let of = self.point.element.as_ref().filter(|_| !of_contact).map(show::name);
        let of = of.unwrap_or_else(|| contact.clone());
        let reset = format!("if {contact}\n  ask \"Reset the relay\"\nend\n");
        format!(
            "play\n  {}\nend\nexpect time(inception -> {contact}) within band({of}) as \"{label}\"\n{}",
            lines.join("\n  "),
            if ask_reset { reset } else { String::new() },
        )
    }
}
