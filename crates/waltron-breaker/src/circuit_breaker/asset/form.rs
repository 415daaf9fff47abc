//! The asset file of a circuit breaker.

use super::limits::LimitsForm;
use super::{Auxiliary, CircuitBreaker, Coil, Counts, Motor, Transducer};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use waltron_core::asset::{Asset, IdentityForm, Own, Rating, Ratings, Withstand};
use waltron_core::quantity::{Angle, Current, Dimension, Frequency, Measure, Voltage};
use waltron_core::text::document::{
    AnyQuantityText, DocumentError, Field, Form, Number, Problem, Problems, QuantityText, Source,
    Text, load, optional,
};

/// A circuit breaker of medium or high voltage with its nameplate and limits.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CircuitBreakerForm {
    /// What it is and where it stands.
    asset: IdentityForm<KindForm>,
    /// What is written at its terminals, by what the rig connects to: `"trip 1 command" = "X1: 5, 6"`.
    terminals: Option<BTreeMap<String, String>>,
    /// What it is made for.
    ratings: RatingsForm,
    /// Poles, drive, and what must be seen to.
    breaker: BreakerForm,
    /// Its coils.
    coil: Vec<CoilForm>,
    /// Its auxiliary contacts.
    auxiliary: Option<Vec<AuxiliaryForm>>,
    /// The motor that charges its spring.
    motor: Option<MotorForm>,
    /// What shows the movement of its shaft.
    transducer: Option<TransducerForm>,
    /// What measured values are held against.
    limits: Option<LimitsForm>,
}

impl Form for CircuitBreakerForm {
    const KIND: &'static str = "asset";
}

/// Kinds of breaker.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum KindForm {
    /// A circuit breaker of medium or high voltage.
    CircuitBreaker,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct RatingsForm {
    /// Rated voltage.
    voltage: QuantityText<Voltage>,
    /// Rated continuous current.
    current: QuantityText<Current>,
    /// Rated frequency.
    frequency: QuantityText<Frequency>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct BreakerForm {
    /// Its poles, as their contacts are called; `["L1", "L2", "L3"]` if not given.
    poles: Option<Vec<Text>>,
    /// Interrupting units of a pole in series, called `L1/1`, `L1/2`; 1 if not given.
    units: Option<Number>,
    /// `ganged` (default), or `single-pole`: each pole with a drive of its own.
    drive: Option<DriveForm>,
    /// Its mechanism, in words: `spring`.
    mechanism: Option<String>,
    /// When it was made.
    year: Option<Number>,
    /// Which side stays earthed while it is tested, in words: `cable side`.
    earthed: Option<String>,
    /// Whether it has an under-voltage release: bypassed before, put back afterwards.
    under_voltage_release: Option<bool>,
    /// Whether it has a blocking coil: bypassed before, put back afterwards.
    blocking_coil: Option<bool>,
    /// What its counter counts, where it has one: `closings`, `openings`.
    counter: Option<Counts>,
}

/// How poles are driven.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum DriveForm {
    /// All by one.
    Ganged,
    /// Each by its own.
    SinglePole,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct CoilForm {
    /// Its name: `close`, `trip 1`.
    id: Text,
    /// What it does.
    does: DoesForm,
    /// Rated voltage; of an alternating one the RMS value.
    voltage: QuantityText<Voltage>,
    /// Whether that is direct or alternating; `dc` if not given.
    kind: Option<FedForm>,
    /// Its resistance, where the maker gives it.
    resistance: Option<AnyQuantityText>,
}

/// What feeds a coil.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum FedForm {
    /// A direct voltage.
    Dc,
    /// An alternating one, of the rated frequency.
    Ac,
}

/// What a coil does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum DoesForm {
    /// It closes the breaker.
    Close,
    /// It trips it.
    Trip,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct AuxiliaryForm {
    /// Its name: `52a`.
    id: Text,
    /// Whether it is closed when the breaker is; else when it is open.
    follows: bool,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct MotorForm {
    /// Its voltage.
    voltage: QuantityText<Voltage>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct TransducerForm {
    /// What the shaft turns over the whole stroke.
    stroke: QuantityText<Angle>,
    /// What the transducer shows over the whole stroke.
    shows: QuantityText<Voltage>,
}

/// The share of its rated voltage that a coil withstands (IEC 62271-1, 5.8).
const MOST_CONTROL: f64 = 1.1;

impl CircuitBreakerForm {
    /// Reads the asset file of a circuit breaker.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source) -> Result<Asset, DocumentError> {
        load(source, Self::read)
    }

    fn read(self, problems: &mut Problems) -> Option<Asset> {
        let (_, identity) = self.asset.read();
        let voltage = self.ratings.voltage.positive(problems);
        let current = self.ratings.current.positive(problems);
        let frequency = self.ratings.frequency.positive(problems);
        let b = &self.breaker;
        let poles = poles(b.poles.as_deref(), problems);
        let units = match &b.units {
            None => Some(1),
            Some(units) => match units.positive(problems) {
                Some(n) if n.fract() == 0.0 && n <= 8.0 => Some(n as usize),
                Some(_) => {
                    let message = "a pole has a whole number of interrupting units, up to 8";
                    problems.push(Problem::new(units.span(), message));
                    None
                }
                None => None,
            },
        };
        let year = optional(b.year.as_ref().map(|y| y.positive(problems)));
        let coils: Vec<Option<Coil>> = self.coil.iter().map(|c| c.read(problems)).collect();
        let motor = match &self.motor {
            Some(motor) => {
                motor.voltage.positive(problems).map(|v| Some(Motor { voltage_v: v.si() }))
            }
            None => Some(None),
        };
        let transducer = match &self.transducer {
            Some(t) => {
                let (stroke, shows) = (t.stroke.positive(problems), t.shows.positive(problems));
                stroke
                    .zip(shows)
                    .map(|(s, v)| Some(Transducer { stroke_rad: s.si(), shows_v: v.si() }))
            }
            None => Some(None),
        };
        let mut auxiliaries: Vec<Auxiliary> = Vec::new();
        for form in self.auxiliary.iter().flatten() {
            let name = form.id.as_str();
            if auxiliaries.iter().any(|a| a.name == *name) {
                problems.push(Problem::new(
                    form.id.span(),
                    format!("two contacts are called `{name}`"),
                ));
            }
            auxiliaries.push(Auxiliary { name: name.into(), follows: form.follows });
        }
        let (poles, units, frequency) = (poles?, units?, frequency?);
        let limits = self.limits.unwrap_or_default();
        let limits = limits.read(frequency, poles.len(), units, problems);
        let coils: Vec<Coil> = coils.into_iter().collect::<Option<_>>()?;
        for (k, coil) in coils.iter().enumerate() {
            if coils[..k].iter().any(|c| c.name == coil.name) {
                let message = format!("two coils are called `{}`", coil.name);
                problems.push(Problem::new(self.coil[k].id.span(), message));
            }
        }
        let lowest = coils.iter().map(|c| c.voltage_v).fold(f64::INFINITY, f64::min);
        let own = CircuitBreaker {
            poles,
            units,
            is_single_pole: b.drive == Some(DriveForm::SinglePole),
            mechanism: b.mechanism.clone(),
            year: year?.map(|y| y as u32),
            earthed: b.earthed.clone(),
            has_release: b.under_voltage_release.unwrap_or(false),
            has_blocking: b.blocking_coil.unwrap_or(false),
            counter: b.counter,
            coils,
            auxiliaries,
            motor: motor?,
            transducer: transducer?,
            limits: limits?,
            rated_v: voltage?.si(),
            rated_a: current?.si(),
        };
        let mut ratings = Ratings::unknown(Some(frequency));
        let forever = |value: f64| Rating { value: Voltage::from_si(value), duration: None };
        // Coils of several voltages hang on one control voltage: the lowest limits it.
        ratings
            .own_voltages
            .push(("control voltage".into(), Withstand::new(vec![forever(MOST_CONTROL * lowest)])));
        ratings.own_currents.push((
            "pole current".into(),
            Withstand::new(vec![Rating { value: Current::from_si(own.rated_a), duration: None }]),
        ));
        let terminals = self.terminals.unwrap_or_default().into_iter();
        Some(Asset {
            kind: "circuit-breaker",
            identity,
            ratings,
            elements: Vec::new(),
            assumed: Vec::new(),
            terminals: terminals.map(|(key, at)| (key.as_str().into(), at)).collect(),
            own: Own::new(own),
        })
    }
}

fn poles(given: Option<&[Text]>, problems: &mut Problems) -> Option<Vec<String>> {
    let Some(given) = given else { return Some(["L1", "L2", "L3"].map(str::to_owned).to_vec()) };
    let mut all: Vec<String> = Vec::new();
    for text in given {
        let name = text.as_str();
        let why = match name {
            "" => Some("a pole needs a name".to_owned()),
            name if name.contains('/') => Some(format!("`{name}` is no name for a pole")),
            name if all.iter().any(|p| p == name) => Some(format!("two poles are called `{name}`")),
            _ => None,
        };
        if let Some(why) = why {
            problems.push(Problem::new(text.span(), why));
            return None;
        }
        all.push(name.to_owned());
    }
    if all.is_empty() {
        problems.push(Problem::new(0..0, "a breaker has at least one pole"));
        return None;
    }
    Some(all)
}

impl CoilForm {
    fn read(&self, problems: &mut Problems) -> Option<Coil> {
        let voltage = self.voltage.positive(problems);
        let ohm = match &self.resistance {
            Some(field) => Some(field.positive_of(Dimension::RESISTANCE, problems)?.si),
            None => None,
        };
        Some(Coil {
            name: self.id.as_str().to_owned(),
            closes: self.does == DoesForm::Close,
            is_ac: self.kind == Some(FedForm::Ac),
            voltage_v: voltage?.si(),
            ohm,
        })
    }
}
