//! Programs: the timed stimulus of one injection, as plain data.
//!
//! A rig plays a whole program by itself, since a laptop cannot time milliseconds over a network.
//! A program is a list of segments; each puts something out and says what ends it.

mod condition;
mod profile;
mod stand;
pub mod words;

pub use condition::{Condition, Relation};
pub use profile::{Playback, Profile, Rest, Slope, Stairs, Steps};
pub use stand::Stand;

use crate::injection::capability::Discharge;
use crate::injection::measuring::{Capture, Probe, Read};
use crate::injection::stimulus::Stimulus;
use crate::quantity::{Measure, Time, seconds};
use crate::text::name::Name;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// How many times as long as direct voltage was applied insulation is earthed afterwards (IEEE C57.152, insulation
/// resistance).
pub const EARTHED_TIMES: f64 = 4.0;

/// One injection.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Program {
    /// Played in order; a segment's stop may end the program earlier.
    pub segments: Vec<Segment>,
    /// What becomes of the outputs at its end.
    #[serde(skip_serializing_if = "Finish::is_off", default)]
    pub finish: Finish,
    /// What is measured at its end.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub reads: Vec<Probe>,
    /// Whether every change of a contact is kept as it came, besides the debounced ones.
    #[serde(skip_serializing_if = "crate::grading::is_false", default)]
    pub raw_edges: bool,
    /// Samples that are taken of what meters see.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub captures: Vec<Capture>,
    /// Where the leads are while it plays, such as `A 1S1-1S3`, of what is tested at several places.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub connection: Option<Name>,
    /// What is shorted by straps while it plays, such as `the primary`; they are taken off before anything else is fed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub shorts: Option<Name>,
    /// Where what is moved by hand stands while it plays, such as a tap changer.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub stands: Vec<Stand>,
    /// What it charges with direct voltage, such as a winding's insulation: no meter of the rig tells when that is
    /// discharged, so that it is earthed afterwards for [`EARTHED_TIMES`] as long as the voltage was on.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub earth: Option<Name>,
    /// How it is seen that what it charged is discharged, on a rig that has no word of its own for it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub discharge: Option<Discharge>,
    /// The name under which its waveforms are kept, where they are.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub capture: Option<Name>,
}

/// What becomes of the outputs at a program's end.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Finish {
    /// They go off at once.
    #[default]
    Off,
    /// Each goes off at its next zero crossing, as a breaker's pole does.
    OffAtZero,
    /// They stay as they are until the next program, or until they are switched off. The last
    /// stimulus must be one that the asset withstands for ever.
    Keep,
}

impl Finish {
    fn is_off(&self) -> bool {
        *self == Self::Off
    }
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
    /// Binary outputs that are set at its start, and stay so until they are set otherwise.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub switches: Vec<Switching>,
    /// What is measured while it plays.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub reads: Vec<Read>,
    /// What somebody is asked to move while it plays, such as a tap changer under load.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub moves: Vec<Stand>,
    /// How often measured values are looked at for its stops; every 10 ms if not given.
    #[serde(
        rename = "looks_every_s",
        skip_serializing_if = "Option::is_none",
        default,
        with = "crate::quantity::edge::si_option"
    )]
    pub looks_every: Option<Time>,
}

/// A binary output that is set, such as a coil's command.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Switching {
    /// Its meaning on the rig, such as `close command`.
    pub output: Name,
    /// Closed or open.
    pub closed: bool,
}

/// Ends a segment when a condition holds.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Stop {
    /// The condition.
    pub when: Condition,
    /// What happens then.
    pub then: Then,
}

/// What follows a segment.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Then {
    /// The next segment; after the last one, the end.
    Next,
    /// The end; the program says what becomes of the outputs.
    End,
    /// The end, with outputs off at once whatever the program says.
    Off,
}

impl Segment {
    /// A profile with its stops; nothing is switched or measured.
    pub fn new(name: impl Into<Name>, profile: Profile, stops: Vec<Stop>) -> Self {
        let (switches, reads, moves) = (Vec::new(), Vec::new(), Vec::new());
        Self { name: name.into(), profile, stops, switches, reads, moves, looks_every: None }
    }

    /// A held stimulus for a fixed time.
    pub fn hold(name: &str, stimulus: Stimulus, time: Time) -> Self {
        Self::new(name, Profile::Hold(stimulus), vec![Stop::after(time)])
    }

    /// Adds a stop that takes precedence over those already there.
    #[must_use]
    pub fn until(mut self, stop: Stop) -> Self {
        self.stops.insert(0, stop);
        self
    }

    /// Whether it waits for an angle of its wave.
    pub fn waits_for_angle(&self) -> bool {
        let mut parts = self.stops.iter().flat_map(|s| s.when.parts());
        parts.any(|c| matches!(c, Condition::AtAngle { .. }))
    }

    /// The longest time the segment can last; `None` where nothing bounds it.
    pub fn longest(&self) -> Option<Time> {
        let limit = self.stops.iter().filter_map(|s| s.when.bound()).reduce(Time::min);
        match (self.profile.length(), limit) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        }
    }

    /// The shortest time the segment can last: none where something that is seen can end it.
    pub fn shortest(&self) -> Time {
        let early = |when: &Condition| match when {
            Condition::After(time) | Condition::AtAngle { after: time, .. } => *time,
            _ => seconds(0.0),
        };
        let limit = self.stops.iter().map(|s| early(&s.when)).reduce(Time::min);
        match (self.profile.length(), limit) {
            (Some(a), Some(b)) => a.min(b),
            (a, b) => a.or(b).unwrap_or_default(),
        }
    }

    /// The levels a segment goes through, in order, each with how long it lasts at most. Slopes and
    /// recordings are cut into pieces short enough for their heating.
    pub fn levels(&self) -> Vec<(Cow<'_, Stimulus>, Time)> {
        let pieces = |length: Time, n: usize| {
            let piece = length / n as f64;
            let at = |i: usize| (Cow::Owned(self.profile.at(piece * i as f64)), piece);
            (0..=n).map(at).collect()
        };
        fn rest(rest: Option<&Rest>) -> Option<(Cow<'_, Stimulus>, Time)> {
            rest.map(|r| (Cow::Borrowed(&r.stimulus), r.time))
        }
        match &self.profile {
            Profile::Hold(s) => vec![(Cow::Borrowed(s), self.longest().unwrap_or_default())],
            Profile::Stairs(stairs) => (0..=stairs.steps)
                .flat_map(|i| {
                    let level = (Cow::Owned(stairs.level(i)), stairs.dwell);
                    [Some(level), rest(stairs.rest.as_ref())].into_iter().flatten()
                })
                .collect(),
            Profile::Steps(steps) => steps
                .levels
                .iter()
                .flat_map(|level| {
                    let level = (Cow::Borrowed(level), steps.dwell);
                    [Some(level), rest(steps.rest.as_ref())].into_iter().flatten()
                })
                .collect(),
            Profile::Slope(slope) => pieces(slope.time, 100 * slope.through.len()),
            Profile::Playback(playback) => {
                let levels = playback.recording.levels(playback.times).into_iter();
                levels.map(|(level, time)| (Cow::Owned(level), time)).collect()
            }
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

/// As JSON, once for all who send it somewhere.
impl Program {
    /// As it goes over a line.
    ///
    /// # Errors
    /// Only if a value cannot be written as JSON, which plain data always can.
    pub fn to_json(&self) -> Result<Vec<u8>, serde_json::Error> {
        serde_json::to_vec(self)
    }

    /// As a value, to be looked into; nothing where one of its numbers is none.
    pub fn to_value(&self) -> serde_json::Value {
        serde_json::to_value(self).unwrap_or_default()
    }

    /// What came over a line.
    ///
    /// # Errors
    /// What is no JSON, or no program.
    pub fn from_json(json: &[u8]) -> Result<Self, serde_json::Error> {
        serde_json::from_slice(json)
    }
}

impl Program {
    /// A program of these segments with outputs off at its end.
    pub fn of(segments: Vec<Segment>) -> Self {
        Self { segments, ..Self::default() }
    }

    /// The longest time the program can take; `None` where a segment is unbounded.
    pub fn longest(&self) -> Option<Time> {
        self.segments.iter().map(Segment::longest).try_fold(seconds(0.0), |sum, t| Some(sum + t?))
    }

    /// The shortest time the program can take.
    pub fn shortest(&self) -> Time {
        let mut sum = seconds(0.0);
        for segment in &self.segments {
            sum += segment.shortest();
            if segment.stops.iter().any(|s| s.then != Then::Next) {
                break;
            }
        }
        sum
    }

    /// Everything that is measured: at the end, in segments, and by their stops.
    pub fn probes(&self) -> impl Iterator<Item = &Probe> {
        let in_segments = self.segments.iter().flat_map(|segment| {
            let parts = segment.stops.iter().flat_map(|s| s.when.parts());
            let watched = parts.filter_map(Condition::probe);
            segment.reads.iter().map(|r| &r.probe).chain(watched)
        });
        self.reads.iter().chain(in_segments)
    }

    /// The same, to be changed.
    pub fn probes_mut(&mut self) -> impl Iterator<Item = &mut Probe> {
        let in_segments = self.segments.iter_mut().flat_map(|segment| {
            let watched = segment.stops.iter_mut().flat_map(|s| s.when.probes_mut());
            segment.reads.iter_mut().map(|r| &mut r.probe).chain(watched)
        });
        self.reads.iter_mut().chain(in_segments)
    }

    /// Whether anything is put out at all.
    pub fn puts_out(&self) -> bool {
        !self.maxima().is_empty()
    }

    /// Whether anything direct is put out.
    pub fn has_dc(&self) -> bool {
        self.segments.iter().any(|segment| segment.profile.has_dc())
    }

    /// The contacts that end one of its segments, in their order.
    pub fn awaited(&self) -> Vec<Name> {
        let stops = self.segments.iter().flat_map(|segment| &segment.stops);
        let mut all = Vec::new();
        for part in stops.flat_map(|stop| stop.when.parts()) {
            if let Condition::Contact { signal, .. } | Condition::Edge { signal, .. } = part
                && !all.contains(signal)
            {
                all.push(signal.clone());
            }
        }
        all
    }

    /// For how long what it charges must be earthed, after segments that lasted as long as given, or as long as they
    /// may; nothing where it charges nothing, or nothing was on.
    pub fn earthed_for(&self, lasted: impl Fn(usize, &Segment) -> Time) -> Option<Time> {
        self.earth.as_ref()?;
        let on = self.segments.iter().enumerate().filter(|(_, s)| s.profile.has_dc());
        let on = on.map(|(k, segment)| lasted(k, segment)).fold(seconds(0.0), |sum, t| sum + t);
        (on > seconds(0.0)).then(|| on * EARTHED_TIMES)
    }

    /// The index of the segment with this name.
    pub fn position(&self, name: &str) -> Option<usize> {
        self.segments.iter().position(|s| s.name == name)
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
            stimulus.currents.iter().for_each(|d| raise(&d.channel, d.true_rms().si(), true));
            stimulus.voltages.iter().for_each(|d| raise(&d.channel, d.true_rms().si(), false));
        }
        maxima
    }
}
