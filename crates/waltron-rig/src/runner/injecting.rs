//! One injection: permitted, rested for, written down, put out, written down again.

use super::{Halt, Runner};
use crate::rig::{Announced, RigError};
use std::sync::Arc;
use waltron_core::clearance::{Cleared, clear};
use waltron_core::grading::Grade;
use waltron_core::injection::program::{Finish, Program};
use waltron_core::procedure::{Injection, Procedure};
use waltron_core::quantity::{Dimension, Quantity, duration, seconds};
use waltron_core::record::{Begun, Event, Most};
use waltron_core::text::name::Name;

/// A rest that is worth a line each time: somebody would wonder why nothing happens.
const LONG_REST_S: f64 = 5.0;

impl Runner<'_> {
    /// What a program puts out beyond what was told before the run, if so.
    fn beyond(&self, program: &Program) -> Option<String> {
        program.maxima().into_iter().find_map(|(channel, si, is_current)| {
            let told =
                self.told.iter().find(|(id, ..)| *id == channel).map_or(0.0, |(_, si, _)| *si);
            let dimension = if is_current { Dimension::CURRENT } else { Dimension::VOLTAGE };
            let text = |si| Quantity { si, dimension };
            (si > told * (1.0 + 1e-9) + 1e-9).then(|| {
                format!(
                    "{} on {channel} is more than the {} that was told before",
                    text(si),
                    text(told)
                )
            })
        })
    }

    /// Lets the asset cool until a program's heat has room.
    fn cool_for(&mut self, program: &Program) -> Result<(), Halt> {
        let ratings = self.asset.ratings_at(program.connection.as_ref());
        self.duty.rate(&ratings, self.rig.capability());
        let rest = self.duty.rest_before(program);
        if rest > seconds(0.0) {
            self.off()?;
            // Of many short rests in a row the first is told; the record holds each of them.
            if rest > seconds(LONG_REST_S) || !self.short_rests {
                self.short_rests = rest <= seconds(LONG_REST_S);
                let more =
                    if self.short_rests { "; further ones as short are not told" } else { "" };
                self.tell(format!(
                    "Outputs stay off for {} so that the asset cools: earlier injections have used up its short-time rating{more}",
                    duration(rest)
                ))?;
            }
            self.rig.rest(rest, self.attendant).map_err(Halt::Rig)?;
            self.duty.cool(rest);
            self.emit(&Event::Rested { time: rest })?;
        }
        Ok(())
    }

    /// A program that may be put out, or why it may not.
    fn permitted(&self, program: &Arc<Program>) -> Result<Cleared, String> {
        let ratings = self.asset.ratings_at(program.connection.as_ref());
        let cleared = clear(Arc::clone(program), &ratings, self.rig.capability());
        // Cleared before by its worst case; a follow-up that exceeds it is not put out.
        let cleared = cleared
            .map_err(|refusals| refusals.first().map_or_else(String::new, ToString::to_string))?;
        // What was confirmed is the most that may come; a test that asks for more is mistaken.
        self.beyond(program).map_or(Ok(cleared), Err)
    }

    /// Writes down what is about to be put out, and the worst that comes of it.
    fn begun(
        &mut self,
        id: &Name,
        procedure: &dyn Procedure,
        program: &Program,
        points: &[String],
    ) -> Result<(), Halt> {
        let mut worst = self.duty.clone();
        worst.put_out_whole(program);
        let mut if_cut = self.carried.clone();
        procedure.hand_on_if_cut(&mut if_cut);
        let if_cut = if if_cut == self.carried { Default::default() } else { if_cut };
        let begun = Begun {
            test: id.clone(),
            points: points.to_vec(),
            connection: program.connection.clone(),
            outputs: Most::of(program),
            longest: program.longest(),
            warm: worst.warm(),
            if_cut,
        };
        self.emit(&Event::Begun(begun))
    }

    /// Notes in the record what later tests shall know, where that has changed.
    pub(super) fn note_handed_on(&mut self, procedure: &dyn Procedure) -> Result<(), Halt> {
        let mut carried = self.carried.clone();
        procedure.hand_on(&mut carried);
        self.hand_on(carried)
    }

    fn hand_on(&mut self, carried: waltron_core::procedure::Carried) -> Result<(), Halt> {
        if carried == self.carried {
            return Ok(());
        }
        self.carried.clone_from(&carried);
        self.emit(&Event::HandedOn { carried })
    }

    pub(super) fn inject(
        &mut self,
        id: &Name,
        procedure: &mut dyn Procedure,
        program: Arc<Program>,
    ) -> Result<Vec<Grade>, Halt> {
        // A point that is injected again is the same program.
        let before = self.cleared.take().filter(|cleared| cleared.is_of(&program));
        let cleared = match before.map_or_else(|| self.permitted(&program), Ok) {
            Ok(cleared) => cleared,
            Err(reason) => return self.found(procedure.refuse(&reason)),
        };
        for go in [Self::lead, Self::stand] {
            if let Some(skipped) = go(self, &program)? {
                return self.found(procedure.refuse(&skipped));
            }
        }
        self.cool_for(&program)?;
        if self.attendant.wants_to_stop() {
            return Err(Halt::Stopped);
        }
        let Injection { point, part, serves } = procedure.injection();
        let times_before = match &point {
            Some(point) => self.tally.attempts(point),
            None => self.tally.ended(id.as_str()) + self.repeats,
        };
        let words = format!("{} {part}", point.unwrap_or_default());
        self.attendant.begins(&stage(&program, &part));
        self.attendant.awaits(&program.awaited());
        if let Some(charged) = self.charges(&program) {
            self.owes_charge(Some(charged))?;
        }
        self.begun(id, procedure, &program, &serves)?;
        self.held |= program.finish == Finish::Keep;
        self.direct = program.has_dc() || (self.direct && self.held);
        self.rig.announce(&Announced { test: id.as_str(), injection: &words, times_before });
        let observation = self.rig.play(&cleared, self.attendant).map_err(Halt::Rig)?;
        self.cleared = Some(cleared);
        self.held = observation.stays_on;
        if !self.held {
            self.attendant.goes_off();
        }
        self.injected += observation.length();
        self.note_moves(&program, &observation);
        // A later step of the same test may grade a time that was taken here.
        self.duty.put_out(&program, &observation);
        let warm = self.duty.warm();
        let aborted = observation.aborted();
        // What is known of the asset now stands before what was seen: a record that is cut between the two tells no
        // less than what is so.
        let found = if aborted {
            let mut carried = self.carried.clone();
            procedure.hand_on_if_cut(&mut carried);
            self.hand_on(carried)?;
            Vec::new()
        } else {
            let found = procedure.observe(&observation);
            self.note_handed_on(procedure)?;
            found
        };
        let event =
            Event::Observed { test: id.clone(), points: serves, program, observation, warm };
        self.emit(&event)?;
        let Event::Observed { observation, program, .. } = event else { return Ok(Vec::new()) };
        // Graded before anybody is waited for: who stops while it is discharged or earthed loses no reading.
        let graded = self.found(found)?;
        match observation.discharge {
            Some(left) if !left.is_done => {
                return Err(Halt::Rig(RigError::StillCharged(left.left())));
            }
            Some(discharged) => self.is_discharged(&discharged, Some(&program))?,
            None => {}
        }
        if aborted {
            if let Some(stop) = self.rig.capability().emergency_stop.clone()
                && stop.has_stopped(&observation)
            {
                let signal = &stop.signal;
                let (is, fault) = match stop.when_closed {
                    true => ("closed", "its wires touch"),
                    false => ("open", "its wire is broken"),
                };
                // What stood so from the beginning may be a wire as well as a hand.
                self.tell(match observation.length() > seconds(0.0) {
                    true => format!("Emergency stop: `{signal}`; outputs are off"),
                    false => format!(
                        "Emergency stop: `{signal}` was {is} when the injection began: it is pressed, or {fault}; outputs are off"
                    ),
                })?;
            }
            if self.direct && self.rig.capability().discharge.is_some() {
                self.tell(
                    "Stopped with direct current on: discharged now; the core may be left magnetised: demagnetise it"
                        .to_owned(),
                )?;
            }
            self.earth(&program, &observation)?;
            return Err(Halt::Stopped);
        }
        self.direct &= self.held;
        self.earth(&program, &observation)?;
        Ok(graded)
    }
}

/// What is injected, in words: the place where there are several, and the stage.
fn stage(program: &Program, part: &str) -> String {
    let place = program.connection.as_ref().map(Name::as_str);
    let last = program.segments.last().map(|s| s.name.as_str());
    let stage = if part.is_empty() { last } else { Some(part) };
    place.into_iter().chain(stage).collect::<Vec<_>>().join(" · ")
}
