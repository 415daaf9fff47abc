//! What makes values uncertain: causes, and what each of them adds to a result.

use super::Means;
use crate::grading::{Value, Values};
use crate::text::name::Name;
use serde::{Deserialize, Serialize};

/// How likely an error is anywhere within what it may be.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Distribution {
    /// Anywhere within limits as likely (JCGM 100:2008, 4.3.7): a standard uncertainty is a limit over √3.
    Rectangular,
    /// Stated as an uncertainty with k = 2 (JCGM 100:2008, 4.3.3), or seen to scatter (4.2).
    Normal,
}

impl Distribution {
    /// What a stated width is divided by.
    pub fn divisor(self) -> &'static str {
        match self {
            Self::Rectangular => "√3",
            Self::Normal => "2",
        }
    }
}

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
    /// How it is distributed.
    pub distribution: Distribution,
    /// Its standard uncertainty, named `standard`.
    #[serde(flatten)]
    standard: Values,
    /// By how much it moves the value: in the value's SI unit, for one of its own.
    pub sensitivity: f64,
    /// What the value is uncertain by (standard) from this alone, in its SI unit.
    pub contribution: f64,
}

impl Part {
    pub(super) fn of(cause: &Cause, sensitivity: f64) -> Self {
        Self {
            source: cause.source.clone(),
            distribution: cause.distribution,
            standard: Values::none().with_value("standard", cause.standard),
            sensitivity,
            contribution: (sensitivity * cause.standard.si()).abs(),
        }
    }

    /// Its standard uncertainty.
    pub fn standard(&self) -> Option<Value> {
        self.standard.iter().next().map(|(_, value)| value)
    }

    /// What it comes from. The written standard uncertainty is rounded; what follows from it must not hang on that.
    pub fn cause(&self) -> Option<Cause> {
        let (source, distribution) = (self.source.clone(), self.distribution);
        let standard = match self.sensitivity.abs() {
            0.0 => self.standard()?,
            by => self.standard()?.with_si(self.contribution / by),
        };
        Some(Cause { source, distribution, standard })
    }
}
