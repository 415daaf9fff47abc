//! Protection stages that sequences test by their settings: voltage and frequency.

use crate::name::Name;
use crate::quantity::{Dimension, Quantity, Ratio, Time};
use crate::tolerance::{AnyTolerance, Tolerance};

/// What a stage watches; numbers are the device numbers of ANSI/IEEE C37.2.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StageFunction {
    /// 59.
    Overvoltage,
    /// 27.
    Undervoltage,
    /// 81O.
    Overfrequency,
    /// 81U.
    Underfrequency,
    /// 81R, rate of change of frequency.
    FrequencyRate,
}

impl StageFunction {
    /// What it measures, in words.
    pub fn name(self) -> &'static str {
        match self {
            Self::Overvoltage => "overvoltage",
            Self::Undervoltage => "undervoltage",
            Self::Overfrequency => "overfrequency",
            Self::Underfrequency => "underfrequency",
            Self::FrequencyRate => "rate of change of frequency",
        }
    }

    /// What its setting is.
    pub fn dimension(self) -> Dimension {
        match self {
            Self::Overvoltage | Self::Undervoltage => Dimension::VOLTAGE,
            Self::Overfrequency | Self::Underfrequency => Dimension::FREQUENCY,
            Self::FrequencyRate => Dimension::FREQUENCY_RATE,
        }
    }
}

/// A definite-time stage on a voltage or a frequency.
#[derive(Clone, Debug, PartialEq)]
pub struct Stage {
    /// Its id, such as `59_1`.
    pub id: Name,
    /// What it watches.
    pub function: StageFunction,
    /// Whether it is switched on.
    pub enabled: bool,
    /// The setting, of the function's dimension.
    pub pickup: Quantity,
    /// Dropout as a share of pickup, where declared.
    pub reset_ratio: Option<Ratio>,
    /// The set delay.
    pub delay: Time,
    /// Of the setting.
    pub pickup_tolerance: AnyTolerance,
    /// Of the operate time.
    pub time_tolerance: Tolerance<Time>,
    /// Meaning of the contact it closes on operation.
    pub trip: Name,
    /// Meaning of the contact it closes on pickup.
    pub start: Name,
}
