//! Fault loops: which phases carry the injected current, and in which direction.

use crate::quantity::phasor::Phasor;
use crate::quantity::{Current, Measure, amperes, degrees};
use serde::{Deserialize, Serialize};
use std::fmt;

/// A single-phase, phase-to-phase or three-phase injection.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub enum FaultLoop {
    /// Phase A to neutral.
    #[serde(rename = "A-N")]
    AN,
    /// Phase B to neutral.
    #[serde(rename = "B-N")]
    BN,
    /// Phase C to neutral.
    #[serde(rename = "C-N")]
    CN,
    /// Phase A to phase B.
    #[serde(rename = "A-B")]
    AB,
    /// Phase B to phase C.
    #[serde(rename = "B-C")]
    BC,
    /// Phase C to phase A.
    #[serde(rename = "C-A")]
    CA,
    /// Balanced three-phase.
    #[serde(rename = "A-B-C")]
    ABC,
}

impl FaultLoop {
    /// All loops, in the order they are tested.
    pub const ALL: [Self; 7] =
        [Self::AN, Self::BN, Self::CN, Self::AB, Self::BC, Self::CA, Self::ABC];

    /// The name as written in files.
    pub fn name(self) -> &'static str {
        match self {
            Self::AN => "A-N",
            Self::BN => "B-N",
            Self::CN => "C-N",
            Self::AB => "A-B",
            Self::BC => "B-C",
            Self::CA => "C-A",
            Self::ABC => "A-B-C",
        }
    }

    /// Finds a loop by its name.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|l| l.name() == text.trim())
    }

    /// Phase currents of this loop with RMS value `rms` in each phase that takes part.
    ///
    /// X-N feeds one phase; X-Y feeds Ix = −Iy; A-B-C is balanced with A-B-C rotation. Angles are
    /// those the phases have in a healthy system, so that reports read naturally.
    pub fn currents(self, rms: Current) -> [Phasor<Current>; 3] {
        let at = |angle: f64| Phasor::new(rms, degrees(angle));
        let none = Phasor::zero();
        match self {
            Self::AN => [at(0.0), none, none],
            Self::BN => [none, at(-120.0), none],
            Self::CN => [none, none, at(120.0)],
            Self::AB => [at(0.0), at(180.0), none],
            Self::BC => [none, at(-120.0), at(60.0)],
            Self::CA => [at(-60.0), none, at(120.0)],
            Self::ABC => [at(0.0), at(-120.0), at(120.0)],
        }
    }

    /// The complex phase values for 1 A in each phase that takes part.
    pub fn unit(self) -> [num_complex::Complex64; 3] {
        self.currents(amperes(1.0)).map(Phasor::complex)
    }

    /// The largest phase RMS value, in amperes, of complex phase currents.
    pub fn largest_phase(phases: [num_complex::Complex64; 3]) -> Current {
        Current::from_si(phases.iter().map(|p| p.norm()).fold(0.0, f64::max))
    }
}

impl fmt::Display for FaultLoop {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}
