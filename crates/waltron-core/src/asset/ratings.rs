//! What an asset is made for, and what its inputs withstand.

use crate::quantity::{Current, Frequency, Time, Voltage, text};
use std::fmt;

/// Nominal values and withstand.
#[derive(Clone, Debug, PartialEq)]
pub struct Ratings {
    /// Nominal secondary current.
    pub current: Option<Current>,
    /// Nominal secondary voltage.
    pub voltage: Option<Voltage>,
    /// Nominal frequency.
    pub frequency: Frequency,
    /// Current transformer, as text (`600:1`).
    pub ct: Option<String>,
    /// Voltage transformer, as text (`20 kV:110 V`).
    pub vt: Option<String>,
    /// What the current inputs withstand, continuous rating and short-time ratings.
    pub thermal: Vec<ThermalRating>,
}

/// One current that the inputs withstand.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ThermalRating {
    /// The current, RMS.
    pub current: Current,
    /// For how long; `None`: for ever.
    pub duration: Option<Time>,
}

impl fmt::Display for ThermalRating {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.duration {
            Some(t) => write!(f, "{} for {}", text(self.current), text(t)),
            None => write!(f, "{} continuous", text(self.current)),
        }
    }
}
