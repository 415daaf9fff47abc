//! What a step's segment stands for, and what it yields once it was played.

use super::super::ast::Ending;
use super::super::context::Context;
use std::ops::Range;
use waltron_core::grading::Value as Shown;
use waltron_core::injection::observation::{Edge, Ended, Observation, Span};
use waltron_core::injection::program::{Condition, Profile, Program, Segment};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Dimension, Measure, Quantity, Time, seconds, text};
use waltron_core::text::expression::{Measured, Type, Value};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Cause, Estimate};

/// How many cycles a contact may take to answer to what it measures, where nobody says better: what measures over a
/// cycle or two, filters and debounces.
const ANSWERS: f64 = 5.0;

/// A step's main segment.
#[derive(Clone, Debug)]
pub(crate) struct Part {
    pub(crate) segment: usize,
    /// `hold`, `ramp`, …
    pub(crate) kind: &'static str,
    pub(crate) label: Option<Name>,
    /// The index of the stop that `until` stands for.
    pub(crate) until: Option<usize>,
    pub(crate) otherwise: Option<Ending>,
    /// What was waited for, in words.
    pub(crate) awaited: String,
    pub(crate) ramp: Option<RampScale>,
    pub(crate) span: Range<usize>,
}

/// How a ramp's place tells its value.
#[derive(Clone, Debug)]
pub(crate) struct RampScale {
    pub(crate) from: f64,
    pub(crate) to: f64,
    /// Difference between two levels; `None` on a slope.
    pub(crate) step: Option<f64>,
    pub(crate) dimension: Dimension,
}

impl RampScale {
    /// The value that a contact answered to which changed at a time of the ramp, and half of what lies between the ends
    /// between which it is; without a contact, what was out then. `None` at the ramp's beginning.
    fn place(
        &self,
        segment: &Segment,
        at: Time,
        is_edge: bool,
        context: &Context,
    ) -> Option<(f64, f64)> {
        let before = (at - seconds(ANSWERS) / context.nominal().si()).max(seconds(0.0));
        match (&segment.profile, self.step) {
            (Profile::Stairs(s), Some(step)) => {
                level(self, step, [before, at].map(|at| s.level_at(at)), is_edge)
            }
            (Profile::Steps(s), Some(step)) => {
                level(self, step, [before, at].map(|at| s.level_at(at) as u32), is_edge)
            }
            (Profile::Slope(s), _) => {
                let of = |at: Time| {
                    self.from + (self.to - self.from) * (at / s.time).value.clamp(0.0, 1.0)
                };
                Some(match is_edge {
                    true => (f64::midpoint(of(before), of(at)), (of(at) - of(before)).abs() / 2.0),
                    false => (of(at), 0.0),
                })
            }
            _ => None,
        }
    }
}

/// The contact that a condition looks at, and its state.
fn contact_of(condition: &Condition) -> Option<(&Name, bool)> {
    match condition {
        Condition::Contact { signal, closed } | Condition::Edge { signal, closed } => {
            Some((signal, *closed))
        }
        _ => None,
    }
}

impl Part {
    /// What its results are called after: its kind, and its label.
    pub(crate) fn owners(&self) -> Vec<&str> {
        std::iter::once(self.kind).chain(self.label.as_ref().map(Name::as_str)).collect()
    }

    /// The span of its segment, where it was played.
    pub(crate) fn seen<'a>(&self, observation: &'a Observation) -> Option<&'a Span> {
        observation.segments.get(self.segment)
    }

    /// Whether its condition came true.
    pub(crate) fn reached(&self, observation: &Observation) -> bool {
        self.seen(observation)
            .is_some_and(|s| self.until.is_some_and(|i| s.ended == Ended::Stop(i)))
    }

    /// How long it lasted; where it waited for something, how long until that came true, or why
    /// that cannot be told.
    pub(crate) fn lasted(
        &self,
        program: &Program,
        observation: &Observation,
        context: &Context,
    ) -> Value {
        let missing = |fails, why| Value::missing(Type::Quantity(Dimension::TIME), fails, why);
        let Some(span) = self.seen(observation) else {
            return missing(false, "the injection ended before this stage".to_owned());
        };
        let time = span.end - span.start;
        if self.until.is_some() && !self.reached(observation) {
            return missing(true, format!("waited {} in vain for {}", text(time), self.awaited));
        }
        let segment = program.segments.get(self.segment);
        let stop = segment.and_then(|s| self.until.and_then(|i| s.stops.get(i)));
        let at_contact = stop
            .is_some_and(|s| s.when.parts().iter().any(|c| matches!(c, Condition::Contact { .. })));
        if at_contact && time.si() < 1e-9 {
            let why =
                format!("`{}` already when the step began: check reset and wiring", self.awaited);
            return missing(false, why);
        }
        let contact = stop.and_then(|s| {
            s.when.parts().into_iter().find_map(|c| match c {
                Condition::Contact { signal, .. } => Some(signal),
                _ => None,
            })
        });
        let host = observation.host_timing;
        let estimate = Some(context.capability.timed_between(time, [None, contact], host));
        Value::Measured(Measured { value: Quantity::of(time), estimate })
    }

    /// The value of its ramp when its condition came true, or why there is none.
    ///
    /// What a contact answers to was out when it changed, or up to [`ANSWERS`] before: on a slope anything of that
    /// time, on a stair a level that began in it, or what lies between that and the one before. The middle is told, and
    /// half of what lies between both ends is part of its uncertainty.
    pub(crate) fn outcome(
        &self,
        program: &Program,
        observation: &Observation,
        context: &Context,
    ) -> Value {
        let Some(ramp) = &self.ramp else { return Value::Unknown(Type::Any) };
        let missing =
            |fails, why: String| Value::missing(Type::Quantity(ramp.dimension), fails, why);
        let q = |si| Quantity { si, dimension: ramp.dimension };
        let Some(span) = self.seen(observation) else {
            return missing(false, "the injection ended before the ramp".to_owned());
        };
        if self.until.is_some() && !self.reached(observation) {
            let why = format!("no `{}` up to the ramp's end at {}", self.awaited, q(ramp.to));
            return missing(true, why);
        }
        if self.until.is_some() && (span.end - span.start).si() < 1e-9 {
            let awaited = &self.awaited;
            let why = format!("`{awaited}` before the ramp began: check reset and wiring");
            return missing(false, why);
        }
        let segment = program.segments.get(self.segment);
        let edge = segment.and_then(|s| self.edge(s, span, observation));
        let at = edge.unwrap_or(span.end) - span.start;
        let Some(segment) = segment else {
            return missing(false, "it was not measured".to_owned());
        };
        let Some((si, half)) = ramp.place(segment, at, edge.is_some(), context) else {
            let why =
                format!("`{}` already at {}, where the ramp begins", self.awaited, q(ramp.from));
            return missing(true, why);
        };
        Value::Measured(self.measured(ramp, segment.profile.at(at), si, half, context))
    }

    /// Its ramp's value with what makes that uncertain; half of what lies between the ends between which it is.
    fn measured(
        &self,
        ramp: &RampScale,
        out: Stimulus,
        si: f64,
        half: f64,
        context: &Context,
    ) -> Measured {
        let q = |si| Quantity { si, dimension: ramp.dimension };
        let causes = context.capability.causes_of(&out, ramp.dimension);
        // Where no accuracy is stated, the step alone is known.
        let is_known = !causes.is_empty() || half > 0.0;
        let word = if ramp.step.is_some() { "step" } else { "time to answer" };
        let step = Cause::limit(format!("{word} of {}", self.awaited), Shown::Plain(q(half)));
        let estimate = Estimate::exact(si).with_shares(causes, si).with(step, 1.0);
        Measured { value: q(si), estimate: is_known.then_some(estimate) }
    }

    /// What its ramp will tell where a contact changes at a value; `None` where it waits for none, or does not come
    /// past it.
    pub(crate) fn foreseen(
        &self,
        segment: &Segment,
        si: f64,
        context: &Context,
    ) -> Option<Measured> {
        let ramp = self.ramp.as_ref()?;
        let stop = self.until.and_then(|i| segment.stops.get(i))?;
        stop.when.parts().iter().find(|c| contact_of(c).is_some())?;
        let way = (si - ramp.from) / (ramp.to - ramp.from);
        if !(0.0..=1.0).contains(&way) {
            return None;
        }
        let level = ramp.step.map_or(0, |step| ((si - ramp.from) / step).ceil() as u32);
        let reached = match &segment.profile {
            Profile::Stairs(s) => s.period() * f64::from(level),
            Profile::Steps(s) => s.period() * f64::from(level),
            Profile::Slope(s) => s.time * way,
            _ => return None,
        };
        let at = reached + seconds(ANSWERS / 2.0) / context.nominal().si();
        let (_, half) = ramp.place(segment, at, true, context)?;
        Some(self.measured(ramp, segment.profile.at(reached), si, half, context))
    }

    /// When the contact changed that was waited for, where one was.
    fn edge(&self, segment: &Segment, span: &Span, observation: &Observation) -> Option<Time> {
        let stop = self.until.and_then(|i| segment.stops.get(i))?;
        let waited_for = |e: &&Edge| {
            let mut contacts = stop.when.parts().into_iter().filter_map(contact_of);
            contacts.any(|(signal, closed)| *signal == e.signal && closed == e.closed)
        };
        let within = |e: &&Edge| e.time >= span.start && e.time <= span.end;
        observation.edges.iter().rev().filter(within).find(waited_for).map(|e| e.time)
    }

    /// The difference that the ramp can tell.
    pub(crate) fn resolution(&self, program: &Program, timing: Time) -> Option<Quantity> {
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

/// The value of a level, and how far the truth may lie from it; none on the first level, where a
/// contact that changed tells nothing. `before` is the level that was out as long ago as a contact may take to answer.
fn level(
    ramp: &RampScale,
    step: f64,
    [before, number]: [u32; 2],
    is_edge: bool,
) -> Option<(f64, f64)> {
    let at = ramp.from + step * f64::from(number);
    if !is_edge {
        return Some((at, 0.0));
    }
    // What was out already then is not what it answers to.
    let since = before.min(number.checked_sub(1)?);
    let half = step / 2.0 * f64::from(number - since);
    Some((at - half, half.abs()))
}
