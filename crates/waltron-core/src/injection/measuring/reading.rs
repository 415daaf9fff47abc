//! Readings: what is measured when, and what was measured.

use super::{Lack, Probe};
use crate::grading::Values;
use crate::quantity::Time;
use crate::quantity::edge;
use serde::{Deserialize, Serialize};

/// What a segment measures, and when.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Read {
    /// What is measured.
    pub probe: Probe,
    /// When.
    pub when: When,
}

/// When something is measured in a segment.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum When {
    /// At the end of every level; rests between levels are none. What is held, a slope and a recording
    /// are one level.
    EachLevel,
    /// Each time so long has passed since the segment's start.
    #[serde(rename = "every_s")]
    Every(#[serde(with = "edge::si")] Time),
}

/// A measured value.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Reading {
    /// What was measured.
    pub probe: Probe,
    /// Where in the program; none at its end.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub place: Option<Place>,
    /// Its value, named `value`; of a phasor also its `angle` and its `frequency`. Empty where there is
    /// none.
    pub value: Values,
    /// What they are uncertain by (k = 2), under the same names, where that is stated.
    #[serde(skip_serializing_if = "Values::is_empty", default)]
    pub uncertainty: Values,
    /// Why it has no value.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub lacks: Option<Lack>,
}

impl Reading {
    /// A value at a program's end, without what it is uncertain by.
    pub fn at_end(probe: Probe, value: Values) -> Self {
        Self { probe, place: None, value, uncertainty: Values::none(), lacks: None }
    }
}

/// Where in a program something was measured.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Place {
    /// The segment, counted from 0.
    pub segment: usize,
    /// Its level, counted from 0.
    pub level: usize,
    /// When, since the program's start.
    #[serde(rename = "time_s", with = "edge::si")]
    pub time: Time,
}
