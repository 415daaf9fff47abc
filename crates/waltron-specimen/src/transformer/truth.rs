//! What a transformer is really like.

use crate::iron::Magnetics;

/// What a simulated transformer is really like: its phases and cores, which know each other by a closed
/// primary only.
#[derive(Clone, Debug, PartialEq)]
pub struct TransformerTruth {
    /// Its cores with their windings.
    pub units: Vec<Unit>,
    /// Standard deviation of a sample, as a share of the largest one.
    pub noise: f64,
}

/// A core with its secondary winding, and the primary through it.
#[derive(Clone, Debug, PartialEq)]
pub struct Unit {
    /// Its phase, where there are several.
    pub phase: Option<String>,
    /// Its terminals along the winding, with the turns from the first one on, over those of the primary;
    /// a winding without named ones is the whole between two.
    pub terminals: Vec<Terminal>,
    /// Whether the winding is connected the wrong way round.
    pub reversed: bool,
    /// Leakage inductance of the whole winding, in H.
    pub leakage_h: f64,
    /// The core.
    pub magnetics: Magnetics,
    /// Remanence as a share of the saturation flux.
    pub remanence: f64,
    /// What is connected to the secondary; none: open.
    pub burden: Option<Burden>,
    /// Whether it stays connected whatever else is.
    pub burden_stays: bool,
    /// A joint in the lead to the winding, in ohms.
    pub joint_ohm: f64,
    /// Turns that are shorted, with their resistance in ohms.
    pub shorted: Option<(f64, f64)>,
    /// The resistance of a loop that closes the primary, where it is not open.
    pub primary_loop_ohm: Option<f64>,
    /// Whether its secondary is left open while another core is tested; else it is shorted.
    pub left_open: bool,
    /// Whether the leads of the two voltmeters are swapped.
    pub swapped: bool,
    /// Resistance and leakage inductance of the primary winding, in ohms and H.
    pub primary: (f64, f64),
    /// What is induced into the open primary from neighbours that are live, RMS in V, and its frequency.
    pub hum: (f64, f64),
}

/// A terminal along a winding.
#[derive(Clone, Debug, PartialEq)]
pub struct Terminal {
    /// What is written at it; empty where nothing is.
    pub name: String,
    /// Turns from the first terminal to here, over those of the primary.
    pub turns: f64,
    /// Resistance from the first terminal to here, in ohms.
    pub resistance_ohm: f64,
}

/// What is connected to the secondary.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Burden {
    /// In ohms.
    pub resistance_ohm: f64,
    /// In henries.
    pub inductance_h: f64,
}

/// A part of a winding between two terminals.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Part {
    /// Its turns, negative where it is taken the other way round.
    pub(super) turns: f64,
    pub(super) resistance_ohm: f64,
    pub(super) leakage_h: f64,
}

impl Unit {
    /// The whole winding.
    pub(super) fn whole(&self) -> Part {
        self.part(0, self.terminals.len() - 1)
    }

    fn part(&self, from: usize, to: usize) -> Part {
        let (a, b) = (&self.terminals[from], &self.terminals[to]);
        let all = self.terminals[self.terminals.len() - 1].turns;
        let turns = b.turns - a.turns;
        let sign = if self.reversed { -1.0 } else { 1.0 };
        Part {
            turns: turns * sign,
            resistance_ohm: (b.resistance_ohm - a.resistance_ohm).abs() + self.joint_ohm,
            // Leakage goes with the square of the turns.
            leakage_h: self.leakage_h * (turns / all) * (turns / all),
        }
    }

    /// The part between two terminals as they are written, such as `1S1-1S3`.
    pub(super) fn between(&self, names: &str) -> Option<Part> {
        let (from, to) = names.split_once('-')?;
        let at = |name: &str| self.terminals.iter().position(|t| t.name == name.trim());
        let (from, to) = (at(from)?, at(to)?);
        (from != to).then(|| self.part(from, to))
    }

    /// The unit at a place such as `A 1S1-1S3`, with the part of its winding.
    pub(super) fn at(&self, place: &str) -> Option<Part> {
        match (&self.phase, place.split_once(' ')) {
            (Some(phase), Some((of, names))) if phase == of => self.between(names),
            (None, _) => self.between(place),
            _ => None,
        }
    }
}
