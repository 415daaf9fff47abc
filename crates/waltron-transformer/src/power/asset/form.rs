//! The asset file of a power transformer.

use super::insulation::{Bushing, BushingForm, InsulationForm};
use super::tap_changer::{ChangerKind, Position, TapChanger};
use super::{Allowed, Difference, PowerTransformer, Winding};
use crate::material::Material;
use crate::power::vector_group::VectorGroup;
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use waltron_core::asset::{Asset, IdentityForm, Own, Rating, Ratings, Withstand};
use waltron_core::quantity::tolerance::AnyTolerance;
use waltron_core::quantity::{Current, Dimension, Frequency, Measure, Ratio, Time, Voltage};
use waltron_core::text::document::{
    AnyQuantityText, AnyToleranceText, DocumentError, Field, Form, Number, Problem, Problems,
    QuantityText, Source, Spannable, Text, load, optional,
};

/// A power transformer of three phases with its nameplate and tolerances.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PowerTransformerForm {
    /// What it is and where it stands.
    asset: IdentityForm<KindForm>,
    /// What is written at its terminals, by what the rig connects to.
    terminals: Option<BTreeMap<String, String>>,
    /// What holds for all of it.
    ratings: RatingsForm,
    /// Its windings, the high-voltage one first: two or three.
    winding: Vec<WindingForm>,
    /// Its tap changers.
    tap_changer: Option<Vec<ChangerForm>>,
    /// Its insulation between windings and tank.
    insulation: Option<InsulationForm>,
    /// Its bushings, those with a tap.
    bushing: Option<Vec<BushingForm>>,
    /// What measured values are graded against.
    tolerance: Option<ToleranceForm>,
}

impl Form for PowerTransformerForm {
    const KIND: &'static str = "asset";
}

/// The kind of asset.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum KindForm {
    /// A power transformer.
    PowerTransformer,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct RatingsForm {
    /// Rated frequency.
    frequency: QuantityText<Frequency>,
    /// Rated power.
    power: AnyQuantityText,
    /// Short-circuit impedance at the principal position, of the first two windings.
    impedance: Option<QuantityText<Ratio>>,
    /// Those of other pairs of windings: `{ "1-3" = "18 %", "2-3" = "6.5 %" }`.
    impedances: Option<BTreeMap<String, QuantityText<Ratio>>>,
    /// Vector group, such as `YNd5`, `Dyn11`, `YNyn0d5` (IEC 60076-1).
    vector_group: Text,
    /// Cooling, for the report: `ONAN`.
    cooling: Option<String>,
    /// What insulates it, for the report: `mineral oil`.
    insulation: Option<String>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct WindingForm {
    /// Rated line voltage.
    voltage: QuantityText<Voltage>,
    /// Rated power; that of the transformer if not given.
    power: Option<AnyQuantityText>,
    /// What it is made of; copper if not given.
    material: Option<Material>,
    /// The temperature at which resistances are told; `75 degC` if not given.
    reference: Option<AnyQuantityText>,
    /// The largest direct current that a test may drive through it; 15 % of its rated current if not given.
    test_current: Option<QuantityText<Current>>,
    /// Its resistance as the maker measured it between the same terminals, at the principal position and the
    /// reference temperature.
    resistance: Option<AnyQuantityText>,
    /// The same at other positions, by label.
    resistances: Option<BTreeMap<String, AnyQuantityText>>,
}

/// Whether a tap changer may be moved under load.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum ChangerKindForm {
    /// An on-load tap changer (OLTC).
    OnLoad,
    /// A de-energised tap changer (DETC).
    DeEnergised,
}

/// Which end of a tap changer has the highest voltage.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum FirstForm {
    /// The first position.
    Highest,
    /// The last position.
    Lowest,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ChangerForm {
    /// What it is called; `OLTC` or `DETC` if not given.
    id: Option<Text>,
    /// Whether it may be moved under load.
    kind: ChangerKindForm,
    /// The number of the winding that it acts on: 1 is the high-voltage one.
    winding: Spannable<u8>,
    /// How many positions it has; they are called 1, 2, 3 … where nothing else is said.
    positions: Option<Spannable<usize>>,
    /// What the positions are called, in the order of the pointer.
    labels: Option<Vec<Text>>,
    /// What the numbers from the middle are written with: `{ raise = "R", neutral = "N", lower = "L" }`.
    suffixes: Option<Spannable<SuffixesForm>>,
    /// The position that rated values are of; the one in the middle if not given.
    principal: Option<Text>,
    /// Positions beside each other with the same voltage, that a change-over selector passes through.
    neutral: Option<Vec<Text>>,
    /// The step from one position to the next, as a share of the winding's rated voltage.
    step: Option<QuantityText<Ratio>>,
    /// Which position has the highest voltage, the `highest` first if not given.
    first: Option<FirstForm>,
    /// To what the voltages are rounded on the nameplate; not if not given.
    round: Option<QuantityText<Voltage>>,
    /// All voltages, in the order of the positions, in place of `step`.
    voltages: Option<Vec<QuantityText<Voltage>>>,
    /// Voltages of single positions as the nameplate has them, by label.
    exact: Option<BTreeMap<String, QuantityText<Voltage>>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct SuffixesForm {
    /// Behind the numbers of the first positions.
    raise: String,
    /// The label of the one in the middle.
    neutral: String,
    /// Behind the numbers of the last positions.
    lower: String,
}

#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ToleranceForm {
    /// Of the ratio; `0.5 %` if not given (IEEE C57.12.00), and of the first two windings at the principal position a
    /// tenth of the impedance where that is less (IEC 60076-1, table 1).
    ratio: Option<AnyToleranceText>,
    /// By how much exciting currents that should be alike may differ; `15 %` if not given.
    exciting: Option<QuantityText<Ratio>>,
    /// Of a winding's resistance against the maker's; `5 %` if not given.
    resistance: Option<AnyToleranceText>,
    /// By how much the resistances of the phases may differ: a share, a resistance, or the larger of both as
    /// `2 % or 20 uOhm`; `2 %` if not given.
    difference: Option<AnyToleranceText>,
    /// What that difference is told by: the `mean` (default), or the `least` of the three.
    difference_by: Option<Difference>,
    /// For how long the current through a tap changer may be gone while it changes; `1 ms` if not given.
    interruption: Option<QuantityText<Time>>,
    /// By how much that current may dip; not limited if not given.
    ripple: Option<QuantityText<Ratio>>,
    /// The largest tan δ at 20 °C; what the correction's conditions say, or `0.5 %`, if not given.
    tan_delta: Option<QuantityText<Ratio>>,
    /// The largest tan δ of a bushing at 20 °C; `0.7 %` if not given (IEC 60137, of paper in oil).
    bushing_tan_delta: Option<QuantityText<Ratio>>,
    /// The least insulation resistance after a minute, at 20 °C; none if not given.
    insulation_resistance: Option<AnyQuantityText>,
    /// The least polarisation index; none if not given.
    polarisation_index: Option<Number>,
    /// Of a capacitance against the nameplate's or an earlier one; `5 %` if not given.
    capacitance: Option<AnyToleranceText>,
    /// Of the short-circuit impedance against the nameplate's; `10 %` if not given (IEC 60076-1, table 1).
    impedance: Option<AnyToleranceText>,
}

/// What may be driven through a winding where its file does not say, as a share of its rated current: more
/// warms it while it is measured.
const USUAL_CURRENT: f64 = 0.15;

/// The largest tan δ at 20 °C where nothing is said: what is usual for new insulation of oil and paper (IEEE
/// C57.152).
const USUAL_TAN_DELTA: f64 = 0.005;

/// The most positions that are believed.
const MOST_POSITIONS: usize = 200;

impl PowerTransformerForm {
    /// Reads the asset file of a power transformer.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source) -> Result<Asset, DocumentError> {
        load(source, |form: Self, problems| form.read(source, problems))
    }

    fn read(self, source: &Source, problems: &mut Problems) -> Option<Asset> {
        let (_, identity) = self.asset.read();
        let frequency = self.ratings.frequency.positive(problems);
        let power = apparent(&self.ratings.power, problems);
        let text = &self.ratings.vector_group;
        let group = VectorGroup::parse(text.as_str());
        let group = group.map_err(|why| problems.push(Problem::new(text.span(), why))).ok();
        let read = self.winding.iter().enumerate();
        let windings: Vec<Option<Winding>> =
            read.map(|(k, form)| form.read(k as u8 + 1, power.map(|p| p.si), problems)).collect();
        let windings: Option<Vec<Winding>> = windings.into_iter().collect();
        if let Some(group) = &group
            && group.sides.len() != self.winding.len()
        {
            let message = format!(
                "`{group}` has {} windings, and {} tables `[[winding]]` stand here",
                group.sides.len(),
                self.winding.len()
            );
            problems.push(Problem::new(text.span(), message));
            return None;
        }
        let windings = windings?;
        for (k, pair) in windings.windows(2).enumerate() {
            if k == 0 && pair[1].voltage_v > pair[0].voltage_v {
                let place = self.winding[1].voltage.span();
                let message = "the high-voltage winding comes first";
                problems.push(Problem::new(place, message).help("swap the two `[[winding]]`"));
            }
        }
        let mut changers: Vec<TapChanger> = Vec::new();
        for form in self.tap_changer.iter().flatten() {
            let changer = form.read(&windings, problems)?;
            if let Some(same) = changers.iter().find(|c| c.winding == changer.winding) {
                let message = format!("winding {} has `{}` already", changer.winding, same.name);
                problems.push(Problem::new(form.winding.span(), message));
            } else if changers.iter().any(|c| c.name == changer.name) {
                let message = format!("two tap changers are called `{}`", changer.name);
                let place = form.id.as_ref().map_or_else(|| form.winding.span(), Field::span);
                problems.push(Problem::new(place, message).help("give one of them an `id`"));
            }
            changers.push(changer);
        }
        for (winding, form) in windings.iter().zip(&self.winding) {
            let changer = changers.iter().find(|c| c.winding == winding.number);
            for (label, text) in form.resistances.iter().flatten() {
                if changer.is_none_or(|c| c.at(label).is_none()) {
                    let message =
                        format!("no position of winding {} is called `{label}`", winding.number);
                    problems.push(Problem::new(text.span(), message));
                }
            }
        }
        let tolerance = self.tolerance.unwrap_or_default();
        let ratio = match &tolerance.ratio {
            Some(text) => text.read(Dimension::NUMBER, problems),
            None => AnyTolerance::parse("0.5 %", Dimension::NUMBER).ok(),
        };
        let exciting =
            tolerance.exciting.map_or(Some(0.15), |t| t.percentage(problems).map(|r| r.value));
        let mut ohms = |text: &Option<AnyToleranceText>, usual: &str| match text {
            Some(text) => text.read(Dimension::RESISTANCE, problems),
            None => AnyTolerance::parse(usual, Dimension::RESISTANCE).ok(),
        };
        let resistance = ohms(&tolerance.resistance, "5 %");
        let difference = ohms(&tolerance.difference, "2 %");
        let interruption =
            tolerance.interruption.map_or(Some(1e-3), |t| t.positive(problems).map(Measure::si));
        let ripple = optional(tolerance.ripple.map(|r| r.percentage(problems).map(|r| r.value)));
        let capacitance = match &tolerance.capacitance {
            Some(text) => text.read(Dimension::CAPACITANCE, problems),
            None => AnyTolerance::parse("5 %", Dimension::CAPACITANCE).ok(),
        };
        let impedance = match &tolerance.impedance {
            Some(text) => text.read(Dimension::NUMBER, problems),
            None => AnyTolerance::parse("10 %", Dimension::NUMBER).ok(),
        };
        let tan_delta =
            optional(tolerance.tan_delta.map(|t| t.percentage(problems).map(|r| r.value)))?;
        let least = tolerance.insulation_resistance.as_ref();
        let insulation_ohm =
            optional(least.map(|t| t.positive_of(Dimension::RESISTANCE, problems)))?;
        let index = tolerance.polarisation_index.as_ref();
        let polarisation_index = optional(index.map(|n| n.positive(problems)))?;
        let of_bushings = tolerance.bushing_tan_delta;
        let bushing_tan_delta =
            of_bushings.map_or(Some(0.007), |t| t.percentage(problems).map(|r| r.value))?;
        let mut insulation = match &self.insulation {
            Some(form) => form.read(windings.len(), source, problems)?,
            None => super::Insulation::default(),
        };
        let terminals = group.as_ref().map(VectorGroup::terminals).unwrap_or_default();
        let mut bushings: Vec<Bushing> = Vec::new();
        for form in self.bushing.iter().flatten() {
            bushings.push(form.read(&terminals, &bushings, problems)?);
        }
        insulation.bushings = bushings;
        let of_conditions = insulation.correction.as_ref().and_then(|(table, _)| table.most());
        let impedances = self.ratings.impedances(windings.len(), problems)?;
        let told = [("Cooling", self.ratings.cooling), ("Insulation", self.ratings.insulation)];
        let told = told.into_iter().filter_map(|(name, text)| Some((name.to_owned(), text?)));
        let own = PowerTransformer {
            group: group?,
            power_va: power?.si,
            windings,
            changers,
            allowed: Allowed {
                ratio: ratio?,
                is_ratio_usual: tolerance.ratio.is_none(),
                exciting: exciting?,
                resistance: resistance?,
                difference: difference?,
                by: tolerance.difference_by.unwrap_or_default(),
                interruption_s: interruption?,
                ripple: ripple?,
                tan_delta: tan_delta.or(of_conditions).unwrap_or(USUAL_TAN_DELTA),
                bushing_tan_delta,
                insulation_ohm: insulation_ohm.map(|q| q.si),
                polarisation_index,
                capacitance: capacitance?,
                impedance: impedance?,
            },
            insulation,
            impedances,
            told: told.collect(),
        };
        let mut ratings = Ratings::unknown(Some(frequency?));
        let highest = own.windings.iter().map(|w| w.voltage_v).fold(0.0, f64::max);
        let volts = Rating { value: Voltage::from_si(highest), duration: None };
        ratings.own_voltages.push(("test voltage".into(), Withstand::new(vec![volts])));
        // From a winding to earth, whatever is put on it.
        let to_earth = || Rating { value: Voltage::from_si(highest / 3f64.sqrt()), duration: None };
        for meaning in ["high voltage", "insulation voltage"] {
            ratings.own_voltages.push((meaning.into(), Withstand::new(vec![to_earth()])));
        }
        let largest = own.windings.iter().map(Winding::most_a).fold(0.0, f64::max);
        let amps = Rating { value: Current::from_si(largest), duration: None };
        ratings.own_currents.push(("winding current".into(), Withstand::new(vec![amps])));
        let terminals = self.terminals.unwrap_or_default().into_iter();
        Some(Asset {
            kind: crate::power::KIND,
            identity,
            ratings,
            elements: Vec::new(),
            assumed: Vec::new(),
            terminals: terminals.map(|(key, at)| (key.as_str().into(), at)).collect(),
            own: Own::new(own),
        })
    }
}

impl RatingsForm {
    /// Impedances by the numbers of their windings.
    fn impedances(&self, windings: usize, problems: &mut Problems) -> Option<Vec<(u8, u8, f64)>> {
        let mut all = Vec::new();
        if let Some(first) = &self.impedance {
            all.push((1, 2, first.percentage(problems)?.value));
        }
        for (pair, text) in self.impedances.iter().flatten() {
            let value = text.percentage(problems)?.value;
            let numbers =
                pair.split_once('-').and_then(|(a, b)| Some((a.parse().ok()?, b.parse().ok()?)));
            let fits = |n: u8| (1..=windings).contains(&usize::from(n));
            let numbers = numbers.filter(|(a, b): &(u8, u8)| fits(*a) && fits(*b) && a < b);
            let Some((a, b)) = numbers else {
                let message = format!("`{pair}` is no pair of windings, such as `1-3`");
                problems.push(Problem::new(text.span(), message));
                return None;
            };
            if all.iter().any(|(x, y, _)| (*x, *y) == (a, b)) {
                let message = format!("the impedance of `{pair}` is told twice");
                problems.push(Problem::new(text.span(), message));
            }
            all.push((a, b, value));
        }
        Some(all)
    }
}

impl WindingForm {
    fn read(&self, number: u8, power: Option<f64>, problems: &mut Problems) -> Option<Winding> {
        let volts = self.voltage.positive(problems);
        let own = optional(self.power.as_ref().map(|p| apparent(p, problems)));
        let reference = match &self.reference {
            Some(text) => text.positive_of(Dimension::TEMPERATURE, problems).map(|q| q.si),
            None => Some(273.15 + 75.0),
        };
        let mut maker_ohm = Vec::new();
        let plain = self.resistance.iter().map(|text| (String::new(), text));
        let by_label = self.resistances.iter().flatten().map(|(l, text)| (l.clone(), text));
        for (label, text) in plain.chain(by_label) {
            maker_ohm.push((label, text.positive_of(Dimension::RESISTANCE, problems)?.si));
        }
        let most = optional(self.test_current.as_ref().map(|c| c.positive(problems)));
        let winding = Winding {
            number,
            voltage_v: volts?.si(),
            power_va: own?.map(|q| q.si).or(power)?,
            material: self.material.unwrap_or_default(),
            reference_k: reference?,
            test_current_a: most?.map(Measure::si),
            maker_ohm,
        };
        if let (Some(most), Some(form)) = (winding.test_current_a, &self.test_current)
            && most > winding.current_a()
        {
            let message = format!(
                "the winding is rated for {}",
                waltron_core::quantity::text(Current::from_si(winding.current_a()))
            );
            problems.push(Problem::new(form.span(), message));
        }
        Some(winding)
    }
}

impl Winding {
    /// The largest direct current that a test may drive through it, in A.
    pub fn most_a(&self) -> f64 {
        self.test_current_a.unwrap_or(USUAL_CURRENT * self.current_a())
    }
}

impl ChangerForm {
    fn read(&self, windings: &[Winding], problems: &mut Problems) -> Option<TapChanger> {
        let kind = match self.kind {
            ChangerKindForm::OnLoad => ChangerKind::OnLoad,
            ChangerKindForm::DeEnergised => ChangerKind::DeEnergised,
        };
        let number = *self.winding.get();
        let Some(winding) = windings.iter().find(|w| w.number == number) else {
            let message = format!("there is no winding {number}; they are numbered from 1");
            problems.push(Problem::new(self.winding.span(), message));
            return None;
        };
        let labels = self.labelled(problems)?;
        let at = |text: &Text, problems: &mut Problems| {
            let found = labels.iter().position(|label| label == text.as_str());
            if found.is_none() {
                let message = format!("no position is called `{}`", text.as_str());
                let near = waltron_core::text::name::nearest(
                    text.as_str(),
                    labels.iter().map(String::as_str),
                );
                let all = || format!("they are {}", labels.join(", "));
                problems.push(Problem::new(text.span(), message).did_you_mean(near, all));
            }
            found
        };
        let neutral: Option<Vec<usize>> =
            self.neutral.iter().flatten().map(|text| at(text, problems)).collect();
        let neutral = neutral?;
        if neutral.windows(2).any(|pair| pair[1] != pair[0] + 1) {
            let place = self.neutral.iter().flatten().next().map_or(0..0, Field::span);
            let message =
                "positions with the same voltage stand beside each other, in the pointer's order";
            problems.push(Problem::new(place, message));
            return None;
        }
        let principal = match &self.principal {
            Some(text) => at(text, problems)?,
            None if labels.len() % 2 == 1 => labels.len() / 2,
            None => {
                let message = "an even number of positions has none in the middle: say which is the principal one";
                problems.push(
                    Problem::new(self.winding.span(), message).help("add `principal = \"…\"`"),
                );
                return None;
            }
        };
        let volts = self.volts(&labels, winding.voltage_v, principal, &neutral, problems)?;
        let name = self.id.as_ref().map_or(kind.short(), Text::as_str).to_owned();
        let positions = labels.into_iter().zip(volts);
        let positions = positions.map(|(label, volts)| Position { label, volts }).collect();
        Some(TapChanger { name, kind, winding: number, positions, principal })
    }

    fn labelled(&self, problems: &mut Problems) -> Option<Vec<String>> {
        let place = || match (&self.positions, &self.labels) {
            (Some(count), _) => count.span(),
            (None, Some(labels)) => labels.first().map_or_else(|| self.winding.span(), Field::span),
            (None, None) => self.winding.span(),
        };
        let count = self.positions.as_ref().map(|count| *count.get());
        let labels = match (&self.labels, &self.suffixes, count) {
            (Some(labels), ..) => {
                let labels: Vec<String> = labels.iter().map(|l| l.as_str().to_owned()).collect();
                if let Some(count) = count.filter(|count| *count != labels.len()) {
                    let message = format!("{} labels for {count} positions", labels.len());
                    problems.push(Problem::new(place(), message));
                    return None;
                }
                labels
            }
            (None, _, Some(count)) if count > MOST_POSITIONS => {
                let message = format!("no tap changer has {count} positions");
                problems.push(Problem::new(place(), message));
                return None;
            }
            (None, Some(suffixes), Some(count)) => {
                let SuffixesForm { raise, neutral, lower } = suffixes.get();
                match TapChanger::suffixed(count, raise, neutral, lower) {
                    Ok(labels) => labels,
                    Err(why) => {
                        problems.push(Problem::new(suffixes.span(), why));
                        return None;
                    }
                }
            }
            (None, None, Some(count)) => (1..=count).map(|k| k.to_string()).collect(),
            (None, _, None) => {
                let message = "how many positions the tap changer has is missing";
                problems.push(Problem::new(place(), message).help("add `positions`, or `labels`"));
                return None;
            }
        };
        if labels.len() < 2 {
            problems.push(Problem::new(place(), "a tap changer has two positions at least"));
            return None;
        }
        for (k, label) in labels.iter().enumerate() {
            let why = if label.trim().is_empty() || label.contains([',', '/', '*']) {
                format!("`{label}` is no label: it is written in points and questions")
            } else if labels[..k].contains(label) {
                format!("two positions are called `{label}`")
            } else {
                continue;
            };
            let own = self.labels.as_ref().and_then(|l| l.get(k)).map(Field::span);
            problems.push(Problem::new(own.unwrap_or_else(place), why));
            return None;
        }
        Some(labels)
    }

    /// The voltages of the positions, in V.
    fn volts(
        &self,
        labels: &[String],
        rated: f64,
        principal: usize,
        neutral: &[usize],
        problems: &mut Problems,
    ) -> Option<Vec<f64>> {
        let mut volts: Vec<f64> = match (&self.voltages, &self.step) {
            (Some(all), None) if all.len() == labels.len() => {
                let read: Vec<_> = all.iter().map(|v| v.positive(problems)).collect();
                read.into_iter().map(|v| v.map(Measure::si)).collect::<Option<_>>()?
            }
            (Some(all), None) => {
                let message = format!("{} voltages for {} positions", all.len(), labels.len());
                let place = all.first().map_or_else(|| self.winding.span(), Field::span);
                problems.push(Problem::new(place, message));
                return None;
            }
            (None, Some(step)) => {
                let step = step.percentage(problems)?.value;
                let down = self.first != Some(FirstForm::Lowest);
                // Those that a change-over selector passes through are one step together.
                let place = |k: usize| {
                    let passed = neutral.iter().skip(1).filter(|n| **n <= k).count();
                    k as f64 - passed as f64
                };
                let of = |k: usize| {
                    let steps = place(principal) - place(k);
                    rated * (1.0 + if down { steps } else { -steps } * step)
                };
                (0..labels.len()).map(of).collect()
            }
            (Some(_), Some(step)) => {
                let message = "`voltages` say it all: leave `step` out";
                problems.push(Problem::new(step.span(), message));
                return None;
            }
            (None, None) => {
                let message = "nothing says which voltages the positions have";
                problems.push(
                    Problem::new(self.winding.span(), message).help("add `step`, or `voltages`"),
                );
                return None;
            }
        };
        if let Some(round) = &self.round {
            let to = round.positive(problems)?.si();
            volts.iter_mut().for_each(|v| *v = (*v / to).round() * to);
        }
        for (label, text) in self.exact.iter().flatten() {
            let value = text.positive(problems)?.si();
            match labels.iter().position(|l| l == label) {
                Some(k) => volts[k] = value,
                None => {
                    let message = format!("no position is called `{label}`");
                    problems.push(Problem::new(text.span(), message));
                }
            }
        }
        self.in_order(labels, &volts, neutral, problems)?;
        Some(volts)
    }

    /// Voltages rise or fall from one position to the next, but for those with the same one.
    fn in_order(
        &self,
        labels: &[String],
        volts: &[f64],
        neutral: &[usize],
        problems: &mut Problems,
    ) -> Option<()> {
        let falls = volts.last()? < volts.first()?;
        let place = |k: usize| {
            let listed = self.voltages.as_ref().and_then(|all| all.get(k)).map(Field::span);
            let exact = self.exact.as_ref().and_then(|all| all.get(&labels[k])).map(Field::span);
            let step = self.step.as_ref().map(Field::span);
            exact.or(listed).or(step).unwrap_or_else(|| self.winding.span())
        };
        for k in 1..volts.len() {
            let (before, now) = (volts[k - 1], volts[k]);
            let are_same = neutral.contains(&(k - 1)) && neutral.contains(&k);
            let fits = match are_same {
                true => now == before,
                false if falls => now < before,
                false => now > before,
            };
            if !fits || now <= 0.0 {
                let (a, b) = (&labels[k - 1], &labels[k]);
                let of = |si| super::volts(si).exact();
                let why = match are_same {
                    true => format!(
                        "{a} and {b} stand in `neutral`, and {} is not {}",
                        of(now),
                        of(before)
                    ),
                    false => format!(
                        "{b} with {} follows {a} with {}: voltages {} from position to position",
                        of(now),
                        of(before),
                        if falls { "fall" } else { "rise" }
                    ),
                };
                let help = "positions with the same voltage stand in `neutral = [\"9A\", \"9B\"]`";
                problems.push(Problem::new(place(k), why).help(help));
                return None;
            }
        }
        Some(())
    }
}

/// An apparent power: what is written in watts is another quantity.
fn apparent(
    text: &AnyQuantityText,
    problems: &mut Problems,
) -> Option<waltron_core::quantity::Quantity> {
    let power = text.positive_of(Dimension::POWER, problems)?;
    let written = text.text().trim();
    if written.ends_with('W') {
        let message = format!("`{written}` is active power; a transformer is rated in VA");
        let va = format!("{}VA", written.trim_end_matches('W'));
        problems.push(Problem::new(text.span(), message).help(format!("write `{va}`")));
        return None;
    }
    Some(power)
}
