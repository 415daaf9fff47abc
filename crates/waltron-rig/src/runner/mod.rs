//! Drives the procedures of a plan on a rig and emits what happens, as events.
//!
//! The runner prints nothing and writes nothing: the record, the live view and the JSON output
//! all consume its events. The final status is computed once, from counts.

mod ending;
mod injecting;
mod places;
mod prepare;
mod quiet;
mod test;

pub use prepare::{Blocked, Obstacle, Prepared, prepare, set_up};

use crate::attendant::Attendant;
use crate::rig::{Rig, RigError};
use std::collections::HashSet;
use std::error::Error;
use waltron_core::asset::Asset;
use waltron_core::clearance::Cleared;
use waltron_core::clearance::duty::{Duty, Warm};
use waltron_core::grading::{Finding, Grade, Rule, Values};
use waltron_core::injection::program::Stand;
use waltron_core::procedure::{Carried, Owed, PlannedPoint, Ungraded};
use waltron_core::quantity::{Time, seconds};
use waltron_core::record::{Event, Outcome, RunEnded, Tally};
use waltron_core::text::name::Name;

/// Where events go. An error stops the run: what cannot be recorded is not injected.
pub type Sink<'a> = dyn FnMut(&Event) -> Result<(), Box<dyn Error + Send + Sync>> + 'a;

/// What is left at the end of a run.
#[derive(Debug)]
pub struct Finished {
    /// Every grade in order.
    pub grades: Vec<Grade>,
    /// How it ended, as the last event says.
    pub ended: RunEnded,
    /// The rig's error, if that is what ended it.
    pub trouble: Option<RigError>,
}

/// Why a run broke off without its last event.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RunError {
    /// Events can no longer be recorded.
    #[error("the run was stopped, outputs are off: {0}")]
    Sink(Box<dyn Error + Send + Sync>),
}

/// What a record holds already when a run begins or goes on.
#[derive(Clone, Debug, Default)]
pub struct SoFar {
    /// The latest verdicts.
    pub tally: Tally,
    /// How warm earlier injections left the asset.
    pub warm: Warm,
    /// Time that it has had to cool since.
    pub cooled: Time,
    /// What its tests have handed on.
    pub carried: Carried,
    /// The last injection, where it was seen and not graded to its end.
    pub ungraded: Option<Ungraded>,
    /// What it has undone and not put back: asked about before anything else.
    pub owed: Vec<Owed>,
    /// The ids of points that were wanted before, are not graded, and are not chosen now.
    pub left_open: Vec<String>,
    /// The ids of points of the plan that are not graded and were not asked for now.
    pub left_out: Vec<String>,
}

enum Halt {
    Stopped,
    Rig(RigError),
    Sink(Box<dyn Error + Send + Sync>),
}

struct Runner<'a> {
    asset: &'a Asset,
    rig: &'a mut dyn Rig,
    attendant: &'a mut dyn Attendant,
    sink: &'a mut Sink<'a>,
    rule: Rule,
    tally: Tally,
    duty: Duty,
    grades: Vec<Grade>,
    /// The tests that came to their end, or were skipped.
    ended: HashSet<Name>,
    /// How often the present test was begun again.
    repeats: u32,
    injected: Time,
    /// Whether a short rest was told in the present test.
    short_rests: bool,
    /// Whether the last program left outputs on.
    held: bool,
    /// The program that was put out last.
    cleared: Option<Cleared>,
    /// What tests hand on to later ones.
    carried: Carried,
    /// What the record leaves to be graded.
    ungraded: Option<Ungraded>,
    /// What is undone, as the record has it, and what of it is no test's.
    owed: Vec<Owed>,
    charged: Option<Owed>,
    short: Option<Owed>,
    /// Whether what is on, or was, may have magnetised a core.
    direct: bool,
    /// Where somebody has taken the leads.
    leads: Option<Name>,
    /// Where what is moved by hand stands, as far as it is known.
    stands: Vec<Stand>,
    /// Whether sequences may run programs.
    may_execute: bool,
    /// The most that is put out of each channel, as it was told before the run.
    told: Vec<(Name, f64, bool)>,
}

/// Runs a prepared plan to its end, the attendant's stop or the rig's failure.
///
/// The caller emits the run's first event; every other one comes through `sink`. Outputs are off when
/// this returns, whatever happened.
///
/// # Errors
/// [`RunError`] when an event could not be recorded.
pub fn run<'a>(
    prepared: Prepared,
    asset: &'a Asset,
    rig: &'a mut dyn Rig,
    attendant: &'a mut dyn Attendant,
    so_far: SoFar,
    sink: &'a mut Sink<'a>,
) -> Result<Finished, RunError> {
    let planned: Vec<Vec<PlannedPoint>> =
        prepared.tests.iter().map(|(id, _)| prepared.points_of(id.as_str())).collect();
    let told = prepared.maxima();
    let mut duty = Duty::new(&asset.ratings, rig.capability()).warmed(&so_far.warm);
    duty.cool(so_far.cooled);
    let mut runner = Runner {
        asset,
        rig,
        attendant,
        sink,
        rule: prepared.rule,
        tally: so_far.tally,
        duty,
        grades: Vec::with_capacity(planned.iter().map(Vec::len).sum()),
        ended: HashSet::new(),
        repeats: 0,
        injected: seconds(0.0),
        short_rests: false,
        held: false,
        cleared: None,
        carried: so_far.carried,
        ungraded: so_far.ungraded,
        owed: so_far.owed.clone(),
        charged: None,
        short: None,
        direct: false,
        leads: None,
        stands: Vec::new(),
        may_execute: prepared.may_execute,
        told,
    };
    let halt = runner.pay(&so_far.owed).and_then(|()| {
        let mut tests = prepared.tests.into_iter().zip(&planned);
        tests.try_for_each(|((id, procedure), points)| runner.test(&id, procedure, points))
    });
    let halt = halt.err();
    let off = runner.end_test_after(halt.as_ref());
    let off = match &halt {
        Some(Halt::Sink(_)) => off,
        _ => off.and_then(|()| runner.take_short_off()),
    };
    let off = match off {
        Err(Halt::Rig(error)) => runner.owes_off(&error).and(Err(Halt::Rig(error))),
        off => off,
    };
    let (outcome, trouble) = match (halt, off) {
        (Some(Halt::Sink(error)), _) | (_, Err(Halt::Sink(error))) => {
            runner.tell_what_is_owed();
            return Err(RunError::Sink(error));
        }
        // That something may be on comes before what led to it.
        (Some(Halt::Rig(before)), Err(Halt::Rig(error @ RigError::LeftOn { .. })))
            if !matches!(before, RigError::LeftOn { .. }) =>
        {
            (Outcome::RigTrouble(format!("{error}. Before that: {before}")), Some(error))
        }
        (Some(Halt::Rig(error)), _) | (_, Err(Halt::Rig(error))) => {
            (Outcome::RigTrouble(error.to_string()), Some(error))
        }
        (_, Err(Halt::Stopped)) => (Outcome::Stopped, None),
        (Some(Halt::Stopped), Ok(())) => (Outcome::Stopped, None),
        (None, Ok(())) => (Outcome::Completed, None),
    };
    let reached: HashSet<&str> = runner.grades.iter().map(|g| g.point.id.as_str()).collect();
    // What a test that came to its end did not grade was not called for.
    let missed = planned.iter().flatten().filter(|p| {
        !runner.ended.contains(&p.point.test) && !reached.contains(p.point.id.as_str())
    });
    let mut open = so_far.left_open;
    open.extend(missed.map(|p| p.point.id.clone()));
    let ended = RunEnded {
        summary: runner.tally.summary(),
        not_reached: open.len(),
        open,
        left_out: so_far.left_out,
        owed: runner.owed.clone(),
        outcome,
        injected: runner.injected,
    };
    if let Err(error) = (runner.sink)(&Event::RunEnded(ended.clone())) {
        runner.tell_what_is_owed();
        return Err(RunError::Sink(error));
    }
    Ok(Finished { grades: runner.grades, ended, trouble })
}

impl Runner<'_> {
    fn emit(&mut self, event: &Event) -> Result<(), Halt> {
        (self.sink)(event).map_err(Halt::Sink)
    }

    /// Grades what was found: under the plan's rule, with the number of the attempt.
    fn found(&mut self, found: Vec<Finding>) -> Result<Vec<Grade>, Halt> {
        let grades = found.into_iter().map(|found| found.graded(self.rule)).collect();
        self.graded(grades)
    }

    fn graded(&mut self, grades: Vec<Grade>) -> Result<Vec<Grade>, Halt> {
        let mut told = Vec::with_capacity(grades.len());
        for mut grade in grades {
            grade.attempt = self.tally.note(&grade);
            // Events own what they tell; it is had back rather than copied.
            let event = Event::Graded(grade);
            self.emit(&event)?;
            if let Event::Graded(grade) = event {
                self.grades.push(grade.clone());
                told.push(grade);
            }
        }
        Ok(told)
    }

    /// Where nothing can be recorded any more, what is undone is at least told.
    fn tell_what_is_owed(&mut self) {
        for owed in &self.owed {
            self.attendant.tell(&format!("NOT PUT BACK: {}", owed.text));
        }
    }

    fn tell(&mut self, text: String) -> Result<(), Halt> {
        self.attendant.tell(&text);
        self.emit(&Event::Told { text })
    }
}

/// A point that was not injected.
fn left_out(planned: &PlannedPoint, reason: &str) -> Finding {
    Finding::not_tested(planned.point.clone(), planned.criterion.clone(), Values::none(), reason)
}
