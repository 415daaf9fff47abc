//! What windings are made of, and what that does to their resistance.

use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::grading::Value;
use waltron_core::quantity::{Dimension, Quantity, significant};
use waltron_core::text::document::{AnyQuantityText, Field, Problem, Problems};
use waltron_core::uncertainty::Cause;

/// The coldest and the warmest that a winding is tested, in K: −50 °C to 150 °C.
pub(crate) const TEMPERATURES_K: [f64; 2] = [223.15, 423.15];

/// A temperature in K as a file gives it, where a winding may have it.
pub(crate) fn temperature(field: &AnyQuantityText, problems: &mut Problems) -> Option<f64> {
    let kelvin = field.positive_of(Dimension::TEMPERATURE, problems)?.si;
    let [coldest, warmest] = TEMPERATURES_K;
    if (coldest..=warmest).contains(&kelvin) {
        return Some(kelvin);
    }
    let message = format!(
        "`{}` is no temperature of a winding: from {} to {}",
        field.text(),
        celsius(coldest),
        celsius(warmest)
    );
    problems.push(Problem::new(field.span(), message).help("write it like `20 degC`"));
    None
}

/// What a temperature that somebody reads is uncertain by (k = 2) where nobody says, in K.
const USUAL_K: f64 = 1.0;

/// The most that a temperature may be uncertain by, in K: more is no temperature.
const MOST_K: f64 = 20.0;

/// What a temperature is uncertain by (k = 2), in K.
pub(crate) fn temperature_uncertainty(
    field: Option<&AnyQuantityText>,
    problems: &mut Problems,
) -> Option<f64> {
    let Some(field) = field else { return Some(USUAL_K) };
    let kelvin = field.of(Dimension::TEMPERATURE, problems)?.si;
    if (0.0..=MOST_K).contains(&kelvin) {
        return Some(kelvin);
    }
    let message = format!(
        "`{}` is no uncertainty of a temperature: from 0 K to {} K",
        field.text(),
        significant(MOST_K, 3)
    );
    problems.push(Problem::new(field.span(), message).help("write it like `1 K`"));
    None
}

/// The error of the temperature that a test is told.
pub(crate) fn of_temperature(uncertainty_k: f64) -> Cause {
    let dimension = Dimension::TEMPERATURE;
    Cause::expanded("temperature", Value::Plain(Quantity { si: uncertainty_k, dimension }))
}

/// What a winding is made of.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Material {
    /// Copper.
    #[default]
    Copper,
    /// Aluminium.
    Aluminium,
}

impl Material {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Copper => "copper",
            Self::Aluminium => "aluminium",
        }
    }

    /// The temperature below 0 °C at which its resistance would vanish, in K (IEC 60076-1, 11.2: 235 of
    /// copper, 225 of aluminium; IEEE C57.13 takes 234.5 of copper).
    fn vanishes(self, by_ieee: bool) -> f64 {
        match self {
            Self::Copper if by_ieee => 234.5,
            Self::Copper => 235.0,
            Self::Aluminium => 225.0,
        }
    }

    /// By how much that changes for each kelvin that the first of them is higher, in 1/K.
    pub fn slope(self, by_ieee: bool, from_k: f64, to_k: f64) -> f64 {
        -self.factor(by_ieee, from_k, to_k) / (self.vanishes(by_ieee) + from_k - 273.15)
    }

    /// By how much a resistance at one temperature is larger at another, both in K.
    pub fn factor(self, by_ieee: bool, from_k: f64, to_k: f64) -> f64 {
        let above = |kelvin: f64| self.vanishes(by_ieee) + kelvin - 273.15;
        above(to_k) / above(from_k)
    }
}

/// A temperature in K as people say it: `23 °C`.
pub(crate) fn celsius(kelvin: f64) -> String {
    format!("{} °C", significant(kelvin - 273.15, 4))
}
