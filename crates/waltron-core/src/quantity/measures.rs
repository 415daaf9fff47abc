//! What an element makes of three phase currents.

use crate::quantity::fault_loop::FaultLoop;
use crate::quantity::phasor::Sequence;
use crate::quantity::{Current, Measure, amperes};
use num_complex::Complex64;
use schemars::JsonSchema;
use serde::Deserialize;

/// The quantity that an element compares with its pickup.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Measures {
    /// The largest phase current.
    Phase,
    /// The residual current 3·I0 = Ia + Ib + Ic.
    Residual,
    /// The negative-sequence current I2.
    NegativeSequence,
    /// The positive-sequence current I1.
    PositiveSequence,
}

impl Measures {
    /// All of them, with the names used in files.
    pub const NAMES: [(&'static str, Self); 4] = [
        ("phase", Self::Phase),
        ("residual", Self::Residual),
        ("negative-sequence", Self::NegativeSequence),
        ("positive-sequence", Self::PositiveSequence),
    ];

    /// The name used in files.
    pub fn name(self) -> &'static str {
        Self::NAMES.iter().find(|(_, m)| *m == self).map_or("phase", |(name, _)| name)
    }

    /// The measured RMS value for given phase currents (complex RMS, amperes).
    pub fn value(self, phases: [Complex64; 3]) -> Current {
        let sequence = || Sequence::of(phases);
        match self {
            Self::Phase => FaultLoop::largest_phase(phases),
            Self::Residual => amperes(3.0 * sequence().zero.norm()),
            Self::NegativeSequence => amperes(sequence().negative.norm()),
            Self::PositiveSequence => amperes(sequence().positive.norm()),
        }
    }

    /// The phase current that makes the element see `wanted` on a loop; `None` where the loop
    /// does not contain the measured quantity at all.
    ///
    /// On A-N a negative-sequence element sees |I2| = I/3, on A-B I/√3.
    pub fn phase_current(self, fault_loop: FaultLoop, wanted: Current) -> Option<Current> {
        let seen = self.value(fault_loop.unit()).si();
        (seen > 1e-9).then(|| wanted / seen)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Physics: |I2| is I/3 on A-N and I/√3 on A-B; a balanced system has neither I2 nor 3I0.
    #[test]
    fn the_stimulus_is_scaled_to_what_the_element_sees() {
        let needed = |m: Measures, l| m.phase_current(l, amperes(1.0)).map(|i| i.si());
        let near = |a: Option<f64>, b: f64| (a.unwrap() - b).abs() < 1e-12;
        assert!(near(needed(Measures::NegativeSequence, FaultLoop::AN), 3.0));
        assert!(near(needed(Measures::NegativeSequence, FaultLoop::AB), 3f64.sqrt()));
        assert!(near(needed(Measures::Residual, FaultLoop::BN), 1.0));
        assert!(near(needed(Measures::PositiveSequence, FaultLoop::ABC), 1.0));
        assert_eq!(needed(Measures::Residual, FaultLoop::AB), None);
        assert_eq!(needed(Measures::Residual, FaultLoop::ABC), None);
        assert_eq!(needed(Measures::NegativeSequence, FaultLoop::ABC), None);
        for fault_loop in FaultLoop::ALL {
            for (_, measures) in Measures::NAMES {
                if let Some(i) = measures.phase_current(fault_loop, amperes(2.5)) {
                    let seen = measures.value(fault_loop.currents(i).map(|p| p.complex()));
                    assert!((seen.si() - 2.5).abs() < 1e-12, "{measures:?} on {fault_loop}");
                }
            }
        }
    }
}
