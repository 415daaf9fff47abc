//! A protection element, as a file says it.

use super::tolerance::ToleranceForm;
use crate::overcurrent::{Overcurrent, Tolerances};
use crate::stage::{Stage, StageFunction};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::asset::{Element, Function};
use waltron_core::characteristic::CurveForm;
use waltron_core::quantity::measures::Measures;
use waltron_core::quantity::tolerance::{AnyTolerance, Tolerance};
use waltron_core::quantity::{Current, Dimension, Measure, Ratio, Time};
use waltron_core::text::document::{
    AnyQuantityText, Field, Problem, Problems, QuantityText, Spannable, Text, optional,
};

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
    pub(super) fn stage(self) -> Option<StageFunction> {
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
pub(super) struct ElementForm {
    /// Its id, such as `51P`.
    pub(super) id: Text,
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
    pub(super) fn assumed(&self) -> Option<String> {
        let function = self.function.stage()?;
        let given = self.tolerance.as_ref().is_some_and(|t| t.pickup.is_some());
        let usual = usual_pickup(function.dimension());
        (!given).then(|| format!("{} pickup {usual}", self.id.as_str()))
    }

    /// The longest time of an instantaneous element, which takes the place of a tolerance of time.
    pub(super) fn own_limit(&self, problems: &mut Problems) -> Option<Time> {
        let within = self.curve.within(problems)?;
        if let Some(field) = self.tolerance.as_ref().and_then(|t| t.time.as_ref()) {
            let message = "the time of an instantaneous element is its `within`";
            let problem = Problem::new(field.span(), message);
            problems.push(problem.help("leave the tolerance of `time` out"));
        }
        Some(within)
    }

    /// A voltage or frequency stage.
    pub(super) fn stage(
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

    pub(super) fn read(self, tolerances: &Tolerances, problems: &mut Problems) -> Option<Element> {
        let id = self.id.as_str().into();
        let enabled = self.enabled.unwrap_or(true);
        let trip = self.trip.as_deref().unwrap_or("trip").into();
        let start = Some(self.start.as_deref().unwrap_or("start").into());
        let function: Arc<dyn Function> = match self.function.stage() {
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
