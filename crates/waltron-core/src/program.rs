//! Programs: the timed stimulus of one injection, as plain data.
//!
//! A rig plays a whole program by itself, since a laptop cannot time milliseconds over a network.
//! A program is a list of segments; each puts something out and says what ends it.

use crate::edge;
use crate::name::Name;
use crate::quantity::{Measure, Time, seconds};
use crate::stimulus::Stimulus;
use serde::{Deserialize, Serialize};

/// One injection, from outputs off to outputs off.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Program {
    /// Played in order; a segment's stop may end the program earlier.
    pub segments: Vec<Segment>,
}

/// One stage of a program.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Segment {
    /// What it is called in previews and records: `pre-fault`, `fault`, `ramp up`.
    pub name: Name,
    /// What is put out.
    pub profile: Profile,
    /// What ends it; the first condition met wins, earlier ones in the list before later ones.
    pub stops: Vec<Stop>,
}

/// What a segment puts out over its time.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Profile {
    /// One stimulus held.
    Hold(Stimulus),
    /// A stair of equal steps.
    Stairs(Stairs),
}

/// A stair ramp, or a pulse ramp where `rest` is given.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Stairs {
    /// The first level.
    pub from: Stimulus,
    /// The last level, reached after `steps` steps.
    pub to: Stimulus,
    /// Number of steps, so there are `steps + 1` levels.
    pub steps: u32,
    /// Time on each level.
    #[serde(rename = "dwell_s", with = "edge::si")]
    pub dwell: Time,
    /// Healthy state between levels, which makes the stair a pulse ramp.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub rest: Option<Rest>,
}

/// The state a pulse ramp returns to between its pulses.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Rest {
    /// What is put out meanwhile.
    pub stimulus: Stimulus,
    /// For how long.
    #[serde(rename = "time_s", with = "edge::si")]
    pub time: Time,
}

/// Ends a segment when a condition holds.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Stop {
    /// The condition.
    pub when: Condition,
    /// What happens then.
    pub then: Then,
}

/// A condition watched by the rig while a segment plays.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Condition {
    /// The segment has lasted this long.
    #[serde(rename = "after_s")]
    After(#[serde(with = "edge::si")] Time),
    /// The contact with this meaning is in this state.
    Contact {
        /// Its meaning on the rig, such as `trip`.
        signal: Name,
        /// Closed or open.
        closed: bool,
    },
}

/// What follows a segment.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Then {
    /// The next segment; after the last one, the end.
    Next,
    /// The end: outputs off.
    End,
}

impl Segment {
    /// A held stimulus for a fixed time.
    pub fn hold(name: &str, stimulus: Stimulus, time: Time) -> Self {
        Self { name: name.into(), profile: Profile::Hold(stimulus), stops: vec![Stop::after(time)] }
    }

    /// Adds a stop that takes precedence over those already there.
    #[must_use]
    pub fn until(mut self, stop: Stop) -> Self {
        self.stops.insert(0, stop);
        self
    }

    /// The longest time the segment can last; `None` where nothing bounds it.
    pub fn longest(&self) -> Option<Time> {
        let limit = self.stops.iter().find_map(|s| match s.when {
            Condition::After(t) => Some(t),
            Condition::Contact { .. } => None,
        });
        match (&self.profile, limit) {
            (Profile::Hold(_), limit) => limit,
            (Profile::Stairs(stairs), limit) => {
                Some(limit.map_or(stairs.length(), |l| l.min(stairs.length())))
            }
        }
    }

    /// The levels a segment goes through, in order, each with how long it lasts at most.
    pub fn levels(&self) -> Vec<(Stimulus, Time)> {
        match &self.profile {
            Profile::Hold(s) => vec![(s.clone(), self.longest().unwrap_or_default())],
            Profile::Stairs(stairs) => (0..=stairs.steps)
                .flat_map(|i| {
                    let rest = stairs.rest.as_ref().map(|r| (r.stimulus.clone(), r.time));
                    [Some((stairs.level(i), stairs.dwell)), rest].into_iter().flatten()
                })
                .collect(),
        }
    }
}

impl Stop {
    /// Goes on after a time.
    pub fn after(time: Time) -> Self {
        Self { when: Condition::After(time), then: Then::Next }
    }

    /// Ends the program when a contact is in a state.
    pub fn on_contact(signal: Name, closed: bool) -> Self {
        Self { when: Condition::Contact { signal, closed }, then: Then::End }
    }
}

impl Stairs {
    /// The stimulus of level `index`, counted from 0.
    pub fn level(&self, index: u32) -> Stimulus {
        let share = if self.steps == 0 { 0.0 } else { f64::from(index) / f64::from(self.steps) };
        self.from.toward(&self.to, share)
    }

    /// Time from one level's start to the next one's.
    pub fn period(&self) -> Time {
        self.dwell + self.rest.as_ref().map_or(seconds(0.0), |r| r.time)
    }

    /// The level that was out at a time since the segment's start.
    ///
    /// In a pulse ramp the rest after a pulse still counts to that pulse, since a contact answers
    /// after its delay.
    pub fn level_at(&self, since_start: Time) -> u32 {
        let index = (since_start / self.period()).value.floor().max(0.0);
        (index as u32).min(self.steps)
    }

    /// Total time of all levels.
    pub fn length(&self) -> Time {
        self.period() * f64::from(self.steps + 1)
    }
}

impl Program {
    /// The longest time the program can take; `None` where a segment is unbounded.
    pub fn longest(&self) -> Option<Time> {
        self.segments.iter().map(Segment::longest).try_fold(seconds(0.0), |sum, t| Some(sum + t?))
    }

    /// The index of the segment with this name.
    pub fn position(&self, name: &str) -> Option<usize> {
        self.segments.iter().position(|s| s.name == name)
    }

    /// A short digest of the program's content: the first 16 hex digits of its BLAKE3 hash.
    pub fn digest(&self) -> String {
        let mut json = Vec::with_capacity(1024);
        // Serialising plain data of numbers and names cannot fail.
        let _ = serde_json::to_writer(&mut json, self);
        blake3::hash(&json).to_hex()[..16].to_owned()
    }

    /// The largest RMS value each channel will put out: (channel, value in A or V, is current).
    pub fn maxima(&self) -> Vec<(Name, f64, bool)> {
        let mut maxima: Vec<(Name, f64, bool)> = Vec::new();
        let mut raise = |channel: &Name, rms: f64, is_current: bool| match maxima
            .iter_mut()
            .find(|(c, _, _)| c == channel)
        {
            Some(found) => found.1 = found.1.max(rms),
            None => maxima.push((channel.clone(), rms, is_current)),
        };
        for (stimulus, _) in self.segments.iter().flat_map(Segment::levels) {
            stimulus.currents.iter().for_each(|d| raise(&d.channel, d.phasor.rms.si(), true));
            stimulus.voltages.iter().for_each(|d| raise(&d.channel, d.phasor.rms.si(), false));
        }
        maxima
    }
}
