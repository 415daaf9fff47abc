//! What came back from one injection.

use crate::injection::measuring::{Captured, Probe, Reading};
use crate::quantity::edge;
use crate::quantity::{Dimension, Quantity, Time};
use crate::text::name::Name;
use serde::{Deserialize, Serialize};

/// Everything a rig saw while it played a program. Times count from the program's start.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Observation {
    /// The segments that were played, in order; a program that ended early has fewer than planned.
    pub segments: Vec<Span>,
    /// Contacts that were closed at the program's start, by meaning.
    pub closed_at_start: Vec<Name>,
    /// Every change of a contact, in time order.
    pub edges: Vec<Edge>,
    /// Every change of a contact as it came, not debounced, where the program asked for that.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub raw_edges: Vec<Edge>,
    /// What was measured: in segments in the order of time, then at the end in the program's order.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub readings: Vec<Reading>,
    /// What was captured, in the program's order.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub captures: Vec<Captured>,
    /// When each channel went off, where they did not all go off at the end.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub off_at: Vec<OffAt>,
    /// How what was charged was discharged, where it was.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub discharge: Option<Discharged>,
    /// Whether anything stayed on at its end.
    #[serde(skip_serializing_if = "crate::grading::is_false", default)]
    pub stays_on: bool,
    /// What the times are uncertain by (k = 2) because the computer took a part in the timing.
    #[serde(
        rename = "host_timing_s",
        skip_serializing_if = "Option::is_none",
        default,
        with = "edge::si_option"
    )]
    pub host_timing: Option<Time>,
}

/// What came after outputs went off, until nothing was charged any more.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Discharged {
    /// How long it took.
    #[serde(rename = "time_s", with = "edge::si")]
    pub time: Time,
    /// What still flowed in the end, in A; absent where the meter showed nothing.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub left_a: Option<f64>,
    /// Whether that is so little that the circuit may be opened.
    pub is_done: bool,
    /// Whether the meter that says so has shown a current while one was put out: one that is off shows nothing
    /// before and after.
    #[serde(skip_serializing_if = "is_true", default = "yes")]
    pub is_seen: bool,
}

fn yes() -> bool {
    true
}

#[allow(clippy::trivially_copy_pass_by_ref)] // what serde asks for
fn is_true(is: &bool) -> bool {
    *is
}

impl Discharged {
    /// Whether it counts as discharged by a meter that had shown nothing before either.
    pub fn is_unseen(&self) -> bool {
        self.is_done && !self.is_seen
    }

    /// What still flows, in words.
    pub fn left(&self) -> String {
        let words = |si| Quantity { si, dimension: Dimension::CURRENT }.to_string();
        self.left_a.map_or_else(|| "an unknown current".to_owned(), words)
    }
}

/// A channel's end.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OffAt {
    /// The channel.
    pub channel: Name,
    /// When it went off.
    #[serde(rename = "time_s", with = "edge::si")]
    pub time: Time,
}

/// When a segment was out and what ended it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Span {
    /// Its start.
    #[serde(rename = "start_s", with = "edge::si")]
    pub start: Time,
    /// Its end.
    #[serde(rename = "end_s", with = "edge::si")]
    pub end: Time,
    /// What ended it.
    pub ended: Ended,
}

/// What ended a segment.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ended {
    /// Its stop with this index.
    Stop(usize),
    /// A ramp or a recording that came to its end.
    Finished,
    /// The attendant or a signal: the injection proves nothing.
    Aborted,
}

/// A contact's change.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Edge {
    /// The contact's meaning, such as `trip`.
    pub signal: Name,
    /// When.
    #[serde(rename = "time_s", with = "edge::si")]
    pub time: Time,
    /// Its state from then on.
    pub closed: bool,
}

/// As JSON, once for all who send it somewhere.
impl Observation {
    /// As it goes over a line.
    ///
    /// # Errors
    /// Only if a value cannot be written as JSON, which plain data always can.
    pub fn to_json(&self) -> Result<Vec<u8>, serde_json::Error> {
        serde_json::to_vec(self)
    }

    /// What came over a line.
    ///
    /// # Errors
    /// What is no JSON, or no observation.
    pub fn from_json(json: &[u8]) -> Result<Self, serde_json::Error> {
        serde_json::from_slice(json)
    }
}

impl Observation {
    /// The value read for a probe at the end, in SI.
    pub fn reading(&self, probe: &Probe) -> Option<f64> {
        self.at_end(probe)?.value.get("value")
    }

    /// What was read for a probe at the end, or why there is no value.
    pub fn at_end(&self, probe: &Probe) -> Option<&Reading> {
        let same = |r: &&Reading| r.probe.of == probe.of && r.probe.what == probe.what;
        self.readings.iter().filter(|r| r.place.is_none()).find(same)
    }

    /// What was read for a probe in a segment, in order.
    pub fn in_segment(&self, segment: usize, probe: &Probe) -> impl Iterator<Item = &Reading> {
        let same = move |r: &&Reading| r.probe.of == probe.of && r.probe.what == probe.what;
        let here = move |r: &&Reading| r.place.is_some_and(|place| place.segment == segment);
        self.readings.iter().filter(here).filter(same)
    }

    /// Whether the injection was cut short from outside.
    pub fn aborted(&self) -> bool {
        self.segments.iter().any(|s| s.ended == Ended::Aborted)
    }

    /// The first change of a contact to a state at or after a time.
    pub fn first_edge(&self, signal: &Name, closed: bool, from: Time) -> Option<Time> {
        self.edges
            .iter()
            .find(|e| e.signal == *signal && e.closed == closed && e.time >= from)
            .map(|e| e.time)
    }

    /// A contact's state just before a time.
    pub fn closed_before(&self, signal: &Name, time: Time) -> bool {
        self.edges
            .iter()
            .rev()
            .find(|e| e.signal == *signal && e.time < time)
            .map_or_else(|| self.closed_at_start.contains(signal), |e| e.closed)
    }

    /// A contact's state when the injection ended.
    pub fn is_closed_at_end(&self, signal: &Name) -> bool {
        let last = self.edges.iter().rev().find(|e| e.signal == *signal);
        last.map_or_else(|| self.closed_at_start.contains(signal), |e| e.closed)
    }

    /// How long the outputs were under control, from start to end.
    pub fn length(&self) -> Time {
        self.segments.last().map_or_else(Time::default, |s| s.end)
    }
}
