//! Readings: what is measured when, and what was measured.

use super::{Lack, Probe};
use crate::grading::Values;
use crate::quantity::Time;
use crate::quantity::edge;
use crate::uncertainty::{Estimate, Part};
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
    /// What makes its value uncertain, where that is known.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub parts: Vec<Part>,
    /// What makes its angle uncertain.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub angle_parts: Vec<Part>,
    /// Why it has no value.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub lacks: Option<Lack>,
}

impl Reading {
    /// A value at a program's end, without what it is uncertain by.
    pub fn at_end(probe: Probe, value: Values) -> Self {
        Self {
            probe,
            place: None,
            value,
            uncertainty: Values::none(),
            parts: Vec::new(),
            angle_parts: Vec::new(),
            lacks: None,
        }
    }

    /// Its value with what makes it uncertain; `None` where it has none.
    pub fn estimate(&self) -> Option<Estimate> {
        Some(Estimate::of_parts(self.value.get("value")?, &self.parts))
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
