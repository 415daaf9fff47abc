//! What kind of requirement a point checks.

use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt;

/// The kind of a requirement, by a word such as `trip_time`: every family of assets has its own, beside
/// the ones here.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Criterion(Cow<'static, str>);

impl Criterion {
    /// Operates within a time band.
    pub const TRIP_TIME: Self = Self::named("trip_time");
    /// Does not operate.
    pub const NO_OPERATION: Self = Self::named("no_operation");
    /// Is a value within limits.
    pub const VALUE: Self = Self::named("value");
    /// Holds.
    pub const CONDITION: Self = Self::named("condition");
    /// Comes to its end: the point stands for the place where a test broke off.
    pub const COMPLETION: Self = Self::named("completion");
    /// Is done: the point stands for the line of a step that could not be done, while the rest of its test went on.
    pub const STEP: Self = Self::named("step");

    /// A kind of its own: lower case, words joined by underscores.
    pub const fn named(word: &'static str) -> Self {
        Self(Cow::Borrowed(word))
    }

    /// Its word.
    pub fn word(&self) -> &str {
        &self.0
    }

    /// Whether it is held against a number or a band, and not only found to hold.
    pub fn is_of_value(&self) -> bool {
        ![Self::CONDITION, Self::COMPLETION, Self::STEP].contains(self)
    }
}

impl fmt::Display for Criterion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}
