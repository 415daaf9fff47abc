//! Why there is no value.

use crate::text::name::Name;
use serde::{Deserialize, Serialize};
use std::fmt;

/// Why a reading has no value.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Lack {
    /// This meter was driven beyond its range.
    BeyondRange(Name),
    /// What is divided by shows no more than it is uncertain by.
    AlmostNothing(String),
    /// What tells it did not, and why.
    NotTold(Name, String),
    /// This input shows nothing that has such a property, such as the phase of nothing.
    Nothing(Name),
}

impl fmt::Display for Lack {
    /// As the end of a sentence: `no value: …`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::BeyondRange(of) => write!(f, "`{of}` was beyond its meter's range"),
            Self::AlmostNothing(of) => {
                write!(
                    f,
                    "{of} shows no more than its meter is uncertain by, and nothing can be divided by that"
                )
            }
            Self::NotTold(of, why) => write!(f, "`{of}` was not told: {why}"),
            Self::Nothing(of) => write!(f, "`{of}` shows nothing"),
        }
    }
}
