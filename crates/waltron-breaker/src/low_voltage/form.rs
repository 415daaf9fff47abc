//! The asset file of a low-voltage breaker.

use super::asset::{Acts, LvBreaker, TripFunction};
use super::band::{Band, BandForm, RegionForm, Shape, shipped, shipped_names};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use waltron_core::asset::{Asset, IdentityForm, Own, Ratings};
use waltron_core::quantity::{Current, Dimension, Frequency, Measure, Time, Voltage};
use waltron_core::text::document::{
    AnyQuantityText, DocumentError, Field, Form, Problem, Problems, QuantityText, Source,
    Spannable, Text, file_named, load, load_beside, optional,
};
use waltron_core::text::name::nearest;

/// A low-voltage breaker with its trip unit.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LvBreakerForm {
    /// What it is and where it stands.
    asset: IdentityForm<KindForm>,
    /// What is written at its terminals, by what the rig connects to: `"L1" = "L1 upper, lower terminal"`.
    terminals: Option<BTreeMap<String, String>>,
    /// What it is made for.
    ratings: RatingsForm,
    /// Frame, sensor, poles.
    breaker: BreakerForm,
    /// The trip unit.
    trip_unit: Option<TripUnitForm>,
    /// Its functions with their settings.
    function: Vec<FunctionForm>,
    /// A band of one's own, typed here instead of named in `[trip_unit]`.
    region: Option<Vec<RegionForm>>,
}

impl Form for LvBreakerForm {
    const KIND: &'static str = "asset";
}

/// Kinds of breaker.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum KindForm {
    /// A low-voltage breaker.
    LvBreaker,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct RatingsForm {
    /// Rated voltage.
    voltage: QuantityText<Voltage>,
    /// Rated frequency.
    frequency: QuantityText<Frequency>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct BreakerForm {
    /// Rated current of its frame.
    frame: QuantityText<Current>,
    /// Rated current of its sensor or plug; pickups as multiples refer to it. The frame's if not given.
    sensor: Option<QuantityText<Current>>,
    /// Its poles; `["L1", "L2", "L3"]` if not given.
    poles: Option<Vec<Text>>,
    /// Whether a sensor stands in the neutral; false if not given.
    neutral_sensor: Option<bool>,
}

#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct TripUnitForm {
    /// What it is, in words.
    model: Option<String>,
    /// The band that it must keep: one that comes with the program, or a file `….band.toml` beside this one;
    /// `generic` if not given.
    band: Option<Text>,
    /// Whether it remembers heat; false if not given.
    thermal_memory: Option<bool>,
    /// How long its thermal memory takes to cool, where nobody can discharge it: that is waited for then.
    cooling: Option<QuantityText<Time>>,
    /// The group of settings that is in use.
    setting_group: Option<String>,
    /// What stands at its test port for the sensor's rated current: `"100 mA"`, `"1 V"`; it has none if not given.
    port: Option<AnyQuantityText>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct FunctionForm {
    /// The function.
    id: Spannable<Acts>,
    /// The current above which it acts: `"1280 A"`, or a multiple of the sensor, `"0.8 x"`.
    pickup: AnyQuantityText,
    /// Its delay; of what is instantaneous none.
    delay: Option<QuantityText<Time>>,
    /// Where the delay holds, if it follows I²t: a current, or a multiple of the function's pickup. Long time
    /// has 6 x if not given; the others are definite then.
    at: Option<AnyQuantityText>,
    /// Whether it is on; true if not given.
    enabled: Option<bool>,
}

impl LvBreakerForm {
    /// Reads the asset file of a low-voltage breaker.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source) -> Result<Asset, DocumentError> {
        load(source, |form: Self, problems| form.read(source, problems))
    }

    fn read(self, source: &Source, problems: &mut Problems) -> Option<Asset> {
        let (_, identity) = self.asset.read();
        let voltage = self.ratings.voltage.positive(problems);
        let frequency = self.ratings.frequency.positive(problems);
        let frame = self.breaker.frame.positive(problems);
        let sensor = optional(self.breaker.sensor.as_ref().map(|s| s.positive(problems)));
        let unit = self.trip_unit.unwrap_or_default();
        let band = match &self.region {
            Some(regions) => RegionForm::all(regions, problems).map(|regions| Band {
                name: "own".to_owned(),
                note: Some("typed in the asset's file".to_owned()),
                regions,
            }),
            None => named(unit.band.as_ref(), source, problems),
        };
        let frame_a = frame?.si();
        let sensor_a = sensor?.map_or(frame_a, Measure::si);
        if sensor_a > frame_a {
            let span = self.breaker.sensor.as_ref().map_or(0..0, Field::span);
            problems.push(Problem::new(span, "the sensor is larger than the frame carries"));
        }
        let mut functions: Vec<TripFunction> = Vec::new();
        for form in &self.function {
            let function = form.read(sensor_a, problems)?;
            if functions.iter().any(|f| f.acts == function.acts) {
                let message = format!("two functions are {}", function.acts.key());
                problems.push(Problem::new(form.id.span(), message));
            }
            functions.push(function);
        }
        // A band that goes by the delay's setting knows no times without it.
        for (function, form) in functions.iter().zip(&self.function).filter(|(f, _)| f.is_on) {
            let region = band.as_ref().and_then(|band| band.region(function.acts));
            let by_delay =
                region.is_some_and(|r| matches!(r.shape, Shape::Inverse(_) | Shape::Setting(_)));
            if by_delay && function.delay_s.is_none() {
                let message =
                    format!("`{}` has no `delay`, and its band goes by it", function.acts.key());
                problems.push(Problem::new(form.id.span(), message));
            }
        }
        let poles = self.breaker.poles.as_ref();
        let usual = || ["L1", "L2", "L3"].map(str::to_owned).to_vec();
        let poles: Vec<String> =
            poles.map_or_else(usual, |p| p.iter().map(|t| t.as_str().to_owned()).collect());
        if poles.is_empty() || poles.iter().any(String::is_empty) {
            problems.push(Problem::new(0..0, "a breaker has at least one pole, each with a name"));
            return None;
        }
        let port = match &unit.port {
            None => None,
            Some(field) => {
                let at = field.read(problems)?;
                let fits = matches!(at.dimension, Dimension::CURRENT | Dimension::VOLTAGE);
                if !fits || at.si.is_nan() || at.si <= 0.0 {
                    let message = "a current or a voltage stands for the sensor's current";
                    problems.push(Problem::new(field.span(), message));
                }
                Some(at)
            }
        };
        let cooling = optional(unit.cooling.as_ref().map(|time| time.positive(problems)))?;
        if let (Some(field), true) = (&unit.cooling, unit.thermal_memory != Some(true)) {
            let message = "what has no `thermal_memory` has nothing to cool";
            problems.push(Problem::new(field.span(), message));
        }
        let frequency = frequency?;
        let own = LvBreaker {
            poles,
            frame_a,
            sensor_a,
            rated_v: voltage?.si(),
            trip_unit: unit.model,
            setting_group: unit.setting_group,
            port,
            cooling,
            has_memory: unit.thermal_memory.unwrap_or(false),
            neutral_sensor: self.breaker.neutral_sensor.unwrap_or(false),
            functions,
            band: band?,
        };
        let terminals = self.terminals.unwrap_or_default().into_iter();
        Some(Asset {
            kind: "lv-breaker",
            identity,
            ratings: Ratings::unknown(Some(frequency)),
            elements: Vec::new(),
            assumed: Vec::new(),
            terminals: terminals.map(|(key, at)| (key.as_str().into(), at)).collect(),
            own: Own::new(own),
        })
    }
}

/// What a band's file ends in.
const FILE: &str = ".band.toml";

/// The band file that an asset file names, where it does.
pub(crate) fn band_file(source: &Source) -> Option<String> {
    file_named(source, ["trip_unit", "band"], FILE)
}

fn named(name: Option<&Text>, source: &Source, problems: &mut Problems) -> Option<Band> {
    let Some(text) = name else { return shipped("generic") };
    if text.as_str().ends_with(FILE) {
        return load_beside(text, source, BandForm::load, problems);
    }
    let found = shipped(text.as_str());
    if found.is_none() {
        let near = nearest(text.as_str(), shipped_names());
        let message = format!("no band is called `{}`", text.as_str());
        let list = || {
            let names = shipped_names().join(", ");
            format!("use one of {names}, a file ….band.toml, or type your own as `[[region]]`")
        };
        problems.push(Problem::new(text.span(), message).did_you_mean(near, list));
    }
    found
}

impl FunctionForm {
    fn read(&self, sensor_a: f64, problems: &mut Problems) -> Option<TripFunction> {
        let acts = *self.id.get();
        let level = |field: &AnyQuantityText, unit_a: f64, problems: &mut Problems| {
            let quantity = field.read(problems)?;
            let amps = match quantity.dimension {
                Dimension::CURRENT => quantity.si,
                Dimension::NUMBER => quantity.si * unit_a,
                _ => f64::NAN,
            };
            if amps > 0.0 {
                return Some(amps);
            }
            let message = "a current is wanted, or a multiple: `1280 A`, `0.8 x`";
            problems.push(Problem::new(field.span(), message));
            None
        };
        let pickup_a = level(&self.pickup, sensor_a, problems)?;
        let delay = optional(self.delay.as_ref().map(|d| d.positive(problems)))?;
        let at = optional(self.at.as_ref().map(|at| level(at, pickup_a, problems)))?;
        let at_a = match acts {
            Acts::LongTime => Some(at.unwrap_or(6.0 * pickup_a)),
            _ => at,
        };
        let odd = match (acts, delay) {
            (Acts::Instantaneous, Some(_)) => Some("what is instantaneous has no `delay`"),
            (Acts::ShortTime | Acts::GroundFault, None) => Some("it has no `delay`"),
            _ => None,
        };
        if let Some(odd) = odd {
            problems.push(Problem::new(self.id.span(), odd));
            return None;
        }
        Some(TripFunction {
            acts,
            pickup_a,
            delay_s: delay.map(Measure::si),
            at_a,
            is_on: self.enabled.unwrap_or(true),
        })
    }
}
