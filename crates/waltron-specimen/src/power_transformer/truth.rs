//! What a power transformer is really like.

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
    /// A limb with turns that are shorted, and the resistance of the short circuit, in ohms.
    pub shorted: Option<(usize, f64, f64)>,
    /// What a current goes on through while the rig's source is off: volts against it, and ohms.
    pub off: (f64, f64),
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
}

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
    /// A coil's turns and resistance while the tap changers stand somewhere.
    pub fn coil(&self, winding: usize, coil: usize, at: &[usize]) -> (f64, f64) {
        let of = &self.windings[winding].coils[coil];
        let (mut turns, mut ohm) = (of.turns, of.ohm);
        let changers = self.changers.iter().zip(at).filter(|(c, _)| c.winding == winding);
        for (changer, at) in changers {
            let more = changer.turns[changer.really(of.limb, *at)];
            // The step's wire is that of the winding.
            ohm *= (turns + more) / turns;
            turns += more;
            if let Some((limb, position, bad)) = changer.joint
                && limb == of.limb
                && position == *at
            {
                ohm += bad;
            }
        }
        (turns, ohm)
    }
}
