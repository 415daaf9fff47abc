//! Overcurrent elements and what they measure.

use super::Tolerances;
use crate::characteristic::{Acceptance, Characteristic, acceptance};
use crate::fault_loop::FaultLoop;
use crate::name::Name;
use crate::phasor::Sequence;
use crate::quantity::{Current, Measure, Ratio, Time, amperes, seconds};
use num_complex::Complex64;

/// The quantity that an element compares with its pickup.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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

/// One overcurrent element with its settings.
#[derive(Clone, Debug, PartialEq)]
pub struct Element {
    /// Its id, such as `51P`.
    pub id: Name,
    /// Whether the function is switched on.
    pub enabled: bool,
    /// What it measures.
    pub measures: Measures,
    /// The setting, in secondary amperes.
    pub pickup: Current,
    /// Dropout as a share of pickup, where declared.
    pub reset_ratio: Option<Ratio>,
    /// Its time characteristic.
    pub characteristic: Characteristic,
    /// What its measured values are graded against.
    pub tolerances: Tolerances,
    /// Meaning of the contact it closes on operation.
    pub trip: Name,
    /// Meaning of the contact it closes on pickup, where it has one.
    pub start: Option<Name>,
    /// The longest time from pickup to its start contact, where declared (start time, IEC
    /// 60255-151:2009, clause 3).
    pub start_time: Option<Time>,
}

impl Element {
    /// What the element should do with given phase currents.
    pub fn acceptance(&self, phases: [Complex64; 3]) -> Acceptance {
        let seen = self.measures.value(phases);
        acceptance(
            &self.characteristic,
            self.pickup,
            seen,
            &self.tolerances.current,
            &self.tolerances.time,
        )
    }

    /// Whether the element may have picked up with given phase currents: its true pickup may lie as
    /// low as the tolerance of its pickup allows.
    pub fn may_pick_up(&self, phases: [Complex64; 3]) -> bool {
        self.measures.value(phases) > self.tolerances.current.lower(self.pickup)
    }

    /// How long a level lasts on which the start contact is to answer: twice its start time, since
    /// nobody is quick just above the setting; 200 ms where none is declared.
    pub fn start_dwell(&self) -> Time {
        self.start_time.map_or(seconds(0.2), |t| t * 2.0)
    }

    /// How long it takes until even an element that resets as slowly as its tolerance allows has
    /// fallen back fully, with a quarter in hand; none where it falls back at once.
    pub fn settling(&self) -> Time {
        let reset = self.characteristic.reset_time();
        if reset > Time::default() { self.tolerances.time.upper(reset) * 1.25 } else { reset }
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
