//! The keys of `trip-time`.

use super::{element_of, loops_of, time_or};
use crate::{Level, TripTimeSettings};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::procedure::{Method, TestHead, TestKeys};
use waltron_core::quantity::{Current, Dimension, Measure, Quantity, Time};
use waltron_core::text::document::{
    Field, Problem, Problems, QuantityText, Spannable, Text, optional,
};

/// Pre-fault, fault, time until trip.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TripTimeKeys {
    /// The element under test.
    element: Option<Text>,
    /// Fault loops to inject: `A-N`, `B-N`, `C-N`, `A-B`, `B-C`, `C-A`, `A-B-C`.
    loops: Option<Spannable<Vec<Text>>>,
    /// Levels to inject: multiples of pickup (`2 x`) or currents (`3 A`).
    at: Option<Spannable<Vec<Text>>>,
    /// How often each point is injected; once if not given.
    repeat: Option<Spannable<u32>>,
    /// Balanced load current before the fault.
    prefault: Option<QuantityText<Current>>,
    /// How long the pre-fault state lasts; 500 ms if not given.
    prefault_time: Option<QuantityText<Time>>,
    /// How long to wait where no operation is expected; derived if not given.
    wait: Option<QuantityText<Time>>,
    /// `self` (default) or `ask` for contacts that latch.
    reset: Option<Spannable<ResetForm>>,
    /// Time with outputs off before each injection; 1 s if not given.
    rest: Option<QuantityText<Time>>,
    /// `element` (default), or `contact` to grade whatever closes the trip contact first.
    of: Option<Spannable<OfForm>>,
}

/// How a latched contact is reset between points.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum ResetForm {
    /// It resets by itself.
    #[serde(rename = "self")]
    BySelf,
    /// The attendant is asked after each operation.
    Ask,
}

/// What the times of a test are graded as.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum OfForm {
    /// The element under test; where another one may operate first, the point is not tested.
    Element,
    /// Whatever closes the contact first.
    Contact,
}

/// Most points one test may hold; beyond it a typing error is likelier than a wish.
const MOST_POINTS: usize = 100_000;

impl TestKeys for TripTimeKeys {
    fn read(
        &self,
        head: TestHead<'_>,
        asset: &Asset,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let element = element_of(self.element.as_ref(), head, asset, problems);
        let loops = loops_of(self.loops.as_ref(), head, problems);
        let rest = time_or(&self.rest, 1.0, problems);
        let at = self.levels(head, problems);
        let repeat = self.repeat_of(problems);
        let prefault = self.prefault.as_ref().map(|f| f.positive(problems));
        let prefault_time = time_or(&self.prefault_time, 0.5, problems);
        let wait = self.wait.as_ref().map(|f| f.positive(problems));
        let (at, loops, repeat) = (at?, loops?, repeat?);
        if at.len() * loops.len() * repeat as usize > MOST_POINTS {
            let message = format!("this test makes more than {MOST_POINTS} points");
            problems.push(Problem::new(head.id.span(), message));
            return None;
        }
        Some(Arc::new(TripTimeSettings {
            test: head.name(),
            element: element?.id.clone(),
            loops,
            at,
            repeat,
            prefault: optional(prefault)?,
            prefault_time: prefault_time?,
            rest: rest?,
            wait: optional(wait)?,
            ask_reset: self.reset.as_ref().is_some_and(|r| *r.get() == ResetForm::Ask),
            of_contact: self.of.as_ref().is_some_and(|o| *o.get() == OfForm::Contact),
        }))
    }
}

impl TripTimeKeys {
    fn levels(&self, head: TestHead<'_>, problems: &mut Problems) -> Option<Vec<Level>> {
        let Some(at) = self.at.as_ref().filter(|at| !at.get().is_empty()) else {
            let place = self.at.as_ref().map_or_else(|| head.id.span(), Field::span);
            problems.push(
                Problem::new(place, "a trip-time test needs levels in `at`")
                    .help("write multiples of pickup or currents: at = [\"2 x\", \"3 A\"]"),
            );
            return None;
        };
        let mut levels = Vec::new();
        for text in at.get() {
            // What is worked out is a current, or a multiple: an expression has a unit anyway.
            if let Some(worked_out) = text.expression(&problems.settings) {
                match worked_out {
                    Ok(q) if q.si > 0.0 && q.dimension == Dimension::NUMBER => {
                        levels.push(Level::Multiple(q.si));
                    }
                    Ok(q) if q.si > 0.0 && q.dimension == Dimension::CURRENT => {
                        levels.push(Level::Absolute(Current::from_si(q.si)));
                    }
                    Ok(q) => {
                        let message = format!(
                            "`{}` is {q}, but a multiple of pickup or a current is wanted",
                            text.as_str()
                        );
                        problems.push(Problem::new(text.span(), message));
                    }
                    Err(problem) => problems.push(problem),
                }
                continue;
            }
            let problem = match Quantity::parse(text.as_str()) {
                Ok(q) if q.si <= 0.0 => {
                    Problem::new(text.span(), format!("`{}` must be above zero", text.as_str()))
                }
                // A bare number would be ambiguous: twice the pickup, or two amperes?
                Ok(q) if q.dimension == Dimension::NUMBER => {
                    if text.as_str().trim().ends_with(['x', '%']) {
                        levels.push(Level::Multiple(q.si));
                        continue;
                    }
                    Problem::new(text.span(), format!("`{}` has no unit", text.as_str()))
                        .help("write `2 x` for a multiple of pickup, `2 A` for a current")
                }
                Ok(q) => match q.get::<Current>() {
                    Some(i) => {
                        levels.push(Level::Absolute(i));
                        continue;
                    }
                    None => Problem::new(
                        text.span(),
                        format!(
                            "`{}` is {}, but a multiple of pickup or a current is wanted",
                            text.as_str(),
                            q.dimension
                        ),
                    ),
                },
                Err(error) => Problem::quantity(text.span(), &error),
            };
            problems.push(problem);
        }
        Some(levels)
    }

    fn repeat_of(&self, problems: &mut Problems) -> Option<u32> {
        match &self.repeat {
            None => Some(1),
            Some(n) if *n.get() == 0 => {
                problems.push(Problem::new(n.span(), "`repeat` must be at least 1"));
                None
            }
            Some(n) => Some(*n.get()),
        }
    }
}
