//! Playing a program: levels one after another, conditions watched, contacts debounced, readings taken
//! in their places, whatever it is played on.

mod debounce;
mod device;
pub(crate) mod drain;
mod levels;
mod pace;
#[cfg(test)]
mod tests;
mod watch;

pub(crate) use device::{Charge, Device, Here};
pub use pace::Pace;
pub(crate) use pace::{Pacer, wait};

use crate::attendant::Attendant;
use crate::rig::RigError;
use debounce::Debounce;
pub(crate) use levels::levels;
use waltron_core::injection::capability::{Capability, Discharge};
use waltron_core::injection::measuring::{
    Capture, Captured, CapturedTrack, Part, Place, Probe, Reading, When,
};
use waltron_core::injection::observation::{Edge, Ended, Observation, OffAt, Span};
use waltron_core::injection::program::{Finish, Profile, Program, Segment, Then};
use waltron_core::injection::waveform::{next_zeros, pieces, settled};
use waltron_core::quantity::{Measure, Time, seconds};
use waltron_core::text::name::Name;
use watch::Watch;

/// The longest step of a rig that charges what it feeds, in s.
const STEP_S: f64 = 0.02;

/// One program being played on a device.
pub(crate) struct Player<'a> {
    device: &'a mut dyn Device,
    capability: &'a Capability,
    pacer: Pacer,
    attendant: &'a mut dyn Attendant,
    now: Time,
    contacts: Debounce,
    /// Where it is.
    segment: usize,
    level: usize,
    level_start: Time,
    /// What is measured again and again in this segment: the next time, the time between, and what.
    regular: Vec<(Time, Time, Probe)>,
    readings: Vec<Reading>,
    /// Whether something direct charges what the rig's own meter watches.
    charges: bool,
    /// How it is seen that nothing is charged any more: by the rig's own words, else by the program's.
    discharge: Option<Discharge>,
}

impl<'a> Player<'a> {
    /// A player for a device whose contacts are in this state.
    pub(crate) fn new(
        device: &'a mut dyn Device,
        capability: &'a Capability,
        pace: Pace,
        attendant: &'a mut dyn Attendant,
        closed: &[Name],
        raw_edges: bool,
    ) -> Self {
        let contacts = Debounce::new(capability, closed, raw_edges);
        Self {
            device,
            capability,
            pacer: Pacer::begin(pace),
            attendant,
            now: seconds(0.0),
            contacts,
            segment: 0,
            level: 0,
            level_start: seconds(0.0),
            regular: Vec::new(),
            readings: Vec::new(),
            charges: true,
            discharge: capability.discharge.clone(),
        }
    }

    /// Plays a whole program. Outputs are off afterwards, unless it says that they stay.
    ///
    /// # Errors
    /// A segment that never ends; outputs are off then too.
    pub(crate) fn play(mut self, program: &Program) -> Result<Observation, RigError> {
        self.charges = program.earth.is_none();
        self.discharge = self.discharge.take().or_else(|| program.discharge.clone());
        let closed_at_start = self.contacts.closed();
        let mut observation = Observation { closed_at_start, ..Default::default() };
        for (index, segment) in program.segments.iter().enumerate() {
            let start = self.now;
            let waits = segment.waits_for_angle();
            let so_far = if waits { pieces(program, Some(&observation)) } else { Vec::new() };
            let outcome = self.play_segment(index, &settled(segment, &so_far));
            if outcome.is_err() {
                self.device.off();
                self.drain();
            }
            let ended = outcome?;
            observation.segments.push(Span { start, end: self.now, ended });
            let over = match ended {
                Ended::Aborted => true,
                Ended::Finished => false,
                Ended::Stop(index) => segment.stops[index].then != Then::Next,
            };
            if over {
                break;
            }
        }
        observation.readings = std::mem::take(&mut self.readings);
        if !program.reads.is_empty() {
            let pieces = pieces(program, Some(&observation));
            let here = Here { place: None, pieces: Some(pieces), ..self.here() };
            let probes: Vec<&Probe> = program.reads.iter().collect();
            let read = self.device.read(&probes, here);
            observation.readings.extend(read);
        }
        // Before anything goes off: what the meters see from then on is another thing.
        let captures = program.captures.iter();
        observation.captures = captures.filter_map(|c| self.captured(c, &observation)).collect();
        let forced = observation.segments.iter().zip(&program.segments).any(|(span, segment)| {
            matches!(span.ended, Ended::Stop(i) if segment.stops[i].then == Then::Off)
        });
        match program.finish {
            _ if forced => self.device.off(),
            Finish::Keep if !observation.aborted() => {}
            Finish::OffAtZero if !observation.aborted() => {
                self.off_at_zero(program, &mut observation);
            }
            _ => self.device.off(),
        }
        // What keeps nothing on is off, whatever was on before it.
        let keeps = program.finish == Finish::Keep && !observation.aborted() && !forced;
        observation.stays_on = keeps && !self.device.out().is_off();
        if keeps && !observation.stays_on {
            self.device.off();
        }
        if !observation.stays_on {
            observation.discharge = self.drain();
        }
        (observation.edges, observation.raw_edges) = self.contacts.into_edges();
        Ok(observation)
    }

    fn here(&self) -> Here<'a> {
        let place = Place { segment: self.segment, level: self.level, time: self.now };
        Here {
            capability: self.capability,
            now: self.now,
            level_start: self.level_start,
            place: Some(place),
            pieces: None,
        }
    }

    /// Whether the emergency stop's input is in its stopping state.
    fn is_stopped(&self) -> bool {
        let stop = self.capability.emergency_stop.as_ref();
        stop.is_some_and(|stop| self.contacts.is(&stop.signal, stop.when_closed))
    }

    fn begin_segment(&mut self, index: usize, segment: &Segment) {
        (self.segment, self.level, self.level_start) = (index, 0, self.now);
        // What a recording holds is not looked through.
        if self.charges && matches!(segment.profile, Profile::Playback(_)) {
            self.charge(None);
        }
        let regular = segment.reads.iter().filter_map(|r| match r.when {
            When::Every(time) => Some((self.now + time, time, r.probe.clone())),
            When::EachLevel => None,
        });
        self.regular = regular.collect();
        for to in &segment.moves {
            self.attendant.moves(to);
            self.device.hand(to);
        }
        for switching in &segment.switches {
            self.device.switch(&switching.output, switching.closed);
        }
    }

    /// Measures these here and now.
    fn read(&mut self, probes: &[&Probe]) {
        let here = self.here();
        let read = self.device.read(probes, here);
        self.readings.extend(read);
    }

    fn play_segment(&mut self, index: usize, segment: &Segment) -> Result<Ended, RigError> {
        // Nothing comes on while the emergency stop says so.
        if self.is_stopped() {
            return Ok(Ended::Aborted);
        }
        let mut watch = Watch::new(&segment.stops, self.now, segment.looks_every);
        self.begin_segment(index, segment);
        let mut levels = levels(&segment.profile).peekable();
        let mut place = None;
        while let Some(level) = levels.next() {
            if level.lasts.is_none() && segment.longest().is_none() {
                return Err(RigError::Endless { segment: segment.name.to_string() });
            }
            if place.replace(level.place) != Some(level.place) {
                (self.level, self.level_start) = (level.place.number, self.now);
            }
            if self.charges && level.stimulus.has_dc() {
                self.charge(Some(&level.stimulus));
            }
            self.device.put_out(self.now, level.stimulus);
            let end = level.lasts.map(|t| self.now + t);
            let ended = self.pass(&mut watch, end);
            self.look_at_charge();
            let is_over =
                ended.is_some() || levels.peek().is_none_or(|next| next.place != level.place);
            if is_over && !level.place.rest && ended != Some(Ended::Aborted) {
                let each = segment.reads.iter().filter(|r| r.when == When::EachLevel);
                let each: Vec<&Probe> = each.map(|r| &r.probe).collect();
                if !each.is_empty() {
                    self.read(&each);
                }
            }
            if let Some(ended) = ended {
                return Ok(ended);
            }
        }
        Ok(Ended::Finished)
    }

    /// Lets time pass up to a level's end, or until the segment ends.
    fn pass(&mut self, watch: &mut Watch<'_>, end: Option<Time>) -> Option<Ended> {
        loop {
            if watch.due(self.now) {
                let probes: Vec<&Probe> = watch.probes(self.now).collect();
                let values = match probes.is_empty() {
                    true => Vec::new(),
                    false => self.device.values(&probes, self.here()),
                };
                watch.poll(self.now, values, &mut *self.attendant);
                // Looking may have taken longer than the time between two looks.
                if let Some(passed) = self.pacer.passed() {
                    watch.not_before(passed);
                }
            }
            if self.is_stopped() {
                return Some(Ended::Aborted);
            }
            if let Some(index) = watch.met(self.now, &self.contacts) {
                return Some(Ended::Stop(index));
            }
            if end.is_some_and(|end| self.now >= end) {
                return None;
            }
            let due = self.due();
            if !due.is_empty() {
                self.read(&due.iter().collect::<Vec<_>>());
            }
            // What charges something passes in short steps: a stop finds it where it is.
            let step = self.capability.discharge.as_ref().map(|_| self.now + seconds(STEP_S));
            let due = self.contacts.next_due();
            let moments = [end, watch.wake(self.now), due, self.next_reading(), step];
            // Every level or its segment is bounded, so there is always a moment.
            let until = moments.into_iter().flatten().reduce(Time::min).unwrap_or(self.now);
            if !self.pass_until(until) {
                return Some(Ended::Aborted);
            }
        }
    }

    /// Lets time pass up to a moment or the first contact change; false if the attendant stops.
    fn pass_until(&mut self, until: Time) -> bool {
        let change = self.device.advance(until);
        let to = change.as_ref().map_or(until, |edge| edge.time);
        let contacts = &self.contacts;
        let keeps =
            self.pacer.keep(to, self.device.out(), || contacts.closed(), &mut *self.attendant);
        if !keeps {
            // In real pace the output was on until now, not until the planned moment.
            if let Some(passed) = self.pacer.passed() {
                self.now = self.now.max(passed).min(to);
            }
            return false;
        }
        self.now = to;
        match change {
            Some(edge) => self.contacts.change(&edge),
            None => self.contacts.settle(to),
        }
        true
    }

    /// Switches each channel off at its next zero crossing; contacts are watched meanwhile.
    fn off_at_zero(&mut self, program: &Program, observation: &mut Observation) {
        let mut zeros = next_zeros(&pieces(program, Some(observation)));
        zeros.sort_by(|a, b| a.1.si().total_cmp(&b.1.si()));
        for (channel, time) in zeros {
            while self.now < time {
                if !self.pass_until(time) {
                    return self.device.off();
                }
            }
            let mut left = self.device.out().clone();
            left.currents.retain(|d| d.channel != channel);
            left.voltages.retain(|d| d.channel != channel);
            self.device.put_out(self.now, left);
            observation.off_at.push(OffAt { channel, time });
        }
        self.device.off();
    }

    /// What meters have seen of a part of the program; `None` where the part did not come.
    fn captured(&self, capture: &Capture, seen: &Observation) -> Option<Captured> {
        let (from, to) = match &capture.part {
            Part::Whole => (seconds(0.0), self.now),
            Part::Segment(index) => {
                let span = seen.segments.get(*index)?;
                (span.start, span.end)
            }
            Part::AroundEnd { segment, before, after } => {
                let at = seen.segments.get(*segment)?.end;
                ((at - *before).max(seconds(0.0)), (at + *after).min(self.now))
            }
            Part::Around { signal, closed, before, after } => {
                let same = |e: &&Edge| e.signal == *signal && e.closed == *closed;
                let at = self.contacts.edges().iter().find(same)?.time;
                ((at - *before).max(seconds(0.0)), (at + *after).min(self.now))
            }
        };
        let count = ((to - from).si() * capture.rate_hz + 1e-6).floor().max(0.0) as usize;
        let track = |name: &Name| {
            let samples = self.device.samples(name, from.si(), capture.rate_hz, count)?;
            Some(CapturedTrack::new(name.clone(), samples))
        };
        let tracks = capture.of.iter().filter_map(track).collect();
        let (name, rate_hz) = (capture.name.clone(), capture.rate_hz);
        Some(Captured { name, rate_hz, start: from, tracks })
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
