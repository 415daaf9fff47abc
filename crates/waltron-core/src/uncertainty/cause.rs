//! What makes values uncertain: causes, and what each of them adds to a result.

use super::Means;
use crate::grading::{Value, Values, short};
use crate::text::name::Name;
use serde::de::Error;
use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// How likely an error is anywhere within what it may be.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Distribution {
    /// Anywhere within limits as likely (JCGM 100:2008, 4.3.7): a standard uncertainty is a limit over √3.
    #[default]
    Rectangular,
    /// Stated as an uncertainty with k = 2 (JCGM 100:2008, 4.3.3), or seen to scatter (4.2).
    Normal,
}

impl Distribution {
    fn is_rectangular(&self) -> bool {
        *self == Self::Rectangular
    }

    /// What a stated width is divided by.
    pub fn divisor(self) -> &'static str {
        match self {
            Self::Rectangular => "√3",
            Self::Normal => "2",
        }
    }
}

/// What stands between what scatters and the moment at which it did.
const NOISE_AT: &str = " noise at ";

/// One error, whatever it moves: two values that are off by the same cause are off together.
#[derive(Clone, Debug, PartialEq)]
pub struct Cause {
    /// What errs, and with which part of it: `M1 size`, `ia offset`, `clock`.
    pub source: Name,
    /// How it is distributed.
    pub distribution: Distribution,
    /// Its standard uncertainty.
    pub standard: Value,
}

impl Cause {
    /// An error of this stated width.
    pub fn of(means: Means, source: impl Into<Name>, width: Value) -> Self {
        match means {
            Means::Limit => Self::limit(source, width),
            Means::Uncertainty => Self::expanded(source, width),
        }
    }

    /// An error within limits, anywhere as likely.
    pub fn limit(source: impl Into<Name>, width: Value) -> Self {
        let standard = width.times(1.0 / 3f64.sqrt());
        Self { source: source.into(), distribution: Distribution::Rectangular, standard }
    }

    /// An error that is stated with k = 2.
    pub fn expanded(source: impl Into<Name>, uncertainty: Value) -> Self {
        let standard = uncertainty.times(0.5);
        Self { source: source.into(), distribution: Distribution::Normal, standard }
    }

    /// The noise of one look at something, with a standard deviation; `at` tells the look.
    pub fn noise(id: &Name, at: f64, deviation: Value) -> Self {
        Self::scatter(format!("{id}{NOISE_AT}{at:.6} s"), deviation)
    }

    /// Whether another look has another one.
    pub(super) fn is_of_one_look(&self) -> bool {
        self.source.as_str().contains(NOISE_AT)
    }

    /// The same, for every look alike: noise is told without its moment.
    #[must_use]
    pub fn of_all_looks(&self) -> Self {
        let source = match self.source.as_str().split_once(NOISE_AT) {
            Some((id, _)) => format!("{id} noise").into(),
            None => self.source.clone(),
        };
        Self { source, ..self.clone() }
    }

    /// An error that scatters with a standard deviation.
    pub fn scatter(source: impl Into<Name>, deviation: Value) -> Self {
        let (source, distribution) = (source.into(), Distribution::Normal);
        Self { source, distribution, standard: deviation }
    }
}

/// What one cause adds to what a value is uncertain by: a row of its budget (JCGM 100:2008, 7.2).
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Part {
    /// What errs.
    pub source: Name,
    /// How it is distributed; rectangular where it is not written.
    #[serde(default, skip_serializing_if = "Distribution::is_rectangular")]
    pub distribution: Distribution,
    /// Its standard uncertainty.
    #[serde(flatten)]
    standard: Standard,
    /// By how much it moves the value: in the value's SI unit, for one of its own; 1 where it is not written.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub sensitivity: f64,
}

/// A standard uncertainty, at the edge a number whose key carries the unit: `standard_s`.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Standard(Value);

/// Its key without the unit.
const STANDARD: &str = "standard";

impl Serialize for Standard {
    fn serialize<S: Serializer>(&self, out: S) -> Result<S::Ok, S::Error> {
        let mut map = out.serialize_map(Some(1))?;
        self.0.write(STANDARD, &mut map)?;
        map.end()
    }
}

impl<'de> Deserialize<'de> for Standard {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let values = Values::deserialize(from)?;
        let found = values.iter().find(|(name, _)| *name == STANDARD);
        found.map(|(_, value)| Self(value)).ok_or_else(|| D::Error::missing_field(STANDARD))
    }
}

fn one() -> f64 {
    1.0
}

fn is_one(sensitivity: &f64) -> bool {
    *sensitivity == 1.0
}

impl Part {
    pub(super) fn of(cause: &Cause, sensitivity: f64) -> Self {
        Self {
            source: cause.source.clone(),
            distribution: cause.distribution,
            // A record holds no more digits than mean something, and what is read of it is what was graded by.
            standard: Standard(cause.standard.short()),
            sensitivity: short(sensitivity),
        }
    }

    /// What the value is uncertain by (standard) from this alone, in its SI unit.
    pub fn contribution(&self) -> f64 {
        (self.sensitivity * self.standard.0.si()).abs()
    }

    /// Its standard uncertainty.
    pub fn standard(&self) -> Value {
        self.standard.0
    }

    /// What it comes from.
    pub fn cause(&self) -> Cause {
        let (source, distribution) = (self.source.clone(), self.distribution);
        Cause { source, distribution, standard: self.standard() }
    }
}
