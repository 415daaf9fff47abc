//! The specimen file.

use crate::relay::{Relay, TrueElement, Truth};
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::document::{
    CurveForm, DocumentError, Field, Form, MeasuresForm, Problem, Problems, QuantityText, Source,
    Text, load,
};
use waltron_core::name::Name;
use waltron_core::quantity::{Current, Measure, Ratio, Time};

/// A specimen: the truth of a simulated asset, with the defects it hides.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SpecimenForm {
    /// What it is.
    specimen: HeadForm,
    /// Scatter from injection to injection.
    noise: Option<NoiseForm>,
    /// The true protection elements.
    element: Option<Vec<ElementForm>>,
}

impl Form for SpecimenForm {
    const KIND: &'static str = "specimen";
}

/// Kinds of specimen.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Kind {
    /// A multi-stage overcurrent relay.
    OvercurrentRelay,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct HeadForm {
    /// The kind of specimen.
    #[allow(dead_code, reason = "checked by its type; there is one kind so far")]
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
    /// Standard deviation of the measured current, as a share.
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
    measures: MeasuresForm,
    /// Where it truly picks up.
    pickup: QuantityText<Current>,
    /// Where it truly drops out, as a share of pickup; 95 % if not given.
    reset_ratio: Option<QuantityText<Ratio>>,
    /// How it truly times.
    curve: CurveForm,
    /// The contact it trips; `trip` if not given.
    trip: Option<String>,
    /// The contact it closes on pickup; `start` if not given.
    start: Option<String>,
    /// Whether it works at all; true if not given.
    enabled: Option<bool>,
}

impl SpecimenForm {
    /// Reads a specimen file and builds the specimen.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source, seed: u64) -> Result<Relay, DocumentError> {
        load(source, |form: Self, problems| Some(Relay::new(form.read(problems), seed)))
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

impl ElementForm {
    fn read(self, problems: &mut Problems) -> Option<TrueElement> {
        let pickup = self.pickup.positive(problems);
        let reset_ratio = self.reset_ratio.map_or(Some(0.95), |f| {
            let ratio = f.positive(problems)?.value;
            if ratio <= 1.0 {
                return Some(ratio);
            }
            problems.push(Problem::new(f.span(), "the reset ratio must not exceed 100 %"));
            None
        });
        let characteristic = self.curve.read(problems);
        Some(TrueElement {
            id: Name::from(self.id.as_str()),
            measures: self.measures.into(),
            pickup_a: pickup?.si(),
            reset_ratio: reset_ratio?,
            characteristic: characteristic?,
            trip: self.trip.as_deref().unwrap_or("trip").into(),
            start: self.start.as_deref().unwrap_or("start").into(),
            enabled: self.enabled.unwrap_or(true),
        })
    }
}
