//! Temperature corrections of tan δ by table, and what values at the reference temperature say: open data.

use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::quantity::{Dimension, Quantity, Ratio};
use waltron_core::text::document::{
    AnyQuantityText, DocumentError, Field, Form, Problem, Problems, QuantityText, Source, Text,
    file_named, load, load_beside, optional,
};

/// How files of this kind end.
const FILE: &str = ".correction.toml";

/// A temperature correction.
#[derive(Clone, Debug, PartialEq)]
pub struct Correction {
    /// What it is called.
    pub name: String,
    /// Where it comes from.
    pub note: Option<String>,
    /// The temperature that it corrects to, in K.
    pub reference_k: f64,
    /// Its tables.
    pub classes: Vec<Class>,
    /// What a value there says, the best first.
    pub conditions: Vec<Condition>,
}

/// A table for insulation of a kind.
#[derive(Clone, Debug, PartialEq)]
pub struct Class {
    /// What it is called.
    pub id: String,
    /// Temperatures in K, rising, with what a value there is multiplied by.
    pub factors: Vec<(f64, f64)>,
}

/// What tan δ up to a value says.
#[derive(Clone, Debug, PartialEq)]
pub struct Condition {
    /// In words.
    pub word: String,
    /// Up to there; whatever is above if not given.
    pub up_to: Option<f64>,
    /// Whether it fails.
    pub fails: bool,
}

impl Class {
    /// What tan δ at a temperature in K is multiplied by, between two of the table by their logarithms.
    ///
    /// # Errors
    /// From where to where the table goes, in K.
    pub fn factor(&self, kelvin: f64) -> Result<f64, (f64, f64)> {
        let ends = match (self.factors.first(), self.factors.last()) {
            (Some(first), Some(last)) => (first.0, last.0),
            _ => (f64::NAN, f64::NAN),
        };
        let inside = |pair: &&[(f64, f64)]| (pair[0].0..=pair[1].0).contains(&kelvin);
        let pair = self.factors.windows(2).find(inside).ok_or(ends)?;
        let share = (kelvin - pair[0].0) / (pair[1].0 - pair[0].0);
        Ok((pair[0].1.ln() * (1.0 - share) + pair[1].1.ln() * share).exp())
    }
}

impl Class {
    /// By how much of itself the factor moves with a kelvin, in 1/K; 0 outside the table.
    pub fn per_kelvin(&self, kelvin: f64) -> f64 {
        let inside = |pair: &&[(f64, f64)]| (pair[0].0..=pair[1].0).contains(&kelvin);
        let slope = |pair: &[(f64, f64)]| (pair[1].1 / pair[0].1).ln() / (pair[1].0 - pair[0].0);
        self.factors.windows(2).find(inside).map_or(0.0, slope)
    }
}

impl Correction {
    /// A table by its name; the first one where none is named.
    pub fn class(&self, id: Option<&str>) -> Option<&Class> {
        match id {
            Some(id) => self.classes.iter().find(|class| class.id == id),
            None => self.classes.first(),
        }
    }

    /// What a value at the reference temperature says.
    pub fn condition(&self, tan_delta: f64) -> Option<&Condition> {
        self.conditions.iter().find(|c| c.up_to.is_none_or(|most| tan_delta <= most))
    }

    /// The largest value that does not fail, where one does.
    pub fn most(&self) -> Option<f64> {
        let at = self.conditions.iter().position(|c| c.fails)?;
        self.conditions[..at].last()?.up_to
    }
}

/// A temperature correction of tan δ.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CorrectionForm {
    /// What it is.
    correction: HeadForm,
    /// Its tables.
    class: Vec<ClassForm>,
    /// What tan δ at the reference temperature says, from the best to the worst.
    condition: Option<Vec<ConditionForm>>,
}

impl Form for CorrectionForm {
    const KIND: &'static str = "correction";
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct HeadForm {
    /// What it is called.
    name: String,
    /// Where it comes from: sheet, edition, day.
    note: Option<String>,
    /// The temperature that it corrects to; `20 degC` if not given.
    reference: Option<AnyQuantityText>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ClassForm {
    /// What it is called.
    id: Text,
    /// Rising temperatures, each with what tan δ there is multiplied by: `["30 degC", "0.77 x"]`.
    factors: Vec<Vec<Text>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ConditionForm {
    /// What it says, in words.
    word: Text,
    /// Up to which value; the last one may have none.
    up_to: Option<QuantityText<Ratio>>,
    /// Whether insulation like that fails; false if not given.
    fails: Option<bool>,
}

const SHIPPED: [(&str, &str); 1] =
    [("oil-paper", include_str!("../../../corrections/oil-paper.correction.toml"))];

/// The names of the corrections that come with the program.
pub fn shipped_names() -> Vec<&'static str> {
    SHIPPED.iter().map(|(name, _)| *name).collect()
}

/// A correction that comes with the program.
pub fn shipped(name: &str) -> Option<Correction> {
    let (name, text) = SHIPPED.iter().find(|(n, _)| *n == name)?;
    CorrectionForm::load(&Source::new(*name, *text)).ok()
}

impl CorrectionForm {
    /// Reads a file of corrections.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source) -> Result<Correction, DocumentError> {
        load(source, |form: Self, problems| form.read(problems))
    }

    fn read(self, problems: &mut Problems) -> Option<Correction> {
        let reference_k = match &self.correction.reference {
            Some(text) => text.positive_of(Dimension::TEMPERATURE, problems)?.si,
            None => 293.15,
        };
        let mut classes: Vec<Class> = Vec::new();
        for form in &self.class {
            let class = form.read(reference_k, problems)?;
            if classes.iter().any(|c| c.id == class.id) {
                let message = format!("two classes are called `{}`", class.id);
                problems.push(Problem::new(form.id.span(), message));
            }
            classes.push(class);
        }
        if classes.is_empty() {
            problems.push(Problem::new(0..0, "a correction has one `[[class]]` at least"));
        }
        let mut conditions: Vec<Condition> = Vec::new();
        for form in self.condition.iter().flatten() {
            let up_to = optional(form.up_to.as_ref().map(|t| t.positive(problems)))?;
            let up_to = up_to.map(|ratio| ratio.value);
            let fails = form.fails.unwrap_or(false);
            let before = conditions.last();
            let rises = match (before.map(|c| c.up_to), up_to) {
                (None, _) | (Some(Some(_)), None) => true,
                (Some(Some(low)), Some(high)) => low < high,
                (Some(None), _) => false,
            };
            if !rises || before.is_some_and(|c| c.fails && !fails) {
                let message = "conditions go from the best to the worst, each up to a higher value";
                problems.push(Problem::new(form.word.span(), message));
                return None;
            }
            conditions.push(Condition { word: form.word.as_str().to_owned(), up_to, fails });
        }
        let HeadForm { name, note, .. } = self.correction;
        Some(Correction { name, note, reference_k, classes, conditions })
    }
}

impl ClassForm {
    fn read(&self, reference_k: f64, problems: &mut Problems) -> Option<Class> {
        let mut factors: Vec<(f64, f64)> = Vec::new();
        for pair in &self.factors {
            let wanted = "a temperature and a factor: `[\"30 degC\", \"0.77 x\"]`";
            let place = || pair.first().map_or_else(|| self.id.span(), Field::span);
            let [at, factor] = pair.as_slice() else {
                problems.push(Problem::new(place(), format!("a row is {wanted}")));
                return None;
            };
            let kelvin = positive(at.as_str(), Dimension::TEMPERATURE);
            let times = positive(factor.as_str(), Dimension::NUMBER);
            let (Some(kelvin), Some(times)) = (kelvin, times) else {
                problems.push(Problem::new(place(), format!("a row is {wanted}")));
                return None;
            };
            if factors.last().is_some_and(|(before, _)| *before >= kelvin) {
                problems.push(Problem::new(place(), "temperatures rise from row to row"));
                return None;
            }
            factors.push((kelvin, times));
        }
        let class = Class { id: self.id.as_str().to_owned(), factors };
        match class.factor(reference_k) {
            Ok(one) if (one - 1.0).abs() < 1e-6 => Some(class),
            _ => {
                let message = format!(
                    "the factor at the reference temperature, {}, is 1",
                    crate::material::celsius(reference_k)
                );
                problems.push(Problem::new(self.id.span(), message));
                None
            }
        }
    }
}

fn positive(text: &str, dimension: Dimension) -> Option<f64> {
    let parsed = Quantity::parse(text).ok()?;
    (parsed.dimension == dimension && parsed.si > 0.0).then_some(parsed.si)
}

/// A correction by name or from a file beside the asset's.
pub(crate) fn find(text: &Text, source: &Source, problems: &mut Problems) -> Option<Correction> {
    let name = text.as_str();
    if name.ends_with(FILE) {
        return load_beside(text, source, CorrectionForm::load, problems);
    }
    let found = shipped(name);
    if found.is_none() {
        let near = waltron_core::text::name::nearest(name, shipped_names());
        let list = || {
            let names = shipped_names().join(", ");
            format!("use one of {names}, or a file of your own that ends with `{FILE}`")
        };
        let message = format!("no correction is called `{name}`");
        problems.push(Problem::new(text.span(), message).did_you_mean(near, list));
    }
    found
}

/// The file of a correction that an asset's names.
pub(crate) fn file_of(source: &Source) -> Option<String> {
    file_named(source, ["insulation", "correction"], FILE)
}
