//! What a power transformer's file says of its insulation and its bushings.

use crate::power::insulation::{Class, Correction, Loss, find};
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::quantity::{Dimension, ELECTRONVOLT, Measure, Quantity, Ratio, Voltage};
use waltron_core::text::document::{
    AnyQuantityText, Field, Problem, Problems, QuantityText, Source, Spannable, Text, optional,
};

/// Insulation as the file tells it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Insulation {
    /// The table by which losses are corrected for temperature, with its file's name for it.
    pub correction: Option<(Correction, Class)>,
    /// The energy that activates the losses, in eV, where it is stated.
    pub energy_ev: Option<f64>,
    /// The most that is put on it in a test, in V, where the file says.
    pub test_voltage_v: Option<f64>,
    /// What was measured of it before.
    pub known: Vec<Known>,
    /// The bushings with a tap.
    pub bushings: Vec<Bushing>,
}

/// What the maker, or an earlier test, measured of a part.
#[derive(Clone, Debug, PartialEq)]
pub struct Known {
    /// The part: `H`, `HL`, `L`.
    pub of: String,
    /// Its capacitance, in F.
    pub farad: Option<f64>,
    /// Its tan δ at the reference temperature.
    pub tan_delta: Option<f64>,
    /// A sweep, with its temperature in K.
    pub sweep: Option<(f64, Vec<Loss>)>,
}

/// A bushing with a tap.
#[derive(Clone, Debug, PartialEq)]
pub struct Bushing {
    /// The terminal: `1U`.
    pub at: String,
    /// The capacitance from conductor to tap by its nameplate, in F.
    pub c1_farad: Option<f64>,
    /// That from the tap to the flange.
    pub c2_farad: Option<f64>,
    /// tan δ of C1 by its nameplate.
    pub tan_delta: Option<f64>,
    /// The most that its tap withstands, in V.
    pub tap_voltage_v: f64,
}

impl Insulation {
    /// What is known of a part.
    pub fn known(&self, of: &str) -> Option<&Known> {
        self.known.iter().find(|known| known.of == of)
    }
}

/// The letters of windings in the names of parts, the high-voltage one first.
pub(in crate::power) const LETTERS: [&str; 3] = ["H", "L", "T"];

/// The parts of insulation of so many windings: each to the tank, and between each two.
fn parts(windings: usize) -> Vec<String> {
    let letters = &LETTERS[..windings.min(3)];
    let mut all: Vec<String> = letters.iter().map(|l| (*l).to_owned()).collect();
    for (k, a) in letters.iter().enumerate() {
        all.extend(letters[k + 1..].iter().map(|b| format!("{a}{b}")));
    }
    all
}

/// Insulation between windings and tank.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct InsulationForm {
    /// The table that corrects tan δ for temperature: `oil-paper`, or a file beside this one that ends with
    /// `.correction.toml`.
    correction: Option<Text>,
    /// Which class of that table; its first one if not given.
    class: Option<Text>,
    /// The energy that activates the losses, where it is known; `0.9 eV` with 0.06 eV of doubt if not given.
    activation_energy: Option<AnyQuantityText>,
    /// The most that a test puts on a winding; `10 kV`, or what the winding is rated for to earth, if not given.
    test_voltage: Option<QuantityText<Voltage>>,
    /// What the maker, or an earlier test, measured.
    known: Option<Vec<KnownForm>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct KnownForm {
    /// The part: `H`, `L`, `T` of a winding to the tank, `HL`, `HT`, `LT` between two.
    of: Text,
    /// Its capacitance.
    capacitance: Option<AnyQuantityText>,
    /// Its tan δ at 20 °C and rated frequency.
    tan_delta: Option<QuantityText<Ratio>>,
    /// The temperature of the sweep.
    temperature: Option<AnyQuantityText>,
    /// A sweep by rising frequency: `[["15 Hz", "0.61 %"], …]`.
    sweep: Option<Spannable<Vec<Vec<String>>>>,
}

/// A bushing with a tap.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct BushingForm {
    /// The terminal: `1U`.
    at: Text,
    /// Capacitance from conductor to tap, by its nameplate.
    c1: Option<AnyQuantityText>,
    /// Capacitance from tap to flange, by its nameplate.
    c2: Option<AnyQuantityText>,
    /// tan δ of C1, by its nameplate.
    tan_delta: Option<QuantityText<Ratio>>,
    /// The most that its tap withstands; `500 V` if not given.
    tap_voltage: Option<QuantityText<Voltage>>,
}

/// What a tap withstands where nothing is said, in V.
const TAP_V: f64 = 500.0;

fn farads(text: Option<&AnyQuantityText>, problems: &mut Problems) -> Option<Option<f64>> {
    let read = text.map(|t| t.positive_of(Dimension::CAPACITANCE, problems));
    optional(read).map(|q| q.map(|q| q.si))
}

fn share(text: Option<&QuantityText<Ratio>>, problems: &mut Problems) -> Option<Option<f64>> {
    optional(text.map(|t| t.percentage(problems))).map(|r| r.map(|r| r.value))
}

impl InsulationForm {
    pub(super) fn read(
        &self,
        windings: usize,
        source: &Source,
        problems: &mut Problems,
    ) -> Option<Insulation> {
        let correction = match &self.correction {
            None => {
                if let Some(class) = &self.class {
                    let message = "a class is one of a `correction`, and none is given";
                    problems.push(Problem::new(class.span(), message));
                }
                None
            }
            Some(text) => Some(self.table(find(text, source, problems)?, problems)?),
        };
        let energy_ev = match &self.activation_energy {
            Some(text) => Some(text.positive_of(Dimension::ENERGY, problems)?.si / ELECTRONVOLT),
            None => None,
        };
        let most = optional(self.test_voltage.as_ref().map(|v| v.positive(problems)))?;
        let mut known: Vec<Known> = Vec::new();
        for form in self.known.iter().flatten() {
            let next = form.read(windings, problems)?;
            if known.iter().any(|k| k.of == next.of) {
                let message = format!("`{}` is told twice", next.of);
                problems.push(Problem::new(form.of.span(), message));
            }
            known.push(next);
        }
        let test_voltage_v = most.map(Measure::si);
        Some(Insulation { correction, energy_ev, test_voltage_v, known, bushings: Vec::new() })
    }

    fn table(&self, of: Correction, problems: &mut Problems) -> Option<(Correction, Class)> {
        let id = self.class.as_ref();
        if let Some(class) = of.class(id.map(Text::as_str)) {
            let class = class.clone();
            return Some((of, class));
        }
        let text = id?;
        let names = of.classes.iter().map(|c| c.id.as_str());
        let near = waltron_core::text::name::nearest(text.as_str(), names.clone());
        let list = || format!("it has {}", names.collect::<Vec<_>>().join(", "));
        let message = format!("{} has no class `{}`", of.name, text.as_str());
        problems.push(Problem::new(text.span(), message).did_you_mean(near, list));
        None
    }
}

impl KnownForm {
    fn read(&self, windings: usize, problems: &mut Problems) -> Option<Known> {
        let all = parts(windings);
        if !all.iter().any(|part| part == self.of.as_str()) {
            let message = format!("the transformer has no insulation `{}`", self.of.as_str());
            let help = format!("it has {}", all.join(", "));
            problems.push(Problem::new(self.of.span(), message).help(help));
            return None;
        }
        let sweep = match (&self.sweep, &self.temperature) {
            (None, None) => None,
            (Some(rows), Some(temperature)) => {
                let kelvin = crate::material::temperature(temperature, problems)?;
                Some((kelvin, sweep(rows, problems)?))
            }
            (Some(rows), None) => {
                let message = "a sweep says little without its `temperature`";
                problems.push(Problem::new(rows.span(), message));
                return None;
            }
            (None, Some(temperature)) => {
                let message = "the temperature is that of a `sweep`, and none is given";
                problems.push(Problem::new(temperature.span(), message));
                return None;
            }
        };
        Some(Known {
            of: self.of.as_str().to_owned(),
            farad: farads(self.capacitance.as_ref(), problems)?,
            tan_delta: share(self.tan_delta.as_ref(), problems)?,
            sweep,
        })
    }
}

/// What a typed value is taken to be uncertain by, as a share: the last of three digits.
const TYPED: f64 = 0.005;

fn sweep(rows: &Spannable<Vec<Vec<String>>>, problems: &mut Problems) -> Option<Vec<Loss>> {
    let mut all: Vec<Loss> = Vec::new();
    let value = |text: &String, dimension| {
        let parsed = Quantity::parse(text).ok()?;
        (parsed.dimension == dimension && parsed.si > 0.0).then_some(parsed.si)
    };
    for row in rows.get() {
        let read = match row.as_slice() {
            [hertz, loss] => value(hertz, Dimension::FREQUENCY).zip(value(loss, Dimension::NUMBER)),
            _ => None,
        };
        let Some((hertz, tan_delta)) = read else {
            let message = "a row of a sweep is a frequency and tan δ: `[\"15 Hz\", \"0.61 %\"]`";
            problems.push(Problem::new(rows.span(), message));
            return None;
        };
        if all.last().is_some_and(|before| before.hertz >= hertz) {
            problems.push(Problem::new(rows.span(), "frequencies rise from row to row"));
            return None;
        }
        all.push(Loss { hertz, tan_delta, u: tan_delta * TYPED });
    }
    Some(all)
}

impl BushingForm {
    pub(super) fn read(
        &self,
        terminals: &[String],
        before: &[Bushing],
        problems: &mut Problems,
    ) -> Option<Bushing> {
        let at = self.at.as_str().to_owned();
        if !terminals.contains(&at) {
            let message = format!("the transformer has no terminal `{at}`");
            let help = format!("it has {}", terminals.join(", "));
            problems.push(Problem::new(self.at.span(), message).help(help));
            return None;
        }
        if before.iter().any(|b| b.at == at) {
            problems.push(Problem::new(self.at.span(), format!("`{at}` has a bushing already")));
        }
        let tap = self.tap_voltage.as_ref();
        Some(Bushing {
            at,
            c1_farad: farads(self.c1.as_ref(), problems)?,
            c2_farad: farads(self.c2.as_ref(), problems)?,
            tan_delta: share(self.tan_delta.as_ref(), problems)?,
            tap_voltage_v: tap.map_or(Some(TAP_V), |v| v.positive(problems).map(Measure::si))?,
        })
    }
}
