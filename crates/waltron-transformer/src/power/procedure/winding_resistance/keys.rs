//! What a plan says of a resistance test.

use crate::power::asset::PowerTransformer;
use crate::power::asset::Winding;
use crate::power::procedure;
use crate::power::procedure::positions::{self, Positions};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::procedure::{FamilyKeys, Method, TestHead};
use waltron_core::quantity::{
    Current, Dimension, Measure, Quantity, Ratio, Time, seconds, significant, text,
};
use waltron_core::text::document::{
    AnyQuantityText, Field, Problem, Problems, QuantityText, Spannable, Text,
};
use waltron_core::text::name::Name;

/// A direct current through each phase until nothing is left to come, at every position of the tap changer;
/// then discharged, and that is waited for.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WindingResistanceKeys {
    /// The number of the winding; 1, the high-voltage one, if not given.
    winding: Option<Spannable<u8>>,
    /// The current; a tenth of the rated one, or what winding and rig allow, if not given.
    current: Option<QuantityText<Current>>,
    /// The winding's temperature, such as `16 degC`.
    temperature: AnyQuantityText,
    /// What that is uncertain by (k = 2), such as `0.5 K`; 1 K if not given.
    temperature_uncertainty: Option<AnyQuantityText>,
    /// Positions of the tap changer, by label, or `5..9` for a range; all if not given.
    positions: Option<Vec<Text>>,
    /// The number of another winding in the same circuit, one after the other, read once in each phase: two windings
    /// on a limb saturate it sooner, and both are measured at once.
    with: Option<Spannable<u8>>,
    /// The band in which the readings must stay, as a share; `0.1 %` if not given.
    steady: Option<QuantityText<Ratio>>,
    /// How many of the readings' digits must stay the same, in place of `steady`: 2 to 6.
    steady_digits: Option<Spannable<u32>>,
    /// For how long; 10 s if not given.
    steady_for: Option<QuantityText<Time>>,
    /// The most that may be left to come then, by slope and time constant, as a share; `0.2 %` if not given.
    left: Option<QuantityText<Ratio>>,
    /// The longest that is waited at a position; 10 min if not given.
    at_most: Option<QuantityText<Time>>,
    /// Whether somebody confirms the first reading before it goes on by itself; false if not given.
    confirm_first: Option<bool>,
    /// Whether an on-load tap changer is moved under current, and watched; true if not given.
    under_current: Option<bool>,
}

/// A resistance test with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct WindingResistanceTest {
    pub(super) test: Name,
    pub(super) winding: u8,
    pub(super) with: Option<u8>,
    pub(super) current: Option<Current>,
    pub(super) temperature_k: f64,
    pub(super) temperature_u_k: f64,
    pub(super) positions: Positions,
    pub(super) steady: f64,
    pub(super) steady_for: Time,
    pub(super) left: f64,
    pub(super) at_most: Time,
    pub(super) confirms: bool,
    pub(super) under_current: bool,
    /// Why the current is as it is.
    pub(super) advice: Option<String>,
}

/// The share of its rated current below which a winding's core is hardly saturated.
const LEAST_SHARE: f64 = 0.01;

/// The share of its rated current above which a winding warms while it is measured.
const MOST_SHARE: f64 = 0.15;

fn amps(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::CURRENT }
}

impl FamilyKeys for WindingResistanceKeys {
    type Family = PowerTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &PowerTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let number = procedure::winding(of, self.winding.as_ref(), 1, &head, problems)?;
        let winding = of.winding(number)?;
        let current = self.current(winding, problems)?;
        let positions =
            positions::read(of, self.positions.as_deref(), None, false, &[number], problems);
        let temperature_k = crate::material::temperature(&self.temperature, problems);
        let temperature_u_k = crate::material::temperature_uncertainty(
            self.temperature_uncertainty.as_ref(),
            problems,
        );
        let share = |field: &Option<QuantityText<Ratio>>, usual, problems: &mut Problems| {
            field.as_ref().map_or(Some(usual), |f| f.percentage(problems).map(|r| r.value))
        };
        let time = |field: &Option<QuantityText<Time>>, usual, problems: &mut Problems| {
            field.as_ref().map_or(Some(seconds(usual)), |t| t.positive(problems))
        };
        let (steady, left) =
            (share(&self.steady, 1e-3, problems), share(&self.left, 2e-3, problems));
        let steady = match &self.steady_digits {
            None => steady,
            Some(digits) => {
                let message = match (self.steady.is_some(), *digits.get()) {
                    (true, _) => "either `steady` or `steady_digits`, not both",
                    (_, 2..=6) => "",
                    _ => "2 to 6 digits can stay the same",
                };
                if !message.is_empty() {
                    problems.push(Problem::new(digits.span(), message));
                    return None;
                }
                // Whatever the first digit is: no more than one of the last.
                Some(10f64.powi(-(*digits.get() as i32)))
            }
        };
        let with = match &self.with {
            None => None,
            Some(field) => {
                let other = procedure::winding(of, Some(field), 2, &head, problems)?;
                if other == number {
                    let message = "another winding is wanted: this one is measured already";
                    problems.push(Problem::new(field.span(), message));
                    return None;
                }
                Some(other)
            }
        };
        if let (Some(other), Some(current)) = (with.and_then(|n| of.winding(n)), current)
            && current.si() > other.most_a() * (1.0 + 1e-9)
        {
            let place = self.current.as_ref().map_or_else(|| head.id.span(), Field::span);
            let message = format!(
                "at most {} may flow through winding {}, which is in the same circuit",
                amps(other.most_a()),
                other.number
            );
            problems.push(Problem::new(place, message));
            return None;
        }
        let steady_for = time(&self.steady_for, 10.0, problems)?;
        let at_most = time(&self.at_most, 600.0, problems)?;
        if steady_for >= at_most {
            let place = self.steady_for.as_ref().map_or_else(|| head.id.span(), Field::span);
            let message = format!(
                "steady for {} cannot come true within {}",
                text(steady_for),
                text(at_most)
            );
            problems.push(Problem::new(place, message));
            return None;
        }
        Some(Arc::new(WindingResistanceTest {
            test: head.name(),
            winding: number,
            with,
            current,
            temperature_k: temperature_k?,
            temperature_u_k: temperature_u_k?,
            positions: positions?,
            steady: steady?,
            steady_for,
            left: left?,
            at_most,
            confirms: self.confirm_first.unwrap_or(false),
            under_current: self.under_current.unwrap_or(true),
            advice: Some(advice(winding, current)),
        }))
    }
}

/// Why a current is as it is, for whoever stands at the winding.
fn advice(winding: &Winding, current: Option<Current>) -> String {
    let rated = winding.current_a();
    let chosen = current.map_or("the current".to_owned(), text);
    let mut line = format!(
        "Winding {}: {chosen} at most {} % of the rated {} ({}), so that it does not warm; above about {}, so that the core saturates and it settles sooner",
        winding.number,
        significant(MOST_SHARE * 100.0, 2),
        amps(rated),
        amps(MOST_SHARE * rated),
        amps(LEAST_SHARE * rated),
    );
    if let Some(current) = current.filter(|c| c.si() < LEAST_SHARE * rated) {
        line = format!("{line}: {} is less, and may take very long", text(current));
    }
    line
}

impl WindingResistanceKeys {
    fn current(&self, winding: &Winding, problems: &mut Problems) -> Option<Option<Current>> {
        let Some(field) = &self.current else { return Some(None) };
        let current = field.positive(problems)?;
        let most = winding.most_a();
        if current.si() > most * (1.0 + 1e-9) {
            let share = significant(current.si() / winding.current_a() * 100.0, 3);
            let message = format!(
                "{} is {share} % of the rated {}: at most {} may flow through winding {}",
                text(current),
                amps(winding.current_a()),
                amps(most),
                winding.number
            );
            problems.push(Problem::new(field.span(), message));
            return None;
        }
        Some(Some(current))
    }
}
