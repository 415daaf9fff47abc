//! The true protection elements of a specimen's file.

use super::{TrueElement, TrueMeasure};
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::characteristic::CurveForm;
use waltron_core::quantity::measures::Measures;
use waltron_core::quantity::{Angle, Dimension, Measure, Ratio, Voltage};
use waltron_core::text::document::{AnyQuantityText, Field, Problem, Problems, QuantityText, Text};
use waltron_core::text::name::Name;

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ElementForm {
    /// Its id, for the reader of the file.
    id: Text,
    /// What it measures.
    measures: TrueMeasureForm,
    /// The harmonic's order (harmonic).
    order: Option<u32>,
    /// The angle that it takes for forward (directional).
    angle: Option<QuantityText<Angle>>,
    /// Voltage below which it is blocked (undervoltage); never if not given.
    blocking_voltage: Option<QuantityText<Voltage>>,
    /// Where it truly picks up.
    pickup: AnyQuantityText,
    /// Where it truly drops out, as a share of pickup; 95 % if not given, 99.9 % for frequency.
    reset_ratio: Option<QuantityText<Ratio>>,
    /// How it truly times.
    curve: CurveForm,
    /// The contact it trips; `trip` if not given.
    trip: Option<String>,
    /// The contact it closes on pickup; `start` if not given.
    start: Option<String>,
    /// The binary input that blocks it while it is on; none if not given.
    blocked_by: Option<String>,
    /// Whether it works at all; true if not given.
    enabled: Option<bool>,
}

/// What an element truly measures.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum TrueMeasureForm {
    /// The largest phase current.
    Phase,
    /// Ia + Ib + Ic.
    Residual,
    /// I2.
    NegativeSequence,
    /// I1.
    PositiveSequence,
    /// The largest phase current in the forward direction.
    Directional,
    /// The largest phase voltage.
    Overvoltage,
    /// The smallest phase voltage.
    Undervoltage,
    /// Frequency above the setting.
    Overfrequency,
    /// Frequency below the setting.
    Underfrequency,
    /// Rate of change of frequency.
    FrequencyRate,
    /// Share of a harmonic in a phase current.
    Harmonic,
}

/// All of them, each once.
pub(crate) fn elements(forms: Vec<ElementForm>, problems: &mut Problems) -> Vec<TrueElement> {
    let mut elements: Vec<TrueElement> = Vec::new();
    for form in forms {
        if elements.iter().any(|e| e.id == form.id.as_str()) {
            let message = format!("element `{}` is there twice", form.id.as_str());
            problems.push(Problem::new(form.id.span(), message));
        }
        elements.extend(form.read(problems));
    }
    elements
}

impl TrueMeasureForm {
    fn dimension(self) -> Dimension {
        match self {
            Self::Overvoltage | Self::Undervoltage => Dimension::VOLTAGE,
            Self::Overfrequency | Self::Underfrequency => Dimension::FREQUENCY,
            Self::FrequencyRate => Dimension::FREQUENCY_RATE,
            Self::Harmonic => Dimension::NUMBER,
            _ => Dimension::CURRENT,
        }
    }
}

impl ElementForm {
    fn true_measure(&self, problems: &mut Problems) -> Option<TrueMeasure> {
        use TrueMeasureForm as F;
        if let Some(voltage) =
            self.blocking_voltage.as_ref().filter(|_| self.measures != F::Undervoltage)
        {
            let message = "`blocking_voltage` belongs to undervoltage elements";
            problems.push(Problem::new(voltage.span(), message));
        }
        Some(match self.measures {
            F::Phase => TrueMeasure::Current(Measures::Phase),
            F::Residual => TrueMeasure::Current(Measures::Residual),
            F::NegativeSequence => TrueMeasure::Current(Measures::NegativeSequence),
            F::PositiveSequence => TrueMeasure::Current(Measures::PositiveSequence),
            F::Directional => {
                let angle =
                    self.angle.as_ref().map_or(Some(0.0), |a| a.read(problems).map(|a| a.si()));
                TrueMeasure::Directional(angle?)
            }
            F::Overvoltage => TrueMeasure::Overvoltage,
            F::Undervoltage => {
                let blocking = self.blocking_voltage.as_ref();
                let volts = blocking.map_or(Some(0.0), |v| v.positive(problems).map(|v| v.si()));
                TrueMeasure::Undervoltage(volts?)
            }
            F::Overfrequency => TrueMeasure::Overfrequency,
            F::Underfrequency => TrueMeasure::Underfrequency,
            F::FrequencyRate => TrueMeasure::FrequencyRate,
            F::Harmonic => match self.order {
                Some(order) if order >= 2 => TrueMeasure::Harmonic(order),
                _ => {
                    let message = "a harmonic needs its `order`, at least 2";
                    problems.push(Problem::new(self.id.span(), message));
                    return None;
                }
            },
        })
    }

    fn read(self, problems: &mut Problems) -> Option<TrueElement> {
        let pickup = self.pickup.positive_of(self.measures.dimension(), problems);
        let usual = if self.measures.dimension() == Dimension::FREQUENCY { 0.999 } else { 0.95 };
        let measures = self.true_measure(problems);
        let is_under = matches!(
            self.measures,
            TrueMeasureForm::Undervoltage | TrueMeasureForm::Underfrequency
        );
        let reset_ratio = self.reset_ratio.map_or(Some(usual), |f| {
            let ratio = f.positive(problems)?.value;
            let (message, example) = match is_under {
                true if ratio < 1.0 => ("this function resets above its setting", "103 %"),
                false if ratio > 1.0 => ("the reset ratio must not exceed 100 %", "95 %"),
                // What it compares is the setting over the value.
                true => return Some(1.0 / ratio),
                false => return Some(ratio),
            };
            let problem = Problem::new(f.span(), message);
            problems
                .push(problem.help(format!("write a share of the setting, such as `{example}`")));
            None
        });
        let characteristic = self.curve.read(problems);
        Some(TrueElement {
            id: Name::from(self.id.as_str()),
            measures: measures?,
            pickup: pickup?.si,
            reset_ratio: reset_ratio?,
            characteristic: characteristic?,
            trip: self.trip.as_deref().unwrap_or("trip").into(),
            start: self.start.as_deref().unwrap_or("start").into(),
            blocked_by: self.blocked_by.as_deref().map(Name::from),
            enabled: self.enabled.unwrap_or(true),
        })
    }
}
