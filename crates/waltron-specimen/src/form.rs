//! The specimen file.

use crate::Specimen;
use crate::breaker::{
    AuxiliaryForm, Breaker, BreakerForm, CoilForm, ContactForm, MotorForm, Parts,
};
use crate::dc_breaker::{DcBreaker, DcBreakerForm};
use crate::power_transformer::{
    ChangerForm, InsulationForm, PowerForm, PowerParts, PowerTransformer, PowerWindingForm,
};
use crate::relay::{ElementForm, Relay, Truth, elements};
use crate::supply::{Supply, SupplyForm};
use crate::transformer::{Transformer, TransformerForm};
use crate::trip_unit::{FunctionForm, TripUnit, TripUnitForm};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use waltron_core::asset::readback::ReadSetting;
use waltron_core::quantity::{Measure, Ratio, Time};
use waltron_core::text::document::{
    DocumentError, Form, Problem, Problems, QuantityText, Source, load,
};

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
    /// Settings as its own display tells them, such as `"51P.pickup" = "1.2 A"`, or
    /// `"long_time.pickup" = "1280 A"` of a trip unit; what it does is another matter.
    display: Option<BTreeMap<String, String>>,
    /// The true supply (supply).
    supply: Option<SupplyForm>,
    /// The true transformer (instrument-transformer).
    transformer: Option<TransformerForm>,
    /// The true mechanism (breaker).
    breaker: Option<BreakerForm>,
    /// Its main contacts (breaker).
    contact: Option<Vec<ContactForm>>,
    /// Its auxiliary contacts (breaker).
    auxiliary: Option<Vec<AuxiliaryForm>>,
    /// Its coils (breaker).
    coil: Option<Vec<CoilForm>>,
    /// Its spring-charging motor (breaker).
    motor: Option<MotorForm>,
    /// The true direct-current breaker (dc-breaker).
    dc_breaker: Option<DcBreakerForm>,
    /// The true low-voltage breaker (trip-unit).
    trip_unit: Option<TripUnitForm>,
    /// The functions of its trip unit that are on (trip-unit).
    function: Option<Vec<FunctionForm>>,
    /// Its true cores, where there are several phases or cores (instrument-transformer).
    core: Option<Vec<TransformerForm>>,
    /// The true core of a power transformer (power-transformer).
    power_transformer: Option<PowerForm>,
    /// Its true windings, the high-voltage one first (power-transformer).
    winding: Option<Vec<PowerWindingForm>>,
    /// Its true tap changers (power-transformer).
    tap_changer: Option<Vec<ChangerForm>>,
    /// Its true insulation between electrodes (power-transformer).
    insulation: Option<Vec<InsulationForm>>,
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
    /// A power transformer.
    PowerTransformer,
    /// A circuit breaker.
    Breaker,
    /// A low-voltage breaker with its trip unit.
    TripUnit,
    /// A high-speed direct-current breaker.
    DcBreaker,
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

impl SpecimenForm {
    /// Its JSON Schema, for editors.
    pub fn schema() -> serde_json::Value {
        waltron_core::text::document::schema::<Self>()
    }

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
                let relay = Relay::new(form.relay(problems), seed).with_display(settings);
                Some(Box::new(relay) as Box<dyn Specimen>)
            }
            Kind::Supply => {
                let noise = form.noise.and_then(|n| n.current);
                let Some(supply) = form.supply else {
                    problems.push(Problem::new(0..0, "a supply needs a table `[supply]`"));
                    return None;
                };
                let truth = supply.read(noise, problems)?;
                Some(Box::new(Supply::new(truth, seed)) as Box<dyn Specimen>)
            }
            Kind::InstrumentTransformer => {
                let noise = form.noise.and_then(|n| n.current);
                let cores: Vec<_> =
                    form.transformer.into_iter().chain(form.core.into_iter().flatten()).collect();
                if cores.is_empty() {
                    let message =
                        "an instrument transformer needs a table `[transformer]`, or `[[core]]`";
                    problems.push(Problem::new(0..0, message));
                    return None;
                }
                let truth = TransformerForm::read(cores, noise, seed, problems)?;
                Some(Box::new(Transformer::new(truth, seed)) as Box<dyn Specimen>)
            }
            Kind::PowerTransformer => {
                let windings = form.winding.unwrap_or_default();
                let Some(head) = form.power_transformer.filter(|_| windings.len() >= 2) else {
                    let message = "a power transformer needs a table `[power_transformer]`, and two `[[winding]]` at least";
                    problems.push(Problem::new(0..0, message));
                    return None;
                };
                let changers = form.tap_changer.unwrap_or_default();
                let noise = form.noise.and_then(|n| n.current);
                let insulation = form.insulation.unwrap_or_default();
                let parts = PowerParts { head, windings, changers, insulation, noise };
                let truth = parts.read(seed, problems)?;
                Some(Box::new(PowerTransformer::new(truth, seed)) as Box<dyn Specimen>)
            }
            Kind::DcBreaker => {
                let Some(breaker) = form.dc_breaker else {
                    let message = "a direct-current breaker needs a table `[dc_breaker]`";
                    problems.push(Problem::new(0..0, message));
                    return None;
                };
                let truth = breaker.read(form.noise.and_then(|n| n.current), problems)?;
                Some(Box::new(DcBreaker::new(truth, seed)) as Box<dyn Specimen>)
            }
            Kind::TripUnit => {
                let Some(unit) = form.trip_unit else {
                    problems.push(Problem::new(0..0, "a trip unit needs a table `[trip_unit]`"));
                    return None;
                };
                let noise = form.noise.and_then(|n| n.current);
                let display = form.display.unwrap_or_default();
                let functions = form.function.unwrap_or_default();
                let truth = unit.read(functions, &display, noise, problems)?;
                Some(Box::new(TripUnit::new(truth, seed)) as Box<dyn Specimen>)
            }
            Kind::Breaker => {
                let Some(breaker) = form.breaker else {
                    problems.push(Problem::new(0..0, "a breaker needs a table `[breaker]`"));
                    return None;
                };
                let parts = Parts {
                    breaker,
                    contacts: form.contact.unwrap_or_default(),
                    auxiliaries: form.auxiliary.unwrap_or_default(),
                    coils: form.coil.unwrap_or_default(),
                    motor: form.motor,
                    noise: form.noise.and_then(|n| n.current),
                };
                let truth = parts.read(seed, problems)?;
                Some(Box::new(Breaker::new(truth, seed)) as Box<dyn Specimen>)
            }
        }
    }

    /// Tables of another kind of specimen are a mistake.
    fn refuse_foreign(&self, problems: &mut Problems) {
        let (kind, own) = match self.specimen.kind {
            Kind::Relay => ("relay", "element"),
            Kind::Supply => ("supply", "supply"),
            Kind::InstrumentTransformer => ("instrument transformer", "transformer"),
            Kind::PowerTransformer => ("power transformer", "power_transformer"),
            Kind::Breaker => ("breaker", "breaker"),
            Kind::TripUnit => ("trip unit", "trip_unit"),
            Kind::DcBreaker => ("direct-current breaker", "dc_breaker"),
        };
        // What has a display shows its settings.
        let shows = matches!(own, "element" | "trip_unit");
        let tables = [
            ("element", "[[element]]", self.element.is_some()),
            ("display", "[display]", self.display.is_some() && !shows),
            ("supply", "[supply]", self.supply.is_some()),
            ("transformer", "[transformer]", self.transformer.is_some()),
            ("transformer", "[[core]]", self.core.is_some()),
            ("power_transformer", "[power_transformer]", self.power_transformer.is_some()),
            ("power_transformer", "[[winding]]", self.winding.is_some()),
            ("power_transformer", "[[tap_changer]]", self.tap_changer.is_some()),
            ("power_transformer", "[[insulation]]", self.insulation.is_some()),
            ("breaker", "[breaker]", self.breaker.is_some()),
            ("breaker", "[[contact]]", self.contact.is_some()),
            ("breaker", "[[auxiliary]]", self.auxiliary.is_some()),
            ("breaker", "[[coil]]", self.coil.is_some()),
            ("breaker", "[motor]", self.motor.is_some()),
            ("dc_breaker", "[dc_breaker]", self.dc_breaker.is_some()),
            ("trip_unit", "[trip_unit]", self.trip_unit.is_some()),
            ("trip_unit", "[[function]]", self.function.is_some()),
        ];
        for (name, written, given) in tables {
            if given && name != own && !(name == "display" && shows) {
                problems.push(Problem::new(0..0, format!("a {kind} has no `{written}`")));
            }
        }
    }

    fn relay(self, problems: &mut Problems) -> Truth {
        let seconds = |field: Option<QuantityText<Time>>, problems: &mut Problems| {
            field.and_then(|f| f.not_negative(problems)).map_or(0.0, |t| t.si())
        };
        let noise = self.noise.unwrap_or(NoiseForm { current: None, time: None });
        let elements = elements(self.element.unwrap_or_default(), problems);
        let share = noise.current.and_then(|f| f.not_negative(problems));
        Truth {
            measuring_delay_s: seconds(self.specimen.measuring_delay, problems),
            contact_delay_s: seconds(self.specimen.contact_delay, problems),
            current_noise: share.map_or(0.0, |r| r.value),
            time_noise_s: seconds(noise.time, problems),
            elements,
        }
    }
}
