//! The virtual rig: plays programs in virtual time on a simulated specimen.

mod debounce;
mod levels;
#[cfg(test)]
mod tests;

use crate::attendant::Attendant;
use crate::rig::{Rig, RigError};
use debounce::Debounce;
use levels::Levels;
use std::time::{Duration, Instant};
use waltron_core::capability::Capability;
use waltron_core::clearance::Cleared;
use waltron_core::name::Name;
use waltron_core::observation::{Edge, Ended, Observation, Span};
use waltron_core::program::{Condition, Segment, Then};
use waltron_core::quantity::{Measure, Time, seconds};
use waltron_core::stimulus::Stimulus;
use waltron_specimen::Specimen;

/// How virtual time relates to the wall clock.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Pace {
    /// As fast as it computes.
    Fast,
    /// A second takes a second.
    Real,
}

/// How often the attendant is looked at while keeping real pace.
const GLANCE: Duration = Duration::from_millis(20);

/// A rig that computes instead of injecting.
pub struct VirtualRig {
    name: String,
    capability: Capability,
    specimen: Box<dyn Specimen>,
    pace: Pace,
    shots: u64,
    energised: bool,
}

impl VirtualRig {
    /// A rig with a specimen wired to it.
    pub fn new(
        name: String,
        capability: Capability,
        specimen: Box<dyn Specimen>,
        pace: Pace,
    ) -> Self {
        Self { name, capability, specimen, pace, shots: 0, energised: false }
    }

    /// Whether anything is being put out.
    pub fn is_energised(&self) -> bool {
        self.energised
    }

    /// Waits until the wall clock has caught up; false if the attendant wants to stop.
    fn keep_pace(&self, began: Instant, to: Time, attendant: &dyn Attendant) -> bool {
        if self.pace == Pace::Fast {
            return !attendant.wants_to_stop();
        }
        let due = began + Duration::try_from_secs_f64(to.si()).unwrap_or(Duration::MAX);
        loop {
            if attendant.wants_to_stop() {
                return false;
            }
            let now = Instant::now();
            if now >= due {
                return true;
            }
            std::thread::sleep(GLANCE.min(due - now));
        }
    }

    fn play_segment(
        &mut self,
        segment: &Segment,
        play: &mut Play<'_>,
    ) -> Result<Option<Ended>, RigError> {
        let start = play.now;
        let time_stop = segment.stops.iter().enumerate().find_map(|(i, s)| match s.when {
            Condition::After(t) => Some((i, start + t)),
            _ => None,
        });
        let mut levels = Levels::of(&segment.profile);
        loop {
            let (stimulus, lasts) = match levels.next() {
                Some(level) => level,
                None => return Ok(Some(Ended::Finished)),
            };
            let level_end = lasts.map(|t| play.now + t);
            let end = match (level_end, time_stop) {
                (Some(a), Some((_, b))) => a.min(b),
                (Some(a), None) => a,
                (None, Some((_, b))) => b,
                (None, None) => {
                    return Err(RigError::Endless { segment: segment.name.to_string() });
                }
            };
            self.specimen.apply(&stimulus);
            if let Some(ended) = self.pass(segment, end, play) {
                return Ok(ended);
            }
            if let Some((index, at)) = time_stop
                && end >= at
            {
                return Ok(Some(Ended::Stop(index)));
            }
        }
    }

    /// Lets time pass up to `end`. Some: the segment ended, by a contact or (None) from outside.
    #[allow(clippy::option_option, reason = "ended from outside differs from not ended")]
    fn pass(&mut self, segment: &Segment, end: Time, play: &mut Play<'_>) -> Option<Option<Ended>> {
        loop {
            if let Some(index) = play.contacts.met(&segment.stops) {
                return Some(Some(Ended::Stop(index)));
            }
            if play.now >= end {
                return None;
            }
            let until = play.contacts.next_due().map_or(end, |due| due.min(end));
            let change = self.specimen.advance(until);
            let to = change.as_ref().map_or(until, |edge| edge.time);
            if !self.keep_pace(play.began, to, play.attendant) {
                // In real pace the output was on until now, not until the planned moment.
                if self.pace == Pace::Real {
                    let passed = seconds(play.began.elapsed().as_secs_f64());
                    play.now = play.now.max(passed).min(to);
                }
                return Some(None);
            }
            play.now = to;
            match change {
                Some(edge) => play.contacts.change(&edge),
                None => play.contacts.settle(to),
            }
        }
    }
}

/// One program being played.
struct Play<'a> {
    now: Time,
    began: Instant,
    contacts: Debounce,
    attendant: &'a dyn Attendant,
}

impl Rig for VirtualRig {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn capability(&self) -> &Capability {
        &self.capability
    }

    fn play(
        &mut self,
        program: &Cleared,
        attendant: &mut dyn Attendant,
    ) -> Result<Observation, RigError> {
        self.shots += 1;
        self.specimen.begin(self.shots);
        let closed: Vec<Name> = self.specimen.closed();
        let contacts = Debounce::new(&self.capability, &closed);
        let closed_at_start = contacts.closed();
        let mut play =
            Play { now: seconds(0.0), began: Instant::now(), contacts, attendant: &*attendant };
        let mut segments = Vec::new();
        self.energised = true;
        for segment in &program.program().segments {
            let start = play.now;
            let outcome = self.play_segment(segment, &mut play);
            if outcome.is_err() {
                self.off()?;
            }
            let ended = outcome?.unwrap_or(Ended::Aborted);
            segments.push(Span { start, end: play.now, ended });
            let over = match ended {
                Ended::Aborted => true,
                Ended::Finished => false,
                Ended::Stop(index) => segment.stops[index].then == Then::End,
            };
            if over {
                break;
            }
        }
        self.off()?;
        let edges: Vec<Edge> = play.contacts.into_edges();
        Ok(Observation { segments, closed_at_start, edges })
    }

    fn off(&mut self) -> Result<(), RigError> {
        self.specimen.apply(&Stimulus::off());
        self.energised = false;
        Ok(())
    }
}

impl Drop for VirtualRig {
    fn drop(&mut self) {
        // Switching a simulation off cannot fail.
        let _ = self.off();
    }
}
