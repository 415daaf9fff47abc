//! A tap changer on its way: what its diverter switch puts into the circuit, stage by stage.

use super::truth::{Changer, OPEN_OHM};

/// A change of position that is under way.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Change {
    /// Which tap changer.
    pub(super) of: usize,
    pub(super) from: usize,
    pub(super) to: usize,
    /// When its contacts begin to change over, in s since the injection began.
    pub(super) at_s: f64,
    /// How many of its moments have passed for the coils.
    pub(super) passed: usize,
}

/// What is in the circuit of a coil during a stage.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Stage {
    /// The share of the way from the turns of one position to those of the other.
    pub(super) share: f64,
    /// Resistance in series, in ohms.
    pub(super) ohm: f64,
}

impl Change {
    /// The moments at which something changes, in order; the last one ends it.
    pub(super) fn moments(&self, changer: &Changer) -> Vec<f64> {
        let [a, b, c] = changer.way.stages_s;
        let gap = changer.way.interrupted.map_or(0.0, |(_, _, time)| time);
        let mut all = vec![self.at_s, self.at_s + a];
        if gap > 0.0 && self.is_interrupted(changer) {
            all.push(self.at_s + a + gap);
        }
        let last = all[all.len() - 1];
        all.extend([last + b, last + b + c]);
        all
    }

    /// How many of its moments have passed by a time.
    pub(super) fn by(&self, changer: &Changer, now_s: f64) -> usize {
        self.moments(changer).iter().filter(|m| now_s >= **m - 1e-9).count()
    }

    fn is_interrupted(&self, changer: &Changer) -> bool {
        changer.way.interrupted.is_some_and(|(_, position, _)| position == self.from)
    }

    /// What is in the circuit of a limb at present.
    pub(super) fn stage(&self, changer: &Changer, limb: usize) -> Stage {
        let moments = self.moments(changer);
        let passed = self.passed;
        let way = &changer.way;
        let resistor = match way.worn {
            Some((of, ohm)) if of == limb => ohm,
            _ => way.resistor_ohm,
        };
        let open = way.interrupted.is_some_and(|(of, ..)| of == limb);
        // A gap is a stage of its own.
        let has_gap = moments.len() == 5;
        let stage = |share: f64, ohm: f64| Stage { share, ohm };
        match (passed, has_gap) {
            (0, _) => stage(0.0, 0.0),
            (1, _) => stage(0.0, resistor),
            (2, true) => stage(0.0, if open { OPEN_OHM } else { resistor }),
            (2, false) | (3, true) => stage(0.5, resistor / 2.0),
            (3, false) | (4, true) => stage(1.0, resistor),
            _ => stage(1.0, 0.0),
        }
    }
}
