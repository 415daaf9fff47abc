//! The asset file.

use super::curve_form::{CurveForm, Spannable};
use super::field::{Field, QuantityText, Text, ToleranceText};
use super::problem::{DocumentError, Problem, Problems, Source};
use super::{Form, load};
use crate::asset::{Asset, Element, Identity, Measures, Ratings, ThermalRating, Tolerances};
use crate::quantity::{Angle, Current, Frequency, Ratio, Time, Voltage, amperes, seconds};
use crate::tolerance::Tolerance;
use schemars::JsonSchema;
use serde::Deserialize;

/// An asset: the thing under test with nameplate, ratings, tolerances and settings.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AssetForm {
    /// What it is and where it stands.
    asset: IdentityForm,
    /// Nominal values and withstand.
    ratings: RatingsForm,
    /// What measured values are graded against.
    tolerance: Option<ToleranceForm>,
    /// The protection elements with their settings.
    element: Option<Vec<ElementForm>>,
}

impl Form for AssetForm {
    const KIND: &'static str = "asset";
}

/// Kinds of asset that can be tested.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Kind {
    /// A protection relay.
    Relay,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct IdentityForm {
    /// The kind of asset.
    #[allow(dead_code, reason = "checked by its type; there is one kind so far")]
    kind: Kind,
    /// Operating designation, such as `Q07-F1`.
    tag: String,
    /// Operator of the site.
    operator: Option<String>,
    /// Substation.
    site: Option<String>,
    /// Bay.
    bay: Option<String>,
    /// Maker.
    maker: Option<String>,
    /// Model.
    model: Option<String>,
    /// Serial number.
    serial: Option<String>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct RatingsForm {
    /// Nominal secondary current.
    current: Option<QuantityText<Current>>,
    /// Nominal secondary voltage.
    voltage: Option<QuantityText<Voltage>>,
    /// Nominal frequency.
    frequency: QuantityText<Frequency>,
    /// Current transformer ratio, such as `600:1`.
    ct: Option<String>,
    /// Voltage transformer ratio, such as `20 kV:110 V`.
    vt: Option<String>,
    /// What the current inputs withstand.
    thermal: Option<Vec<ThermalForm>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ThermalForm {
    /// The current.
    current: QuantityText<Current>,
    /// For how long; for ever if not given.
    #[serde(rename = "for")]
    duration: Option<QuantityText<Time>>,
}

#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ToleranceForm {
    /// Of currents, such as `3 % or 10 mA`.
    current: Option<ToleranceText<Current>>,
    /// Of operate times, such as `5 % or 40 ms`.
    time: Option<ToleranceText<Time>>,
    /// Of angles, such as `2 deg`.
    angle: Option<ToleranceText<Angle>>,
    /// Of the reset ratio, such as `3 %`.
    reset_ratio: Option<ToleranceText<Ratio>>,
}

/// What an element's function is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Function {
    /// Overcurrent: ANSI/IEEE C37.2 50, 51.
    Overcurrent,
}

/// What an element measures.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum MeasuresForm {
    /// The largest phase current.
    Phase,
    /// Ia + Ib + Ic.
    Residual,
    /// I2.
    NegativeSequence,
    /// I1.
    PositiveSequence,
}

impl From<MeasuresForm> for Measures {
    fn from(form: MeasuresForm) -> Self {
        match form {
            MeasuresForm::Phase => Self::Phase,
            MeasuresForm::Residual => Self::Residual,
            MeasuresForm::NegativeSequence => Self::NegativeSequence,
            MeasuresForm::PositiveSequence => Self::PositiveSequence,
        }
    }
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ElementForm {
    /// Its id, such as `51P`.
    id: Text,
    /// Its function.
    #[allow(dead_code, reason = "checked by its type; there is one function so far")]
    function: Function,
    /// Whether it is switched on; true if not given.
    enabled: Option<bool>,
    /// What it measures.
    measures: Spannable<MeasuresForm>,
    /// The setting.
    pickup: QuantityText<Current>,
    /// Dropout as a share of pickup.
    reset_ratio: Option<QuantityText<Ratio>>,
    /// The time characteristic.
    curve: CurveForm,
    /// Meaning of the contact it trips, `trip` if not given.
    trip: Option<String>,
    /// Meaning of the contact that shows its pickup, `start` if not given.
    start: Option<String>,
    /// Tolerances of this element, where they differ from the asset's.
    tolerance: Option<ToleranceForm>,
}

impl AssetForm {
    /// Reads an asset file.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source) -> Result<Asset, DocumentError> {
        load(source, Self::read)
    }

    fn read(self, problems: &mut Problems) -> Option<Asset> {
        let i = self.asset;
        let identity = Identity {
            tag: i.tag,
            site: i.site,
            bay: i.bay,
            operator: i.operator,
            maker: i.maker,
            model: i.model,
            serial: i.serial,
        };
        let ratings = self.ratings.read(problems);
        let defaults = Tolerances {
            current: Tolerance::larger_of(0.05, amperes(0.0)),
            time: Tolerance::larger_of(0.05, seconds(0.04)),
            angle: None,
            reset_ratio: Tolerance::larger_of(0.03, Ratio::default()),
        };
        let tolerances = self.tolerance.unwrap_or_default().over(&defaults, problems);
        let mut elements: Vec<Element> = Vec::new();
        for form in self.element.unwrap_or_default() {
            if elements.iter().any(|e| e.id == form.id.as_str()) {
                let message = format!("element `{}` is there twice", form.id.as_str());
                problems.push(Problem::new(form.id.span(), message));
            }
            elements.extend(form.read(&tolerances, problems));
        }
        Some(Asset { identity, ratings: ratings?, elements })
    }
}

impl RatingsForm {
    fn read(self, problems: &mut Problems) -> Option<Ratings> {
        let current = self.current.and_then(|f| f.positive(problems));
        let voltage = self.voltage.and_then(|f| f.positive(problems));
        let frequency = self.frequency.positive(problems);
        let mut thermal = Vec::new();
        for rating in self.thermal.unwrap_or_default() {
            let current = rating.current.positive(problems);
            let duration = rating.duration.map(|d| d.positive(problems));
            match (current, duration) {
                (Some(current), None) => thermal.push(ThermalRating { current, duration: None }),
                (Some(current), Some(Some(t))) => {
                    thermal.push(ThermalRating { current, duration: Some(t) });
                }
                _ => {}
            }
        }
        Some(Ratings { current, voltage, frequency: frequency?, ct: self.ct, vt: self.vt, thermal })
    }
}

impl ToleranceForm {
    fn over(self, base: &Tolerances, problems: &mut Problems) -> Tolerances {
        let mut read = base.clone();
        if let Some(t) = self.current.and_then(|f| f.read(problems)) {
            read.current = t;
        }
        if let Some(t) = self.time.and_then(|f| f.read(problems)) {
            read.time = t;
        }
        if let Some(t) = self.angle.and_then(|f| f.read(problems)) {
            read.angle = Some(t);
        }
        if let Some(t) = self.reset_ratio.and_then(|f| f.read(problems)) {
            read.reset_ratio = t;
        }
        read
    }
}

impl ElementForm {
    fn read(self, tolerances: &Tolerances, problems: &mut Problems) -> Option<Element> {
        let pickup = self.pickup.positive(problems);
        let reset_ratio = self.reset_ratio.and_then(|f| {
            let ratio = f.positive(problems)?;
            if ratio.value <= 1.0 {
                return Some(ratio);
            }
            problems.push(Problem::new(f.span(), "the reset ratio must not exceed 100 %"));
            None
        });
        let characteristic = self.curve.read(problems);
        let tolerances = match self.tolerance {
            Some(own) => own.over(tolerances, problems),
            None => tolerances.clone(),
        };
        Some(Element {
            id: self.id.as_str().into(),
            enabled: self.enabled.unwrap_or(true),
            measures: (*self.measures.get()).into(),
            pickup: pickup?,
            reset_ratio,
            characteristic: characteristic?,
            tolerances,
            trip: self.trip.as_deref().unwrap_or("trip").into(),
            start: Some(self.start.as_deref().unwrap_or("start").into()),
        })
    }
}
