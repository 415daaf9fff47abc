//! Measuring inputs.

use crate::quantity::tolerance::AnyTolerance;
use crate::quantity::{Angle, Dimension, Frequency, Measure, Quantity};
use crate::text::name::Name;
use crate::uncertainty::Accuracy;
use serde::{Deserialize, Serialize};

/// A measuring input of a rig.
#[derive(Clone, Debug, PartialEq)]
pub struct Meter {
    /// Its id on the rig, such as `M1`.
    pub id: Name,
    /// What it is connected to, such as `primary voltage`; readings are called by it.
    pub meaning: Name,
    /// A current or a voltage.
    pub dimension: Dimension,
    /// The largest value that it can show, in SI: RMS, or direct of either sign.
    pub range: f64,
    /// Accuracy of a magnitude, and of a direct value.
    pub accuracy: Accuracy,
    /// Accuracy of an angle, against what else is measured; it means what that of its size means.
    pub angle_accuracy: Angle,
    /// Standard deviation of what scatters from look to look, and from sample to sample; none if not given.
    pub noise: Option<AnyTolerance>,
    /// What it shows.
    pub coupling: Coupling,
    /// The highest frequency that it shows, where that is known.
    pub bandwidth: Option<Frequency>,
}

/// What a measuring input shows, or an output puts out.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Coupling {
    /// Alternating values.
    Ac,
    /// Direct values.
    Dc,
    /// Both.
    #[default]
    Both,
}

impl Coupling {
    /// Whether it has to do with alternating values.
    pub fn is_ac(self) -> bool {
        self != Self::Dc
    }

    /// Whether it has to do with direct values.
    pub fn is_dc(self) -> bool {
        self != Self::Ac
    }

    /// Its word in messages.
    pub fn word(self) -> &'static str {
        match self {
            Self::Ac => "AC",
            Self::Dc => "DC",
            Self::Both => "AC and DC",
        }
    }
}

impl Meter {
    /// What a value of so much is uncertain by (k = 2), in SI.
    pub fn uncertainty(&self, si: f64) -> f64 {
        self.accuracy.expanded(si)
    }

    /// Its range, with the unit.
    pub fn range_text(&self) -> String {
        Quantity { si: self.range, dimension: self.dimension }.to_string()
    }

    /// What an angle is uncertain by (k = 2), in radians.
    pub fn angle_uncertainty(&self) -> f64 {
        2.0 * self.accuracy.means.standard(self.angle_accuracy.si())
    }
}
