//! The asset file.

use super::overcurrent::{Overcurrent, Tolerances};
use super::stage::{Stage, StageFunction};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;
use waltron_core::asset::IdentityForm;
use waltron_core::asset::{Asset, Element, Function, Rating, Ratings, Withstand};
use waltron_core::characteristic::CurveForm;
use waltron_core::quantity::measures::Measures;
use waltron_core::quantity::tolerance::{AnyTolerance, Tolerance};
use waltron_core::quantity::{
    Angle, Current, Dimension, Frequency, Measure, Ratio, Time, Voltage, amperes, seconds,
};
use waltron_core::text::document::{
    AnyQuantityText, AnyToleranceText, DocumentError, Field, Form, Problem, Problems, QuantityText,
    Source, Spannable, Text, ToleranceText, load, optional,
};

/// An asset: the thing under test with nameplate, ratings, tolerances and settings.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AssetForm {
    /// What it is and where it stands.
    asset: IdentityForm<Kind>,
    /// What is written at its terminals, by rig channel or contact: `ia = "X1:1, X1:2"`,
    /// `trip = "X2:5, X2:6"`. For the hook-up sheet.
    terminals: Option<BTreeMap<String, String>>,
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
    /// An auxiliary supply.
    Supply,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct RatingsForm {
    /// Nominal secondary current.
    current: Option<QuantityText<Current>>,
    /// Nominal secondary voltage.
    voltage: Option<QuantityText<Voltage>>,
    /// Nominal frequency; a supply of direct voltage has none.
    frequency: Option<QuantityText<Frequency>>,
    /// Current transformer ratio, such as `600:1`.
    ct: Option<String>,
    /// Voltage transformer ratio, such as `20 kV:110 V`.
    vt: Option<String>,
    /// What the inputs withstand: `{ current = "4 A" }` for ever, `{ current = "100 A", for = "1 s" }`
    /// for a short time, the same with `voltage`.
    thermal: Option<Vec<Spannable<ThermalForm>>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ThermalForm {
    /// The current, of a current input.
    current: Option<QuantityText<Current>>,
    /// The voltage, of a voltage input.
    voltage: Option<QuantityText<Voltage>>,
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
    /// Of the setting of one element, such as `1 %` or `10 mHz`; for overcurrent elements the same
    /// as `current`.
    pickup: Option<AnyToleranceText>,
}

/// What an element's function is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum FunctionForm {
    /// Overcurrent: ANSI/IEEE C37.2 50, 51.
    Overcurrent,
    /// Overvoltage: 59.
    Overvoltage,
    /// Undervoltage: 27.
    Undervoltage,
    /// Overfrequency: 81O.
    Overfrequency,
    /// Underfrequency: 81U.
    Underfrequency,
    /// Rate of change of frequency: 81R.
    FrequencyRate,
}

impl FunctionForm {
    /// The function of a voltage or frequency stage; `None` for overcurrent.
    fn stage(self) -> Option<StageFunction> {
        Some(match self {
            Self::Overcurrent => return None,
            Self::Overvoltage => StageFunction::Overvoltage,
            Self::Undervoltage => StageFunction::Undervoltage,
            Self::Overfrequency => StageFunction::Overfrequency,
            Self::Underfrequency => StageFunction::Underfrequency,
            Self::FrequencyRate => StageFunction::FrequencyRate,
        })
    }
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ElementForm {
    /// Its id, such as `51P`.
    id: Text,
    /// Its function.
    function: FunctionForm,
    /// Whether it is switched on; true if not given.
    enabled: Option<bool>,
    /// What it measures (overcurrent).
    measures: Option<Spannable<Measures>>,
    /// The setting: a current, a voltage, a frequency or its rate, as the function wants.
    pickup: AnyQuantityText,
    /// Dropout as a share of pickup.
    reset_ratio: Option<QuantityText<Ratio>>,
    /// The time characteristic.
    curve: CurveForm,
    /// Meaning of the contact it trips, `trip` if not given.
    trip: Option<String>,
    /// Meaning of the contact that shows its pickup, `start` if not given.
    start: Option<String>,
    /// The longest time from pickup to that contact (overcurrent).
    start_time: Option<QuantityText<Time>>,
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
        let (kind, identity) = self.asset.read();
        let ratings = self.ratings.read(problems)?;
        if kind == Kind::Relay && ratings.frequency.is_none() {
            let problem = Problem::new(0..0, "the relay's ratings have no `frequency`");
            problems.push(
                problem.help("add its nominal one to [ratings], as in `frequency = \"50 Hz\"`"),
            );
        }
        let defaults = Tolerances {
            current: Tolerance::larger_of(0.05, amperes(0.0)),
            time: Tolerance::larger_of(0.05, seconds(0.04)),
            angle: None,
            reset_ratio: Tolerance::larger_of(0.03, Ratio::default()),
        };
        let given = self.tolerance.unwrap_or_default();
        if let Some(pickup) = &given.pickup {
            let message =
                "`pickup` belongs to one element: what it is a tolerance of depends on it";
            problems.push(Problem::new(pickup.span(), message).help(
                "write it into the element's own `tolerance`; `current` is that of all overcurrent pickups",
            ));
        }
        let mut assumed = given.assumed(&defaults);
        let tolerances = given.over(&defaults, problems);
        let mut elements: Vec<Element> = Vec::new();
        let mut ids: Vec<String> = Vec::new();
        for form in self.element.unwrap_or_default() {
            let id = form.id.as_str().to_owned();
            if ids.contains(&id) {
                let message = format!("element `{id}` is there twice");
                problems.push(Problem::new(form.id.span(), message));
            }
            ids.push(id);
            let function = form.function.stage();
            assumed.extend(function.and_then(|function| form.assumed(function)));
            if let Some(element) = form.read(function, &tolerances, problems) {
                problems.settings.extend(element.named());
                elements.push(element);
            }
        }
        if elements.is_empty() {
            // Sequences say what they require themselves.
            assumed.clear();
        }
        let terminals = self.terminals.unwrap_or_default().into_iter();
        let terminals = terminals.map(|(key, at)| (key.as_str().into(), at)).collect();
        Some(Asset { identity, ratings, elements, terminals, assumed, own: None })
    }
}

impl RatingsForm {
    fn read(self, problems: &mut Problems) -> Option<Ratings> {
        let current = self.current.and_then(|f| f.positive(problems));
        let voltage = self.voltage.and_then(|f| f.positive(problems));
        let frequency = self.frequency.map(|f| f.positive(problems));
        // What it withstands may be told in its nominal values.
        problems.settings.nominal(frequency.flatten(), current, voltage);
        let (mut currents, mut voltages) = (Vec::new(), Vec::new());
        for form in self.thermal.unwrap_or_default() {
            let span = form.span();
            let form = form.get();
            let duration = match form.duration.as_ref().map(|d| d.positive(problems)) {
                Some(None) => continue,
                Some(read) => read,
                None => None,
            };
            match (&form.current, &form.voltage) {
                (Some(value), None) => {
                    let value = value.positive(problems);
                    currents.extend(value.map(|v| (span, Rating { value: v, duration })));
                }
                (None, Some(value)) => {
                    let value = value.positive(problems);
                    voltages.extend(value.map(|v| (span, Rating { value: v, duration })));
                }
                _ => problems.push(
                    Problem::new(span, "a rating is of one current or of one voltage")
                        .help("write it like `{ current = \"100 A\", for = \"1 s\" }`"),
                ),
            }
        }
        Some(Ratings {
            current,
            voltage,
            frequency: optional(frequency)?,
            ct: self.ct,
            vt: self.vt,
            currents: withstand(currents, "current", problems),
            voltages: withstand(voltages, "voltage", problems),
            own_currents: Vec::new(),
            own_voltages: Vec::new(),
        })
    }
}

/// Ratings that contradict each other are a typing error: none of them is believed.
fn withstand<Q: Measure>(
    mut ratings: Vec<(Range<usize>, Rating<Q>)>,
    what: &str,
    problems: &mut Problems,
) -> Withstand<Q> {
    let mut complain = |span: &Range<usize>, message: String, help: &str| {
        problems.push(Problem::new(span.clone(), message).help(help));
    };
    ratings.sort_by(|(_, a), (_, b)| a.value.si().total_cmp(&b.value.si()));
    if let Some((span, _)) = ratings.first().filter(|(_, r)| r.duration.is_some()) {
        let all_short = ratings.iter().all(|(_, r)| r.duration.is_some());
        let message = match all_short {
            true => format!("nothing says which {what} is withstood for ever"),
            false => format!("this {what} is below the one that is withstood for ever"),
        };
        let help = "the lowest rating is the continuous one, without `for`";
        complain(span, message, help);
    }
    for pair in ratings.windows(2) {
        let [(_, low), (span, high)] = pair else { continue };
        match (low.duration, high.duration) {
            (None, None) => {
                let message = format!("two ratings say which {what} is withstood for ever");
                complain(span, message, "keep one of them, or say for how long the other one is");
            }
            _ if low.value.si() == high.value.si() => {
                let message =
                    format!("two ratings of {}", waltron_core::quantity::text(high.value));
                complain(span, message, "keep one of them");
            }
            (Some(before), Some(t)) if t > before => {
                let message = format!("{high} lasts longer than {low}");
                complain(span, message, "more is never withstood for longer: is one mistyped?");
            }
            _ => {}
        }
    }
    Withstand::new(ratings.into_iter().map(|(_, rating)| rating).collect())
}

impl ToleranceForm {
    /// What is taken where the file says nothing, in words.
    fn assumed(&self, defaults: &Tolerances) -> Vec<String> {
        let all = [
            self.current.is_none().then(|| format!("current {}", defaults.current)),
            self.time.is_none().then(|| format!("time {}", defaults.time)),
            self.reset_ratio.is_none().then(|| format!("reset ratio {}", defaults.reset_ratio)),
        ];
        all.into_iter().flatten().collect()
    }

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

impl ToleranceForm {
    /// Of an overcurrent element: the tolerance of its pickup is that of its current.
    fn of_overcurrent(self, base: &Tolerances, problems: &mut Problems) -> Tolerances {
        let pickup = self.pickup.as_ref().and_then(|pickup| {
            if self.current.is_some() {
                let message = "`pickup` and `current` are the same tolerance here";
                problems.push(Problem::new(pickup.span(), message).help("keep one of them"));
                return None;
            }
            pickup.read(Dimension::CURRENT, problems)
        });
        let mut read = self.over(base, problems);
        if let Some(current) = pickup.and_then(Tolerance::of) {
            read.current = current;
        }
        read
    }
}

/// The tolerance of a setting where the file gives none: of a frequency an absolute one, since a share
/// of the nominal value would be no tolerance at all.
fn usual_pickup(dimension: Dimension) -> &'static str {
    match dimension {
        Dimension::FREQUENCY => "20 mHz",
        Dimension::FREQUENCY_RATE => "5 % or 0.05 Hz/s",
        _ => "1 %",
    }
}

impl ElementForm {
    /// What is taken for a voltage or frequency stage where the file says nothing, in words.
    fn assumed(&self, function: StageFunction) -> Option<String> {
        let given = self.tolerance.as_ref().is_some_and(|t| t.pickup.is_some());
        let usual = usual_pickup(function.dimension());
        (!given).then(|| format!("{} pickup {usual}", self.id.as_str()))
    }

    /// The longest time of an instantaneous element, which takes the place of a tolerance of time.
    fn own_limit(&self, problems: &mut Problems) -> Option<Time> {
        let within = self.curve.within(problems)?;
        if let Some(field) = self.tolerance.as_ref().and_then(|t| t.time.as_ref()) {
            let message = "the time of an instantaneous element is its `within`";
            let problem = Problem::new(field.span(), message);
            problems.push(problem.help("leave the tolerance of `time` out"));
        }
        Some(within)
    }

    /// A voltage or frequency stage.
    fn stage(
        self,
        function: StageFunction,
        tolerances: &Tolerances,
        problems: &mut Problems,
    ) -> Option<Stage> {
        let dimension = function.dimension();
        let pickup = self.pickup.positive_of(dimension, problems);
        let within = self.own_limit(problems);
        for (key, span) in [
            ("measures", self.measures.as_ref().map(Spannable::span)),
            ("start_time", self.start_time.as_ref().map(Field::span)),
        ] {
            if let Some(span) = span {
                let message = format!("`{key}` belongs to overcurrent elements");
                problems.push(Problem::new(span, message));
            }
        }
        let reset_ratio = self.reset_ratio.and_then(|f| {
            let ratio = f.positive(problems)?;
            let message = match (function.is_under(), ratio.value) {
                (true, ratio) if ratio < 1.0 => "this function resets above its setting",
                (false, ratio) if ratio > 1.0 => "the reset ratio must not exceed 100 %",
                _ => return Some(ratio),
            };
            let example = if function.is_under() { "103 %" } else { "97 %" };
            let problem = Problem::new(f.span(), message);
            problems
                .push(problem.help(format!("write a share of the setting, such as `{example}`")));
            None
        });
        let delay = match self.curve.read(problems)?.form {
            waltron_core::characteristic::Form::Definite { delay } => Some(delay),
            _ => {
                let message = "only a definite time is known for this function";
                let problem = Problem::new(self.id.span(), message);
                problems.push(
                    problem.help("write `curve = { family = \"definite\", delay = \"1 s\" }`"),
                );
                None
            }
        };
        let own = self.tolerance.unwrap_or_default();
        for (key, span) in [
            ("current", own.current.as_ref().map(Field::span)),
            ("angle", own.angle.as_ref().map(Field::span)),
        ] {
            if let Some(span) = span {
                let message =
                    format!("a function of {} has no tolerance of `{key}`", function.name());
                problems.push(Problem::new(span, message).help("`pickup` is that of its setting"));
            }
        }
        let usual = || AnyTolerance::parse(usual_pickup(dimension), dimension).ok();
        let pickup_tolerance =
            own.pickup.as_ref().map_or_else(usual, |t| t.read(dimension, problems));
        let time_tolerance = match within {
            Some(longest) => Some(Tolerance::up_to(longest)),
            None => own.time.map_or(Some(tolerances.time), |t| t.read(problems)),
        };
        let reset_tolerance =
            own.reset_ratio.map_or(Some(tolerances.reset_ratio), |t| t.read(problems));
        Some(Stage {
            function,
            pickup: pickup?,
            reset_ratio,
            delay: delay?,
            pickup_tolerance: pickup_tolerance?,
            time_tolerance: time_tolerance?,
            reset_tolerance: reset_tolerance?,
        })
    }

    fn read(
        self,
        function: Option<StageFunction>,
        tolerances: &Tolerances,
        problems: &mut Problems,
    ) -> Option<Element> {
        let id = self.id.as_str().into();
        let enabled = self.enabled.unwrap_or(true);
        let trip = self.trip.as_deref().unwrap_or("trip").into();
        let start = Some(self.start.as_deref().unwrap_or("start").into());
        let function: Arc<dyn Function> = match function {
            Some(function) => Arc::new(self.stage(function, tolerances, problems)?),
            None => Arc::new(self.overcurrent(tolerances, problems)?),
        };
        Some(Element { id, enabled, trip, start, function })
    }

    fn overcurrent(self, tolerances: &Tolerances, problems: &mut Problems) -> Option<Overcurrent> {
        let pickup = self.pickup.positive_of(Dimension::CURRENT, problems);
        let within = self.own_limit(problems);
        let measures = self.measures.map(|m| *m.get());
        if measures.is_none() {
            let message = format!("element `{}` has no `measures`", self.id.as_str());
            problems.push(Problem::new(self.id.span(), message));
        }
        let reset_ratio = self.reset_ratio.and_then(|f| {
            let ratio = f.positive(problems)?;
            if ratio.value <= 1.0 {
                return Some(ratio);
            }
            problems.push(Problem::new(f.span(), "the reset ratio must not exceed 100 %"));
            None
        });
        let characteristic = self.curve.read(problems);
        let start_time = self.start_time.map(|f| f.positive(problems));
        let tolerances = match self.tolerance {
            Some(own) => own.of_overcurrent(tolerances, problems),
            None => tolerances.clone(),
        };
        let tolerances = match within {
            Some(longest) => Tolerances { time: Tolerance::up_to(longest), ..tolerances },
            None => tolerances,
        };
        Some(Overcurrent {
            measures: measures?,
            pickup: Current::from_si(pickup?.si),
            reset_ratio,
            characteristic: characteristic?,
            tolerances,
            start_time: optional(start_time)?,
        })
    }
}
