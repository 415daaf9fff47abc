//! What a power transformer is really like.

use super::change::Change;
use super::dielectric::Insulation;
use crate::iron::Magnetics;

/// What a simulated power transformer is really like.
#[derive(Clone, Debug, PartialEq)]
pub struct PowerTruth {
    /// Its limbs, the outer ones with their shares of the yokes.
    pub limbs: [Magnetics; 3],
    /// Remanence of each limb as a share of the saturation flux.
    pub remanence: [f64; 3],
    /// V·s an ampere-turn of what closes through air and tank.
    pub tank: f64,
    /// Its windings.
    pub windings: Vec<Winding>,
    /// Its tap changers.
    pub changers: Vec<Changer>,
    /// Its insulation.
    pub insulation: Insulation,
    /// A limb with turns that are shorted, and the resistance of the short circuit, in ohms.
    pub shorted: Option<(usize, f64, f64)>,
    /// What a current goes on through while the rig's source is off: volts against it, and ohms.
    pub off: (f64, f64),
    /// After how many seconds under direct current a lead of the source falls off.
    pub lead_off_s: f64,
    /// Standard deviation of a sample, as a share of the largest one.
    pub noise: f64,
}

/// A winding: coils with the same turns.
#[derive(Clone, Debug, PartialEq)]
pub struct Winding {
    /// Turns of each coil at the principal position.
    pub turns: f64,
    /// Its coils.
    pub coils: Vec<CoilTruth>,
}

/// A coil on a limb.
#[derive(Clone, Debug, PartialEq)]
pub struct CoilTruth {
    /// Where it begins and ends: `1U`, `1N`, or any name inside.
    pub ends: [String; 2],
    /// The limb, 0 to 2.
    pub limb: usize,
    /// Its turns at the principal position.
    pub turns: f64,
    /// Its resistance there, at its present temperature, in ohms.
    pub ohm: f64,
    /// Its leakage inductance, in H.
    pub henry: f64,
}

/// A tap changer.
#[derive(Clone, Debug, PartialEq)]
pub struct Changer {
    /// What it is called.
    pub name: String,
    /// The winding that it acts on.
    pub winding: usize,
    /// What its positions are called.
    pub labels: Vec<String>,
    /// The turns that each position adds to those of the principal one.
    pub turns: Vec<f64>,
    /// A limb on which two positions are exchanged.
    pub crossed: Option<(usize, usize, usize)>,
    /// A limb, a position and the resistance of a bad joint there, in ohms.
    pub joint: Option<(usize, usize, f64)>,
    /// Where it stands at the beginning.
    pub at: usize,
    /// How it goes from one position to the next.
    pub way: Way,
}

/// How a tap changer goes from one position to the next.
#[derive(Clone, Debug, PartialEq)]
pub struct Way {
    /// From being asked to the contacts that change over, in s.
    pub takes_s: f64,
    /// What its motor takes, in A, where it is told.
    pub motor_a: Option<f64>,
    /// The resistor of each half of the diverter switch, in ohms.
    pub resistor_ohm: f64,
    /// How long each of three stages lasts: one resistor, both, the other one, in s.
    pub stages_s: [f64; 3],
    /// A limb, the position that is left, and for how long the circuit is open between the stages, in s.
    pub interrupted: Option<(usize, usize, f64)>,
    /// A limb whose resistors are worn, and their resistance, in ohms.
    pub worn: Option<(usize, f64)>,
    /// How many positions further than it should it goes when it leaves one: a second press of the button.
    pub oversteps: Option<usize>,
}

impl Default for Way {
    fn default() -> Self {
        Self {
            takes_s: 5.0,
            motor_a: None,
            resistor_ohm: 0.0,
            stages_s: [0.015; 3],
            interrupted: None,
            worn: None,
            oversteps: None,
        }
    }
}

/// A circuit that is open, in ohms.
pub(super) const OPEN_OHM: f64 = 1e6;

impl Changer {
    /// The position whose turns a limb has, where the pointer stands at one.
    pub(super) fn really(&self, limb: usize, at: usize) -> usize {
        match self.crossed {
            Some((of, a, b)) if of == limb && at == a => b,
            Some((of, a, b)) if of == limb && at == b => a,
            _ => at,
        }
    }
}

impl PowerTruth {
    /// A coil's turns and resistance while the tap changers stand somewhere, one of them perhaps on its way.
    pub(super) fn coil(
        &self,
        winding: usize,
        coil: usize,
        at: &[usize],
        change: Option<Change>,
    ) -> (f64, f64) {
        let of = &self.windings[winding].coils[coil];
        let (mut turns, mut ohm) = (of.turns, of.ohm);
        for (k, changer) in self.changers.iter().enumerate() {
            if changer.winding != winding {
                continue;
            }
            let added = |at: usize| {
                let bad =
                    changer.joint.filter(|(limb, position, _)| *limb == of.limb && *position == at);
                (changer.turns[changer.really(of.limb, at)], bad.map_or(0.0, |(_, _, bad)| bad))
            };
            let (mut more, mut bad) = added(at[k]);
            if let Some(change) = change.filter(|change| change.of == k) {
                let stage = change.stage(changer, of.limb);
                let ((a, bad_a), (b, bad_b)) = (added(change.from), added(change.to));
                more = a + (b - a) * stage.share;
                bad = bad_a + (bad_b - bad_a) * stage.share + stage.ohm;
            }
            // The step's wire is that of the winding.
            ohm *= (turns + more) / turns;
            turns += more;
            ohm += bad;
        }
        (turns, ohm)
    }
}
