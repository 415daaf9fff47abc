//! What a step's segment stands for, and what it yields once it was played.

use super::super::ast::Ending;
use crate::grading::Verdict;
use crate::name::Name;
use crate::observation::{Ended, Observation, Span};
use crate::program::{Condition, Profile, Program};
use crate::quantity::{Dimension, Measure, Quantity, Time};
use std::ops::Range;

/// A step's main segment.
#[derive(Clone, Debug)]
pub(in crate::script) struct Part {
    pub(in crate::script) segment: usize,
    /// `hold`, `ramp`, …
    pub(in crate::script) kind: &'static str,
    pub(in crate::script) label: Option<Name>,
    /// The index of the stop that `until` stands for.
    pub(in crate::script) until: Option<usize>,
    pub(in crate::script) otherwise: Option<Ending>,
    /// What was waited for, in words.
    pub(in crate::script) awaited: String,
    pub(in crate::script) ramp: Option<RampScale>,
    pub(in crate::script) span: Range<usize>,
}

/// How a ramp's place tells its value.
#[derive(Clone, Debug)]
pub(in crate::script) struct RampScale {
    pub(in crate::script) from: f64,
    pub(in crate::script) to: f64,
    /// Difference between two levels; `None` on a slope.
    pub(in crate::script) step: Option<f64>,
    pub(in crate::script) dimension: Dimension,
}

impl Part {
    /// The span of its segment, where it was played.
    pub(in crate::script) fn seen<'a>(&self, observation: &'a Observation) -> Option<&'a Span> {
        observation.segments.get(self.segment)
    }

    /// Whether its condition came true.
    pub(in crate::script) fn reached(&self, observation: &Observation) -> bool {
        self.seen(observation)
            .is_some_and(|s| self.until.is_some_and(|i| s.ended == Ended::Stop(i)))
    }

    /// The value of its ramp when its condition came true, or why there is none.
    pub(in crate::script) fn outcome(
        &self,
        program: &Program,
        observation: &Observation,
    ) -> (Option<Quantity>, Option<(Verdict, String)>) {
        let why = match (self.seen(observation), self.until) {
            (None, _) => {
                Some((Verdict::Inconclusive, "the injection ended before the ramp".to_owned()))
            }
            (Some(span), Some(_))
                if self.reached(observation) && (span.end - span.start).si() < 1e-9 =>
            {
                let awaited = &self.awaited;
                Some((
                    Verdict::Inconclusive,
                    format!("`{awaited}` before the ramp began: check reset and wiring"),
                ))
            }
            (Some(_), Some(_)) if !self.reached(observation) => {
                let end = self.ramp.as_ref().map(|r| Quantity { si: r.to, dimension: r.dimension });
                let end = end.map(|q| q.to_string()).unwrap_or_default();
                Some((
                    Verdict::Fail,
                    format!("no `{}` up to the ramp's end at {end}", self.awaited),
                ))
            }
            _ => None,
        };
        match why {
            Some(why) => (None, Some(why)),
            None => (self.value(program, observation), None),
        }
    }

    /// The value of its ramp when it ended: that of the level that was out when the contact
    /// changed, for a contact answers at its edge.
    pub(in crate::script) fn value(
        &self,
        program: &Program,
        observation: &Observation,
    ) -> Option<Quantity> {
        let ramp = self.ramp.as_ref()?;
        let span = self.seen(observation)?;
        let segment = program.segments.get(self.segment)?;
        let by_contact = self.until.and_then(|i| segment.stops.get(i)).is_some_and(|stop| {
            stop.when
                .parts()
                .iter()
                .any(|c| matches!(c, Condition::Contact { .. } | Condition::Edge { .. }))
        });
        let edge = observation
            .edges
            .iter()
            .rev()
            .find(|e| e.time >= span.start && e.time <= span.end)
            .filter(|_| by_contact && self.reached(observation));
        let at = edge.map_or(span.end, |e| e.time) - span.start;
        let si = match (&segment.profile, ramp.step) {
            (Profile::Stairs(s), Some(step)) => ramp.from + step * f64::from(s.level_at(at)),
            (Profile::Steps(s), Some(step)) => ramp.from + step * s.level_at(at) as f64,
            (Profile::Slope(s), _) => {
                ramp.from + (ramp.to - ramp.from) * (at / s.time).value.clamp(0.0, 1.0)
            }
            _ => return None,
        };
        Some(Quantity { si, dimension: ramp.dimension })
    }

    /// The difference that the ramp can tell.
    pub(in crate::script) fn resolution(
        &self,
        program: &Program,
        timing: Time,
    ) -> Option<Quantity> {
        let ramp = self.ramp.as_ref()?;
        let si = match (ramp.step, program.segments.get(self.segment).map(|s| &s.profile)) {
            (Some(step), _) => step.abs(),
            (None, Some(Profile::Slope(s))) => {
                (ramp.to - ramp.from).abs() * (timing / s.time).value
            }
            _ => return None,
        };
        Some(Quantity { si, dimension: ramp.dimension })
    }
}
