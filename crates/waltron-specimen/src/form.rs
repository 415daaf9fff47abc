//! The specimen file.

use crate::Specimen;
use crate::relay::{Relay, TrueElement, TrueMeasure, Truth};
use crate::supply::{Supply, SupplyTruth};
use crate::transformer::{Transformer, TransformerForm};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use waltron_core::asset::readback::ReadSetting;
use waltron_core::characteristic::CurveForm;
use waltron_core::quantity::measures::Measures;
use waltron_core::quantity::{Angle, Current, Dimension, Measure, Ratio, Time, Voltage};
use waltron_core::text::document::{
    AnyQuantityText, DocumentError, Field, Form, Problem, Problems, QuantityText, Source, Text,
    load,
};
use waltron_core::text::name::Name;

/// A specimen: the truth of a simulated asset, with the defects it hides.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SpecimenForm {
    /// What it is.
    specimen: HeadForm,
    /// Scatter from injection to injection.
    noise: Option<NoiseForm>,
    /// The true protection elements (relay).
    element: Option<Vec<ElementForm>>,
    /// Settings as its own display tells them, such as `"51P.pickup" = "1.2 A"`; what it does is
    /// another matter.
    display: Option<BTreeMap<String, String>>,
    /// The true supply (supply).
    supply: Option<SupplyForm>,
    /// The true transformer (instrument-transformer).
    transformer: Option<TransformerForm>,
}

impl Form for SpecimenForm {
    const KIND: &'static str = "specimen";
}

/// Kinds of specimen.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Kind {
    /// A multi-stage protection relay.
    Relay,
    /// An auxiliary supply.
    Supply,
    /// A current or voltage transformer.
    InstrumentTransformer,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct HeadForm {
    /// The kind of specimen.
    kind: Kind,
    /// What it stands for.
    #[allow(dead_code, reason = "for the reader of the file")]
    note: Option<String>,
    /// From a change of the input to the measuring elements seeing it; none if not given.
    measuring_delay: Option<QuantityText<Time>>,
    /// From a decision to the contact; none if not given.
    contact_delay: Option<QuantityText<Time>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct NoiseForm {
    /// Standard deviation of the measured current, voltage or reading, as a share.
    current: Option<QuantityText<Ratio>>,
    /// Standard deviation of the operate time.
    time: Option<QuantityText<Time>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ElementForm {
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

/// A supply as it truly is.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct SupplyForm {
    /// Set voltage at first.
    voltage: QuantityText<Voltage>,
    /// Time constant with which it settles.
    settling: QuantityText<Time>,
    /// The load on it.
    load: AnyQuantityText,
    /// More current at switching on, decaying as it settles; none if not given.
    inrush: Option<QuantityText<Current>>,
    /// The current that it limits to; none if not given.
    limit: Option<QuantityText<Current>>,
    /// Output against set value; 100 % if not given.
    gain: Option<QuantityText<Ratio>>,
}

impl SpecimenForm {
    /// Reads a specimen file and builds the specimen.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source, seed: u64) -> Result<Box<dyn Specimen>, DocumentError> {
        load(source, |form: Self, problems| {
            form.refuse_foreign(problems);
            form.built(seed, problems)
        })
    }

    fn built(self, seed: u64, problems: &mut Problems) -> Option<Box<dyn Specimen>> {
        let form = self;
        match form.specimen.kind {
            Kind::Relay => {
                let displayed = form.display.clone().unwrap_or_default();
                let settings = displayed
                    .into_iter()
                    .map(|(name, value)| ReadSetting { name: name.as_str().into(), value });
                let settings = settings.collect();
                let relay = Relay::new(form.read(problems), seed).with_display(settings);
                Some(Box::new(relay) as Box<dyn Specimen>)
            }
            Kind::Supply => {
                let truth = form.supply(problems)?;
                Some(Box::new(Supply::new(truth, seed)) as Box<dyn Specimen>)
            }
            Kind::InstrumentTransformer => {
                let noise = form.noise.and_then(|n| n.current);
                let Some(transformer) = form.transformer else {
                    let message = "an instrument transformer needs a table `[transformer]`";
                    problems.push(Problem::new(0..0, message));
                    return None;
                };
                let truth = transformer.read(noise, problems)?;
                Some(Box::new(Transformer::new(truth, seed)) as Box<dyn Specimen>)
            }
        }
    }

    /// Tables of another kind of specimen are a mistake.
    fn refuse_foreign(&self, problems: &mut Problems) {
        let (kind, own) = match self.specimen.kind {
            Kind::Relay => ("relay", "element"),
            Kind::Supply => ("supply", "supply"),
            Kind::InstrumentTransformer => ("instrument transformer", "transformer"),
        };
        let tables = [
            ("element", "[[element]]", self.element.is_some()),
            ("display", "[display]", self.display.is_some() && own != "element"),
            ("supply", "[supply]", self.supply.is_some()),
            ("transformer", "[transformer]", self.transformer.is_some()),
        ];
        for (name, written, given) in tables {
            if given && name != own && !(name == "display" && own == "element") {
                problems.push(Problem::new(0..0, format!("a {kind} has no `{written}`")));
            }
        }
    }

    fn supply(self, problems: &mut Problems) -> Option<SupplyTruth> {
        let Some(supply) = self.supply else {
            problems.push(Problem::new(0..0, "a supply needs a table `[supply]`"));
            return None;
        };
        let noise = self.noise.and_then(|n| n.current);
        let noise = noise.map_or(Some(0.0), |f| f.not_negative(problems).map(|r| r.value));
        let voltage = supply.voltage.positive(problems);
        let settling = supply.settling.positive(problems);
        let load = supply.load.positive_of(Dimension::RESISTANCE, problems);
        let inrush = supply.inrush.map_or(Some(0.0), |f| f.not_negative(problems).map(|i| i.si()));
        let limit =
            supply.limit.map_or(Some(f64::INFINITY), |f| f.positive(problems).map(|i| i.si()));
        let gain = supply.gain.map_or(Some(1.0), |f| f.positive(problems).map(|r| r.value));
        Some(SupplyTruth {
            voltage_v: voltage?.si(),
            settling_s: settling?.si(),
            load_ohm: load?.si,
            inrush_a: inrush?,
            limit_a: limit?,
            gain: gain?,
            noise: noise?,
        })
    }

    fn read(self, problems: &mut Problems) -> Truth {
        let seconds = |field: Option<QuantityText<Time>>, problems: &mut Problems| {
            field.and_then(|f| f.not_negative(problems)).map_or(0.0, |t| t.si())
        };
        let noise = self.noise.unwrap_or(NoiseForm { current: None, time: None });
        let mut elements: Vec<TrueElement> = Vec::new();
        for form in self.element.unwrap_or_default() {
            if elements.iter().any(|e| e.id == form.id.as_str()) {
                let message = format!("element `{}` is there twice", form.id.as_str());
                problems.push(Problem::new(form.id.span(), message));
            }
            elements.extend(form.read(problems));
        }
        Truth {
            measuring_delay_s: seconds(self.specimen.measuring_delay, problems),
            contact_delay_s: seconds(self.specimen.contact_delay, problems),
            current_noise: noise
                .current
                .and_then(|f| f.not_negative(problems))
                .map_or(0.0, |r| r.value),
            time_noise_s: seconds(noise.time, problems),
            elements,
        }
    }
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
