//! What a segment puts out over its time: held, in stairs, in pulses, on a slope, from a recording.

use crate::injection::samples::Recording;
use crate::injection::stimulus::Stimulus;
use crate::quantity::edge;
use crate::quantity::{Measure, Time, seconds};
use crate::text::name::Name;
use serde::{Deserialize, Serialize};

/// What a segment puts out over its time.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Profile {
    /// One stimulus held.
    Hold(Stimulus),
    /// A stair of equal steps.
    Stairs(Stairs),
    /// A stair of given levels.
    Steps(Steps),
    /// A smooth slope.
    Slope(Slope),
    /// A recorded waveform.
    Playback(Playback),
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

/// A stair, or a pulse ramp where `rest` is given, whose levels are not equally far apart.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Steps {
    /// The levels in order, at least one.
    pub levels: Vec<Stimulus>,
    /// Time on each level.
    #[serde(rename = "dwell_s", with = "edge::si")]
    pub dwell: Time,
    /// Healthy state between levels, which makes the stair a pulse ramp.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub rest: Option<Rest>,
}

/// A smooth slope through given stimuli, equally far apart in time.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Slope {
    /// What is passed through in order, at least two.
    pub through: Vec<Stimulus>,
    /// Time from the first to the last.
    #[serde(rename = "time_s", with = "edge::si")]
    pub time: Time,
}

/// A recorded waveform put out sample by sample.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Playback {
    /// The file it came from, as the script names it.
    pub file: String,
    /// What is put out on which channel; a record of a run keeps its digest only.
    pub recording: Recording,
    /// How often it is put out.
    pub times: u32,
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
        self.period() * (f64::from(self.steps) + 1.0)
    }
}

impl Steps {
    /// Time from one level's start to the next one's.
    pub fn period(&self) -> Time {
        self.dwell + self.rest.as_ref().map_or(seconds(0.0), |r| r.time)
    }

    /// The index of the level that was out at a time since the segment's start.
    pub fn level_at(&self, since_start: Time) -> usize {
        let index = (since_start / self.period()).value.floor().max(0.0);
        (index as usize).min(self.levels.len().saturating_sub(1))
    }
}

impl Slope {
    /// What is out at a time since the slope's start.
    pub fn at(&self, since_start: Time) -> Stimulus {
        let parts = self.through.len().saturating_sub(1);
        let place = (since_start / self.time).value.clamp(0.0, 1.0) * parts as f64;
        let index = (place.floor() as usize).min(parts.saturating_sub(1));
        match (self.through.get(index), self.through.get(index + 1)) {
            (Some(from), Some(to)) => from.toward(to, place - index as f64),
            (only, _) => only.cloned().unwrap_or_default(),
        }
    }
}

impl Profile {
    /// Whether anything direct is put out; a recording counts as if it did.
    pub fn has_dc(&self) -> bool {
        match self {
            Self::Hold(stimulus) => stimulus.has_dc(),
            Self::Stairs(stairs) => stairs.from.has_dc() || stairs.to.has_dc(),
            Self::Steps(steps) => steps.levels.iter().any(Stimulus::has_dc),
            Self::Slope(slope) => slope.through.iter().any(Stimulus::has_dc),
            Self::Playback(_) => true,
        }
    }

    /// How long it lasts by itself; `None` where it is held until something ends it.
    pub fn length(&self) -> Option<Time> {
        match self {
            Self::Hold(_) => None,
            Self::Stairs(stairs) => Some(stairs.length()),
            Self::Steps(steps) => Some(steps.period() * steps.levels.len() as f64),
            Self::Slope(slope) => Some(slope.time),
            Self::Playback(playback) => Some(playback.length()),
        }
    }

    /// The last thing it puts out, if it comes to its end.
    pub fn last(&self) -> Stimulus {
        match self {
            Self::Hold(stimulus) => stimulus.clone(),
            Self::Stairs(s) => s.rest.as_ref().map_or_else(|| s.to.clone(), |r| r.stimulus.clone()),
            Self::Steps(s) => {
                let rest = s.rest.as_ref().map(|r| r.stimulus.clone());
                rest.or_else(|| s.levels.last().cloned()).unwrap_or_default()
            }
            Self::Slope(slope) => slope.through.last().cloned().unwrap_or_default(),
            Self::Playback(_) => Stimulus::off(),
        }
    }

    /// What is out at a time since the segment's start.
    pub fn at(&self, since_start: Time) -> Stimulus {
        let pulse = |period: Time, dwell: Time, rest: &Option<Rest>| {
            let inside = since_start.si() % period.si();
            rest.as_ref().filter(|_| inside >= dwell.si()).map(|r| r.stimulus.clone())
        };
        match self {
            Self::Hold(stimulus) => stimulus.after(since_start.si()),
            Self::Stairs(s) => {
                let level =
                    || s.level(s.level_at(since_start)).after(since_start.si() % s.period().si());
                pulse(s.period(), s.dwell, &s.rest).unwrap_or_else(level)
            }
            Self::Steps(s) => {
                let level = || s.levels.get(s.level_at(since_start)).cloned().unwrap_or_default();
                let inside = since_start.si() % s.period().si();
                pulse(s.period(), s.dwell, &s.rest).unwrap_or_else(|| level().after(inside))
            }
            Self::Slope(slope) => slope.at(since_start),
            Self::Playback(playback) => playback.phasors_at(since_start),
        }
    }
}

impl Playback {
    /// Time of all its repetitions.
    pub fn length(&self) -> Time {
        self.recording.length() * f64::from(self.times)
    }

    /// The phasors of the cycle that ends at a time since its start.
    pub fn phasors_at(&self, since_start: Time) -> Stimulus {
        let length = self.recording.length().si();
        let inside = if length > 0.0 { since_start.si() % length } else { 0.0 };
        self.recording.phasors_at(seconds(inside))
    }

    /// Its channels, each with whether it is a current.
    pub fn channels(&self) -> impl Iterator<Item = (&Name, bool)> {
        self.recording.channels.iter().map(|c| (&c.channel, c.is_current))
    }
}
