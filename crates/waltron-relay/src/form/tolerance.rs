//! What measured values are graded against, as a file says it.

use crate::overcurrent::Tolerances;
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{Angle, Current, Dimension, Ratio, Time};
use waltron_core::text::document::{AnyToleranceText, Field, Problem, Problems, ToleranceText};

#[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct ToleranceForm {
    /// Of currents, such as `3 % or 10 mA`.
    pub(super) current: Option<ToleranceText<Current>>,
    /// Of operate times, such as `5 % or 40 ms`.
    pub(super) time: Option<ToleranceText<Time>>,
    /// Of angles, such as `2 deg`.
    pub(super) angle: Option<ToleranceText<Angle>>,
    /// Of the reset ratio, such as `3 %`.
    pub(super) reset_ratio: Option<ToleranceText<Ratio>>,
    /// Of the setting of one element, such as `1 %` or `10 mHz`; for overcurrent elements the same
    /// as `current`.
    pub(super) pickup: Option<AnyToleranceText>,
}

impl ToleranceForm {
    /// What is taken where the file says nothing, in words.
    pub(super) fn assumed(&self, defaults: &Tolerances) -> Vec<String> {
        let all = [
            self.current.is_none().then(|| format!("current {}", defaults.current)),
            self.time.is_none().then(|| format!("time {}", defaults.time)),
            self.reset_ratio.is_none().then(|| format!("reset ratio {}", defaults.reset_ratio)),
        ];
        all.into_iter().flatten().collect()
    }

    pub(super) fn over(self, base: &Tolerances, problems: &mut Problems) -> Tolerances {
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
    pub(super) fn of_overcurrent(self, base: &Tolerances, problems: &mut Problems) -> Tolerances {
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
