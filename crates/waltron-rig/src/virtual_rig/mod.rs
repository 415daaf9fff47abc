//! The virtual rig: plays programs in virtual time on a simulated specimen.

mod debounce;
mod levels;
mod meter;
#[cfg(test)]
mod tests;
mod watch;

use crate::attendant::{Attendant, Present};
use crate::rig::{Announced, Rig, RigError};
use debounce::Debounce;
use levels::levels;
use meter::Meter;
use std::time::{Duration, Instant};
use waltron_core::capability::{Capability, Parameter, ParameterKind, ParameterValue};
use waltron_core::clearance::Cleared;
use waltron_core::grading::Values;
use waltron_core::name::Name;
use waltron_core::observation::{Ended, Observation, OffAt, Reading, Span};
use waltron_core::program::{Finish, Program, Segment, Then};
use waltron_core::quantity::{Measure, Quantity, Time, seconds};
use waltron_core::readback::ReadSetting;
use waltron_core::stimulus::Stimulus;
use waltron_core::waveform::{next_zeros, pieces, settled};
use waltron_specimen::{Noise, Specimen};
use watch::Watch;

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

/// Seed of the rig's own measuring scatter, apart from the specimen's.
const METER_SEED: u64 = 0x5741_4c54;

/// A rig that computes instead of injecting.
pub struct VirtualRig {
    name: String,
    capability: Capability,
    specimen: Box<dyn Specimen>,
    pace: Pace,
    /// Which draw of scatter the next injection gets.
    draw: u64,
    energised: bool,
    /// What is out now.
    out: Stimulus,
    /// What was set besides the outputs since it was switched off.
    touched: Vec<Name>,
}

impl VirtualRig {
    /// A rig with a specimen wired to it.
    pub fn new(
        name: String,
        capability: Capability,
        specimen: Box<dyn Specimen>,
        pace: Pace,
    ) -> Self {
        let out = Stimulus::off();
        Self {
            name,
            capability,
            specimen,
            pace,
            draw: 0,
            energised: false,
            out,
            touched: Vec::new(),
        }
    }

    /// Whether anything is being put out.
    pub fn is_energised(&self) -> bool {
        self.energised
    }

    /// What is put out now.
    pub fn out(&self) -> &Stimulus {
        &self.out
    }

    /// Says which draw of scatter the next injection gets; without being told, each gets its own.
    pub fn set_draw(&mut self, draw: u64) {
        self.draw = draw;
    }

    /// Sets back what was set besides the outputs: switches first.
    pub fn parameters_off(&mut self) {
        let mut touched: Vec<&Parameter> =
            self.capability.parameters.iter().filter(|p| self.touched.contains(&p.name)).collect();
        touched.sort_by_key(|p| p.kind != ParameterKind::Switch);
        for parameter in touched {
            self.specimen.set(parameter.name.as_str(), parameter.off);
        }
        self.touched.clear();
    }

    /// Waits until the wall clock has caught up; false if the attendant wants to stop.
    fn keep_pace(&self, to: Time, play: &mut Play<'_>) -> bool {
        if self.pace == Pace::Fast {
            return !play.attendant.wants_to_stop();
        }
        let due = moment(play.began, to);
        loop {
            if play.attendant.wants_to_stop() {
                return false;
            }
            if play.attendant.is_watching() {
                let now = seconds(play.began.elapsed().as_secs_f64()).min(to);
                let closed = play.contacts.closed();
                play.attendant.sees(&Present { now, out: &self.out, closed: &closed });
            }
            let now = Instant::now();
            if now >= due {
                return true;
            }
            std::thread::sleep(GLANCE.min(due - now));
        }
    }

    /// Whether the emergency stop's input is in its stopping state.
    fn is_stopped(&self, contacts: &Debounce) -> bool {
        let stop = self.capability.emergency_stop.as_ref();
        stop.is_some_and(|stop| contacts.is(&stop.signal, stop.when_closed))
    }

    fn play_segment(&mut self, segment: &Segment, play: &mut Play<'_>) -> Result<Ended, RigError> {
        // Nothing comes on while the emergency stop says so.
        if self.is_stopped(&play.contacts) {
            return Ok(Ended::Aborted);
        }
        let mut watch = Watch::new(&segment.stops, play.now);
        for (stimulus, lasts) in levels(&segment.profile) {
            if lasts.is_none() && segment.longest().is_none() {
                return Err(RigError::Endless { segment: segment.name.to_string() });
            }
            self.specimen.apply(&stimulus);
            self.out = stimulus;
            let end = lasts.map(|t| play.now + t);
            if let Some(ended) = self.pass(&mut watch, end, play) {
                return Ok(ended);
            }
        }
        Ok(Ended::Finished)
    }

    /// Lets time pass up to a level's end, or until the segment ends.
    fn pass(
        &mut self,
        watch: &mut Watch<'_>,
        end: Option<Time>,
        play: &mut Play<'_>,
    ) -> Option<Ended> {
        loop {
            if watch.due(play.now) {
                let (capability, specimen) = (&self.capability, &*self.specimen);
                let mut meter = Meter::of_now(capability, specimen, &self.out, &mut play.noise);
                watch.poll(play.now, |probe| meter.read(probe), &mut *play.attendant);
                // Looking may have taken longer than the time between two looks.
                if self.pace == Pace::Real {
                    watch.not_before(seconds(play.began.elapsed().as_secs_f64()));
                }
            }
            if self.is_stopped(&play.contacts) {
                return Some(Ended::Aborted);
            }
            if let Some(index) = watch.met(play.now, &play.contacts) {
                return Some(Ended::Stop(index));
            }
            if end.is_some_and(|end| play.now >= end) {
                return None;
            }
            let moments = [end, watch.wake(play.now), play.contacts.next_due()];
            // Every level or its segment is bounded, so there is always a moment.
            let until = moments.into_iter().flatten().reduce(Time::min).unwrap_or(play.now);
            if !self.pass_until(until, play) {
                return Some(Ended::Aborted);
            }
        }
    }

    /// Lets time pass up to a moment or the first contact change; false if the attendant stops.
    fn pass_until(&mut self, until: Time, play: &mut Play<'_>) -> bool {
        let change = self.specimen.advance(until);
        let to = change.as_ref().map_or(until, |edge| edge.time);
        if !self.keep_pace(to, play) {
            // In real pace the output was on until now, not until the planned moment.
            if self.pace == Pace::Real {
                let passed = seconds(play.began.elapsed().as_secs_f64());
                play.now = play.now.max(passed).min(to);
            }
            return false;
        }
        play.now = to;
        match change {
            Some(edge) => play.contacts.change(&edge),
            None => play.contacts.settle(to),
        }
        true
    }

    /// Switches each channel off at its next zero crossing; contacts are watched meanwhile.
    fn off_at_zero(
        &mut self,
        program: &Program,
        observation: &mut Observation,
        play: &mut Play<'_>,
    ) -> Result<(), RigError> {
        let mut zeros = next_zeros(&pieces(program, Some(observation)));
        zeros.sort_by(|a, b| a.1.si().total_cmp(&b.1.si()));
        for (channel, time) in zeros {
            while play.now < time {
                if !self.pass_until(time, play) {
                    return self.off();
                }
            }
            self.out.currents.retain(|d| d.channel != channel);
            self.out.voltages.retain(|d| d.channel != channel);
            self.specimen.apply(&self.out);
            observation.off_at.push(OffAt { channel, time });
        }
        self.off()
    }
}

/// One program being played.
struct Play<'a> {
    now: Time,
    began: Instant,
    contacts: Debounce,
    attendant: &'a mut dyn Attendant,
    noise: Noise,
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
        let program = program.program();
        let draw = self.draw;
        self.draw += 1;
        self.specimen.begin(draw);
        let closed: Vec<Name> = self.specimen.closed();
        let contacts = Debounce::new(&self.capability, &closed);
        let closed_at_start = contacts.closed();
        let noise = Noise::of_shot(METER_SEED, draw);
        let (now, began) = (seconds(0.0), Instant::now());
        let mut play = Play { now, began, contacts, attendant, noise };
        let mut observation = Observation { closed_at_start, ..Default::default() };
        self.energised = true;
        for segment in &program.segments {
            let start = play.now;
            let waits = segment.waits_for_angle();
            let so_far = if waits { pieces(program, Some(&observation)) } else { Vec::new() };
            let outcome = self.play_segment(&settled(segment, &so_far), &mut play);
            if outcome.is_err() {
                self.off()?;
            }
            let ended = outcome?;
            observation.segments.push(Span { start, end: play.now, ended });
            let over = match ended {
                Ended::Aborted => true,
                Ended::Finished => false,
                Ended::Stop(index) => segment.stops[index].then != Then::Next,
            };
            if over {
                break;
            }
        }
        let (capability, specimen) = (&self.capability, &*self.specimen);
        let seen =
            if program.reads.is_empty() { Vec::new() } else { pieces(program, Some(&observation)) };
        let mut meter = Meter::of_last(capability, specimen, seen, &mut play.noise);
        let mut readings = Vec::new();
        for probe in &program.reads {
            if let Some(si) = meter.read(probe) {
                let value = Quantity { si, dimension: probe.dimension };
                let value = Values::none().with_quantity("value", value);
                readings.push(Reading { probe: probe.clone(), value });
            }
        }
        observation.readings = readings;
        let forced = observation.segments.iter().zip(&program.segments).any(|(span, segment)| {
            matches!(span.ended, Ended::Stop(i) if segment.stops[i].then == Then::Off)
        });
        match program.finish {
            _ if forced => self.off()?,
            Finish::Keep if !observation.aborted() => {}
            Finish::OffAtZero if !observation.aborted() => {
                self.off_at_zero(program, &mut observation, &mut play)?;
            }
            _ => self.off()?,
        }
        observation.edges = play.contacts.into_edges();
        Ok(observation)
    }

    fn announce(&mut self, injection: &Announced<'_>) {
        self.set_draw(injection.draw());
    }

    fn rest(&mut self, time: Time, attendant: &mut dyn Attendant) -> Result<(), RigError> {
        if self.pace == Pace::Real {
            wait(time, attendant);
        }
        self.off()?;
        self.specimen.begin(self.draw);
        // Nobody looks at the contacts meanwhile.
        while self.specimen.advance(time).is_some() {}
        Ok(())
    }

    fn settings(&mut self) -> Result<Vec<ReadSetting>, RigError> {
        Ok(self.specimen.settings())
    }

    fn is_simulated(&self) -> bool {
        true
    }

    fn set(&mut self, parameter: &Name, value: ParameterValue) -> Result<(), RigError> {
        let known = self.capability.parameter(parameter.as_str()).is_some();
        if known && self.specimen.set(parameter.as_str(), value) {
            if !self.touched.contains(parameter) {
                self.touched.push(parameter.clone());
            }
            return Ok(());
        }
        Err(RigError::NoParameter { parameter: parameter.to_string() })
    }

    fn end_test(&mut self) -> Result<(), RigError> {
        self.parameters_off();
        self.off()
    }

    fn off(&mut self) -> Result<(), RigError> {
        self.out = Stimulus::off();
        self.specimen.apply(&self.out);
        self.energised = false;
        Ok(())
    }
}

/// A time after an instant; a time that no clock reaches stands for a day.
fn moment(from: Instant, time: Time) -> Instant {
    const DAY: Duration = Duration::from_secs(86_400);
    let time = Duration::try_from_secs_f64(time.si().max(0.0)).unwrap_or(DAY);
    from.checked_add(time).unwrap_or(from + DAY)
}

/// Lets real time pass until the attendant wants to stop.
pub(crate) fn wait(time: Time, attendant: &mut dyn Attendant) {
    let due = moment(Instant::now(), time);
    while !attendant.wants_to_stop() {
        let left = due.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return;
        }
        std::thread::sleep(GLANCE.min(left));
    }
}

impl Drop for VirtualRig {
    fn drop(&mut self) {
        // Switching a simulation off cannot fail.
        let _ = self.end_test();
    }
}
