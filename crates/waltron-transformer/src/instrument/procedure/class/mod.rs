//! Everything that a class asks, at every place, unattended: ratio and polarity, winding resistance,
//! excitation, remanence; then the verdict criterion by criterion.

mod course;
mod estimate;
mod graded;
mod stage;

pub(super) use graded::{criterion, verdict};

use super::excitation::until;
use super::excite::Resolution;
use super::places::{spots, wanted};
use super::staged::{Course, Staged, all_again, grade_again};
use super::voltage::{ABOVE, OfVoltageClass};
use crate::instrument::asset::{InstrumentTransformer, Kind, Spot, Wanted};
use crate::material::{TEMPERATURES_K, temperature};
use course::OfClass;
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{Finding, Grade};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::Wanted as Asked;
use waltron_core::procedure::{
    Answer, Bench, FamilyKeys, Method, Procedure, Question, SetupError, TestHead,
};
use waltron_core::quantity::{Current, Dimension, Quantity};
use waltron_core::text::document::{
    AnyQuantityText, Field, Number, Problem, Problems, QuantityText, Text,
};
use waltron_core::text::name::Name;

/// Every criterion of the class of every place: ratio and polarity, winding resistance, excitation and
/// remanence measured from the secondary, errors worked out from them.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ClassKeys {
    /// The windings' temperature, such as `23 degC`; asked if not given, and what depends on it is
    /// inconclusive where nobody knows.
    temperature: Option<AnyQuantityText>,
    /// What that is uncertain by (k = 2), such as `0.5 K`; 1 K if not given.
    temperature_uncertainty: Option<AnyQuantityText>,
    /// `fine` (default) or `quick`.
    resolution: Option<Resolution>,
    /// Where excitation ends: a current, a voltage, or a flux such as `0.9 V/Hz`; where the class has seen
    /// enough if not given.
    until: Option<AnyQuantityText>,
    /// Direct current for the winding's resistance; a tenth of the rated secondary current if not given.
    current: Option<QuantityText<Current>>,
    /// What is really connected to the secondary in service, in VA; assessed besides the rated burden.
    connected: Option<AnyQuantityText>,
    /// Its power factor; 1 if not given.
    connected_power_factor: Option<Number>,
    /// Of this phase only.
    phase: Option<Text>,
    /// Of this core only.
    core: Option<Text>,
    /// At this tap only.
    tap: Option<Text>,
}

/// A class test with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct ClassTest {
    pub(super) test: Name,
    kind: Kind,
    /// The largest voltage that appears at the primary, in V.
    primary_v: f64,
    temperature_k: Option<f64>,
    temperature_u_k: f64,
    pub(super) resolution: Resolution,
    until: Option<Quantity>,
    current: Option<Current>,
    /// Apparent power in VA and power factor.
    connected: Option<(f64, f64)>,
    wanted: Wanted,
}

impl FamilyKeys for ClassKeys {
    type Family = InstrumentTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &InstrumentTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let is_current = of.kind == Kind::Current;
        let only_of_current = [
            ("temperature", self.temperature.as_ref().map(Field::span)),
            ("temperature_uncertainty", self.temperature_uncertainty.as_ref().map(Field::span)),
            ("until", self.until.as_ref().map(Field::span)),
            ("current", self.current.as_ref().map(Field::span)),
            ("connected", self.connected.as_ref().map(Field::span)),
            ("connected_power_factor", self.connected_power_factor.as_ref().map(Field::span)),
        ];
        for (key, span) in only_of_current {
            if let Some(span) = span.filter(|_| !is_current) {
                let message = format!("the class of a voltage transformer asks for no `{key}`");
                problems.push(Problem::new(span, message).help("leave it out"));
                return None;
            }
        }
        let until = until(self.until.as_ref(), problems)?;
        let uncertainty = self.temperature_uncertainty.as_ref();
        let temperature_u_k = crate::material::temperature_uncertainty(uncertainty, problems)?;
        let temperature_k = match &self.temperature {
            Some(field) => Some(temperature(field, problems)?),
            None => None,
        };
        let current = match &self.current {
            Some(field) => Some(field.positive(problems)?),
            None => None,
        };
        let factor = match &self.connected_power_factor {
            Some(field) => {
                let factor = field.positive(problems)?;
                if factor > 1.0 {
                    let message = "a power factor lies between 0 and 1";
                    problems.push(Problem::new(field.span(), message));
                    return None;
                }
                factor
            }
            None => 1.0,
        };
        let connected = match &self.connected {
            Some(field) => Some((field.positive_of(Dimension::POWER, problems)?.si, factor)),
            None => None,
        };
        let (phase, core, tap) = (self.phase.as_ref(), self.core.as_ref(), self.tap.as_ref());
        let wanted = wanted(phase, core, tap, head, of, problems)?;
        let rated = of.secondaries.iter().filter_map(|s| s.whole().primary).map(|p| p.si);
        Some(Arc::new(ClassTest {
            test: head.name(),
            kind: of.kind,
            primary_v: rated.fold(0.0, f64::max) * ABOVE,
            temperature_k,
            temperature_u_k,
            resolution: self.resolution.unwrap_or_default(),
            until,
            current,
            connected,
            wanted,
        }))
    }
}

/// What is asked where the plan does not tell the temperature.
fn how_warm(test: &Name) -> Question {
    Question {
        text: format!("How warm are the windings ({test})"),
        wanted: Asked::Quantity {
            kind: "a temperature".to_owned(),
            exponents: Dimension::TEMPERATURE.exponents(),
            default_si: None,
            bounds: Some(TEMPERATURES_K),
            may_be_unknown: true,
        },
    }
}

impl ClassTest {
    fn course(&self, bench: Bench<'_>) -> Result<(Arc<dyn Course>, Vec<Spot>), SetupError> {
        let (of, spots) = spots(bench.asset, &self.wanted)?;
        if of.kind == Kind::Voltage {
            let course = OfVoltageClass::new(self, of, &spots, bench)?;
            return Ok((Arc::new(course), spots));
        }
        let course = OfClass::new(self, of, &spots, bench)?;
        Ok((Arc::new(course), spots))
    }
}

impl Method for ClassTest {
    fn word(&self) -> &'static str {
        "class"
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        let (course, spots) = self.course(bench)?;
        Ok(Box::new(Staged::new(course, spots)))
    }

    fn precautions(&self) -> Vec<String> {
        if self.kind == Kind::Voltage {
            let volts = Quantity { si: self.primary_v, dimension: Dimension::VOLTAGE };
            return vec![format!(
                "DANGER: while the secondary is fed, the primary carries up to {volts} and more: bar the place, nobody near it"
            )];
        }
        vec![
            "Connect current and voltage to the winding by wires of their own (four wires)"
                .to_owned(),
        ]
    }

    fn answered(&self, said: &[(Question, Answer)]) -> Option<Arc<dyn Method>> {
        let asked = how_warm(&self.test);
        let (_, answer) = said.iter().rev().find(|(question, _)| question.text == asked.text)?;
        match (answer, self.temperature_k) {
            (Answer::Si(kelvin), None) => {
                Some(Arc::new(Self { temperature_k: Some(*kelvin), ..self.clone() }))
            }
            _ => None,
        }
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let (course, spots) = self.course(bench)?;
        grade_again(&*course, &spots, measured, served)
    }

    fn all_again(
        &self,
        bench: Bench<'_>,
        served: &[(&Program, &Observation)],
    ) -> Option<Vec<Finding>> {
        let (course, spots) = self.course(bench).ok()?;
        all_again(&*course, &spots, served)
    }
}
