//! What an asset is made for, and what its inputs withstand.

use super::withstand::Withstand;
use crate::quantity::{Current, Frequency, Voltage};

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
    /// What each current input withstands.
    pub currents: Withstand<Current>,
    /// What each voltage input withstands.
    pub voltages: Withstand<Voltage>,
}

impl Ratings {
    /// Nothing known but the nominal frequency: nothing is limited.
    pub fn unknown(frequency: Frequency) -> Self {
        Self {
            current: None,
            voltage: None,
            frequency,
            ct: None,
            vt: None,
            currents: Withstand::default(),
            voltages: Withstand::default(),
        }
    }
}
