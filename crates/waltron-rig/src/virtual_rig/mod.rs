//! The virtual rig: plays programs in virtual time on a simulated specimen.

mod debounce;
mod input;
mod levels;
mod look;
mod output;
#[cfg(test)]
mod tests;
mod watch;

use crate::attendant::{Attendant, Present};
use crate::rig::{Announced, Rig, RigError};
use debounce::Debounce;
use input::Moment;
use levels::levels;
use look::Look;
use output::Outputs;
use std::time::{Duration, Instant};
use waltron_core::capability::{Capability, Parameter, ParameterKind, ParameterValue};
use waltron_core::clearance::Cleared;
use waltron_core::measuring::{
    Capture, Captured, CapturedTrack, Part, Place, Probe, Reading, When,
};
use waltron_core::name::Name;
use waltron_core::observation::{Edge, Ended, Observation, OffAt, Span};
use waltron_core::program::{Finish, Program, Segment, Then};
use waltron_core::quantity::{Measure, Time, seconds};
use waltron_core::readback::ReadSetting;
use waltron_core::stimulus::Stimulus;
use waltron_core::waveform::{PhaseClock, next_zeros, pieces, settled};
use waltron_specimen::{Noise, Specimen, Window};
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
    /// Switches that are closed.
    closed: Vec<Name>,
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
            closed: Vec::new(),
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

    fn look<'l>(&'l self, play: &'l Play<'_>, outputs: Outputs<'l>) -> Look<'l> {
        let moment = Moment {
            now: play.now.si(),
            level_start: play.level_start.si(),
            nominal: self.out.frequency().map_or(50.0, Measure::si).max(1.0),
            clock: &play.clock,
        };
        Look::new(&self.capability, &*self.specimen, moment, outputs)
    }

    /// Measures these here and now.
    fn read<'p>(&self, probes: impl Iterator<Item = &'p Probe>, play: &mut Play<'_>) {
        let place = Place { segment: play.segment, level: play.level, time: play.now };
        let mut noise = play.noise.clone();
        let mut look = self.look(play, Outputs::of_now(&self.capability, &self.out));
        let read = probes.map(|probe| look.reading(probe, Some(place), &mut noise));
        let read: Vec<Reading> = read.collect();
        play.noise = noise;
        play.readings.extend(read);
    }

    /// What meters have seen of a part of the program; `None` where the part did not come.
    fn captured(&self, capture: &Capture, seen: &Observation, play: &Play<'_>) -> Option<Captured> {
        let (from, to) = match &capture.part {
            Part::Whole => (seconds(0.0), play.now),
            Part::Segment(index) => {
                let span = seen.segments.get(*index)?;
                (span.start, span.end)
            }
            Part::Around { signal, closed, before, after } => {
                let same = |e: &&Edge| e.signal == *signal && e.closed == *closed;
                let at = play.contacts.edges().iter().find(same)?.time;
                ((at - *before).max(seconds(0.0)), (at + *after).min(play.now))
            }
        };
        let count = ((to - from).si() * capture.rate_hz + 1e-6).floor().max(0.0) as usize;
        let window = Window { start_s: from.si(), rate_hz: capture.rate_hz, count };
        let track = |name: &Name| {
            let samples = self.specimen.samples(name, window)?;
            Some(CapturedTrack::new(name.clone(), samples))
        };
        let tracks = capture.of.iter().filter_map(track).collect();
        let (name, rate_hz) = (capture.name.clone(), capture.rate_hz);
        Some(Captured { name, rate_hz, start: from, tracks })
    }

    /// Closes and opens switches.
    fn switch(&mut self, segment: &Segment) {
        for switching in &segment.switches {
            self.closed.retain(|name| *name != switching.output);
            if switching.closed {
                self.closed.push(switching.output.clone());
            }
            self.specimen.switch(&switching.output, switching.closed);
        }
    }

    fn play_segment(
        &mut self,
        index: usize,
        segment: &Segment,
        play: &mut Play<'_>,
    ) -> Result<Ended, RigError> {
        // Nothing comes on while the emergency stop says so.
        if self.is_stopped(&play.contacts) {
            return Ok(Ended::Aborted);
        }
        let mut watch = Watch::new(&segment.stops, play.now);
        play.begin_segment(index, segment);
        self.switch(segment);
        let mut levels = levels(&segment.profile).peekable();
        let mut place = None;
        while let Some(level) = levels.next() {
            if level.lasts.is_none() && segment.longest().is_none() {
                return Err(RigError::Endless { segment: segment.name.to_string() });
            }
            if place.replace(level.place) != Some(level.place) {
                (play.level, play.level_start) = (level.place.number, play.now);
            }
            self.specimen.apply(&level.stimulus);
            play.clock.apply(play.now.si(), &level.stimulus);
            self.out = level.stimulus;
            let end = level.lasts.map(|t| play.now + t);
            let ended = self.pass(&mut watch, end, play);
            let is_over =
                ended.is_some() || levels.peek().is_none_or(|next| next.place != level.place);
            if is_over && !level.place.rest && ended != Some(Ended::Aborted) {
                let each = segment.reads.iter().filter(|r| r.when == When::EachLevel);
                let each = each.map(|r| &r.probe);
                if each.clone().next().is_some() {
                    self.read(each, play);
                }
            }
            if let Some(ended) = ended {
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
                let mut noise = play.noise.clone();
                let mut values: Vec<(Probe, Option<f64>)> = Vec::new();
                if watch.measures() {
                    let mut look = self.look(play, Outputs::of_now(&self.capability, &self.out));
                    let probes = watch.probes();
                    values.extend(probes.map(|p| (p.clone(), look.value(p, &mut noise))));
                }
                play.noise = noise;
                watch.poll(play.now, values, &mut *play.attendant);
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
            let due = play.due();
            if !due.is_empty() {
                self.read(due.iter(), play);
            }
            let moments =
                [end, watch.wake(play.now), play.contacts.next_due(), play.next_reading()];
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
    clock: PhaseClock,
    /// Where it is.
    segment: usize,
    level: usize,
    level_start: Time,
    /// What is measured again and again in this segment: the next time, the time between, and what.
    regular: Vec<(Time, Time, Probe)>,
    readings: Vec<Reading>,
}

impl Play<'_> {
    fn begin_segment(&mut self, index: usize, segment: &Segment) {
        (self.segment, self.level, self.level_start) = (index, 0, self.now);
        let regular = segment.reads.iter().filter_map(|r| match r.when {
            When::Every(time) => Some((self.now + time, time, r.probe.clone())),
            When::EachLevel => None,
        });
        self.regular = regular.collect();
    }

    /// When something is measured next.
    fn next_reading(&self) -> Option<Time> {
        self.regular.iter().map(|(next, ..)| *next).reduce(Time::min)
    }

    /// What is to be measured by now.
    fn due(&mut self) -> Vec<Probe> {
        let mut due = Vec::new();
        for (next, every, probe) in &mut self.regular {
            if self.now >= *next {
                due.push(probe.clone());
                *next += *every;
            }
        }
        due
    }
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
        let contacts = Debounce::new(&self.capability, &closed, program.raw_edges);
        let closed_at_start = contacts.closed();
        let noise = Noise::of_shot(METER_SEED, draw);
        let (now, began) = (seconds(0.0), Instant::now());
        let mut play = Play {
            now,
            began,
            contacts,
            attendant,
            noise,
            clock: PhaseClock::default(),
            segment: 0,
            level: 0,
            level_start: now,
            regular: Vec::new(),
            readings: Vec::new(),
        };
        let mut observation = Observation { closed_at_start, ..Default::default() };
        self.energised = true;
        for (index, segment) in program.segments.iter().enumerate() {
            let start = play.now;
            let waits = segment.waits_for_angle();
            let so_far = if waits { pieces(program, Some(&observation)) } else { Vec::new() };
            let outcome = self.play_segment(index, &settled(segment, &so_far), &mut play);
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
        observation.readings = std::mem::take(&mut play.readings);
        if !program.reads.is_empty() {
            let outputs = Outputs::of_last(&self.capability, pieces(program, Some(&observation)));
            let mut noise = play.noise.clone();
            let mut look = self.look(&play, outputs);
            for probe in &program.reads {
                observation.readings.push(look.reading(probe, None, &mut noise));
            }
            play.noise = noise;
        }
        // Before anything goes off: what the meters see from then on is another thing.
        let captures = program.captures.iter();
        observation.captures =
            captures.filter_map(|c| self.captured(c, &observation, &play)).collect();
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
        (observation.edges, observation.raw_edges) = play.contacts.into_edges();
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
        for name in std::mem::take(&mut self.closed) {
            self.specimen.switch(&name, false);
        }
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
