//! What is energised and what is measured of each part of the insulation.

use crate::power::asset::{LETTERS, PowerTransformer};
use crate::power::procedure::leads::{letters, others, to_all, to_other, to_tank};

/// One measurement.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Taken {
    /// What it shows: a part such as `H` or `HL`, or of a sum the winding.
    pub(super) shows: Shows,
    /// Where the leads are: `H: tank measured, L guarded`.
    pub(super) leads: String,
    /// The most that may be put on what is energised, in V.
    pub(super) most_v: f64,
}

/// What a measurement shows.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Shows {
    /// A part of the insulation of windings.
    Part(String),
    /// A winding to all others and the tank: the sum of these parts.
    Sum(String, Vec<String>),
    /// A bushing from its conductor to its tap.
    C1(String),
    /// A bushing from its tap to its flange.
    C2(String),
}

impl Shows {
    /// As points call it.
    pub(super) fn id(&self) -> String {
        match self {
            Self::Part(part) => part.clone(),
            Self::Sum(winding, _) => format!("{winding}/sum"),
            Self::C1(at) => format!("{at}/C1"),
            Self::C2(at) => format!("{at}/C2"),
        }
    }
}

/// What a winding is rated for to earth, and no more than is usual: in V.
fn most_of(of: &PowerTransformer, number: u8) -> f64 {
    let rated = of.winding(number).map_or(f64::NAN, |w| w.voltage_v) / 3f64.sqrt();
    rated.min(of.insulation.test_voltage_v.unwrap_or(USUAL_V))
}

/// What is put on a winding where its file does not say more or less, in V.
const USUAL_V: f64 = 10e3;

/// The insulation between windings and tank: with each winding energised everything together, to the tank with the
/// others guarded, and to each of the next ones with the tank guarded.
pub(super) fn of_windings(of: &PowerTransformer) -> Vec<Taken> {
    let letters = letters(of);
    let mut all = Vec::new();
    for (k, own) in letters.iter().enumerate() {
        let others = others(letters, own);
        let place = |l: &str| letters.iter().position(|x| *x == l);
        let pair = |a: &str, b: &str| {
            if place(a) < place(b) { format!("{a}{b}") } else { format!("{b}{a}") }
        };
        let most_v = most_of(of, of.windings[k].number);
        let mut parts = vec![(*own).to_owned()];
        parts.extend(others.iter().map(|other| pair(own, other)));
        let mut add = |shows, leads| all.push(Taken { shows, leads, most_v });
        add(Shows::Sum((*own).to_owned(), parts), to_all(own, &others));
        add(Shows::Part((*own).to_owned()), to_tank(own, &others));
        for other in &letters[k + 1..] {
            add(Shows::Part(pair(own, other)), to_other(own, other, &others));
        }
    }
    all
}

/// Bushings with a tap: from the conductor to the tap, and from the tap to the flange with the conductor guarded.
pub(super) fn of_bushings(of: &PowerTransformer) -> Vec<Taken> {
    let mut all = Vec::new();
    for bushing in &of.insulation.bushings {
        let number = bushing.at.chars().next().and_then(|c| c.to_digit(10)).unwrap_or(1) as u8;
        let winding = LETTERS[usize::from(number).clamp(1, 3) - 1];
        let at = &bushing.at;
        all.push(Taken {
            shows: Shows::C1(at.clone()),
            leads: format!("{winding}: {at}-tap measured, tank guarded"),
            most_v: most_of(of, number),
        });
        all.push(Taken {
            shows: Shows::C2(at.clone()),
            leads: format!("{at}-tap: tank measured, {winding} guarded"),
            most_v: bushing.tap_voltage_v,
        });
    }
    all
}
