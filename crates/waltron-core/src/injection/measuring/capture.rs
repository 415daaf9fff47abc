//! Captures: what meters see, sample by sample.

use crate::quantity::Time;
use crate::quantity::edge;
use crate::text::name::Name;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// Samples that are taken of what meters see while a program plays. They come from the meters: what was
/// only put out is never one of them.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Capture {
    /// What it is called.
    pub name: Name,
    /// The meters, by what they are connected to.
    pub of: Vec<Name>,
    /// How many a second.
    pub rate_hz: f64,
    /// Which part of the program.
    #[serde(skip_serializing_if = "Part::is_whole", default)]
    pub part: Part,
}

/// A part of a program.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Part {
    /// All of it.
    #[default]
    Whole,
    /// One segment, counted from 0.
    Segment(usize),
    /// Around the end of a segment, counted from 0.
    AroundEnd {
        /// The segment.
        segment: usize,
        /// From so long before.
        #[serde(rename = "before_s", with = "edge::si")]
        before: Time,
        /// To so long after.
        #[serde(rename = "after_s", with = "edge::si")]
        after: Time,
    },
    /// Around the first change of a contact to a state.
    Around {
        /// The contact's meaning.
        signal: Name,
        /// To closed or to open.
        closed: bool,
        /// From so long before.
        #[serde(rename = "before_s", with = "edge::si")]
        before: Time,
        /// To so long after.
        #[serde(rename = "after_s", with = "edge::si")]
        after: Time,
    },
}

impl Part {
    fn is_whole(&self) -> bool {
        *self == Self::Whole
    }
}

/// Samples that were taken.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Captured {
    /// What they are called.
    pub name: Name,
    /// How many a second.
    pub rate_hz: f64,
    /// The first one's time, since the program's start.
    #[serde(rename = "start_s", with = "edge::si")]
    pub start: Time,
    /// A track for each meter.
    pub tracks: Vec<CapturedTrack>,
}

/// The samples of one meter.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct CapturedTrack {
    /// The meter, by what it is connected to.
    pub of: Name,
    /// How many there are.
    pub count: usize,
    /// BLAKE3 of the samples as big-endian doubles, in hexadecimal digits.
    pub digest: String,
    /// The samples in SI; kept beside the record and not in it.
    #[serde(skip)]
    pub samples: Arc<Vec<f64>>,
}

impl CapturedTrack {
    /// A track with its digest.
    pub fn new(of: Name, samples: Vec<f64>) -> Self {
        let digest = digest_of(&samples);
        Self { of, count: samples.len(), digest, samples: Arc::new(samples) }
    }
}

/// BLAKE3 of samples as big-endian doubles, in hexadecimal digits.
pub fn digest_of(samples: &[f64]) -> String {
    let mut hasher = blake3::Hasher::new();
    for sample in samples {
        hasher.update(&sample.to_be_bytes());
    }
    hasher.finalize().to_hex().to_string()
}

/// Most samples of one capture, over all of its tracks.
pub const MOST_CAPTURED: f64 = 8e6;

impl Capture {
    /// Of all these meters over the whole program, with as many samples a second as there is room for;
    /// `None` where it is too long even so.
    pub fn whole(name: Name, of: Vec<Name>, longest: Time) -> Option<Self> {
        let fits = |rate: &f64| longest.value * rate * of.len() as f64 <= MOST_CAPTURED;
        let rate_hz = [10_000.0, 5_000.0, 2_000.0, 1_000.0].into_iter().find(fits)?;
        (!of.is_empty()).then_some(Self { name, of, rate_hz, part: Part::Whole })
    }
}
