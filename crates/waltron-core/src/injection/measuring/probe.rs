//! What can be measured: an instrument's value, or a property of a signal.

use super::meter::Coupling;
use super::signal::Signal;
use crate::quantity::Dimension;
use serde::{Deserialize, Serialize};
use std::fmt;

/// Something that a rig measures.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Probe {
    /// What it is measured of.
    pub of: Signal,
    /// Which property.
    pub what: Property,
    /// What it measures; not written, since the property and the channel tell it.
    #[serde(skip)]
    pub dimension: Dimension,
}

/// A property of a measured signal.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Property {
    /// The value itself, of an instrument.
    Value,
    /// True RMS value.
    Rms,
    /// RMS value of the fundamental.
    Magnitude,
    /// The fundamental whole: RMS value, phase angle and frequency.
    Phasor,
    /// Phase angle of the fundamental.
    Phase,
    /// Frequency.
    Frequency,
    /// RMS share of a harmonic.
    Harmonic(u32),
    /// Angle of a harmonic where the fundamental rises through zero.
    HarmonicAngle(u32),
    /// Total harmonic distortion.
    Thd,
    /// Direct component.
    Dc,
    /// Largest size that was seen.
    Peak,
    /// Integral over time since the level began: of a voltage the flux.
    Integral,
    /// Three-phase active power of the phase channels.
    ActivePower,
    /// Three-phase reactive power of the phase channels.
    ReactivePower,
}

impl Property {
    /// The names that scripts give them; harmonics take the order as a second argument.
    pub const NAMES: [(&'static str, Self); 10] = [
        ("true_rms", Self::Rms),
        ("magnitude", Self::Magnitude),
        ("phase", Self::Phase),
        ("frequency", Self::Frequency),
        ("harmonic", Self::Harmonic(0)),
        ("harmonic_angle", Self::HarmonicAngle(0)),
        ("thd", Self::Thd),
        ("dc", Self::Dc),
        ("peak", Self::Peak),
        ("integral", Self::Integral),
    ];

    /// Whether it is had from the fundamental or the direct value alone, so that it can be worked out
    /// from that of two signals.
    pub fn can_be_worked_out(self) -> bool {
        matches!(
            self,
            Self::Value | Self::Rms | Self::Magnitude | Self::Phasor | Self::Phase | Self::Dc
        )
    }

    /// Whether it is one of a direct value; else it needs alternating ones, but for true RMS.
    pub fn fits(self, coupling: Coupling) -> bool {
        match self {
            Self::Dc | Self::Integral => coupling.is_dc(),
            Self::Rms | Self::Value | Self::Peak => true,
            _ => coupling.is_ac(),
        }
    }

    /// What it measures, on a channel of this dimension.
    pub fn dimension(self, channel: Dimension) -> Dimension {
        match self {
            Self::Value | Self::Rms | Self::Magnitude | Self::Phasor | Self::Dc | Self::Peak => {
                channel
            }
            Self::Integral => channel.times(Dimension::TIME),
            Self::Phase | Self::HarmonicAngle(_) => Dimension::ANGLE,
            Self::Frequency => Dimension::FREQUENCY,
            Self::Harmonic(_) | Self::Thd => Dimension::NUMBER,
            Self::ActivePower | Self::ReactivePower => Dimension::POWER,
        }
    }
}

impl fmt::Display for Probe {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let of = &self.of;
        match self.what {
            Property::Value | Property::Phasor => write!(f, "{of}"),
            Property::Harmonic(n) => write!(f, "harmonic({of}, {n})"),
            Property::HarmonicAngle(n) => write!(f, "harmonic_angle({of}, {n})"),
            Property::ActivePower => f.write_str("active_power()"),
            Property::ReactivePower => f.write_str("reactive_power()"),
            what => {
                let name = Property::NAMES.iter().find(|(_, p)| *p == what).map_or("", |(n, _)| n);
                write!(f, "{name}({of})")
            }
        }
    }
}
