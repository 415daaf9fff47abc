//! Stated accuracies, and what they mean.

use crate::quantity::tolerance::{AnyTolerance, Combine, Tolerance, ToleranceError};
use crate::quantity::{Dimension, Measure};
use std::fmt;

/// What a stated accuracy means.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Means {
    /// A limit that no error exceeds, as data sheets state it; anywhere within it is as likely (JCGM 100:2008, 4.3.7).
    #[default]
    Limit,
    /// An expanded uncertainty with the coverage factor k = 2, as calibration certificates state it (JCGM 100:2008,
    /// 4.3.3).
    Uncertainty,
}

impl Means {
    /// The standard uncertainty that a stated width stands for.
    pub fn standard(self, width: f64) -> f64 {
        match self {
            Self::Limit => width / 3f64.sqrt(),
            Self::Uncertainty => width / 2.0,
        }
    }
}

/// How well something is put out or measured, as it was stated: `0.1 % + 1 mV`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Accuracy {
    width: AnyTolerance,
    /// What that width means.
    pub means: Means,
}

/// How wide an accuracy is at a value, in SI. Both parts are errors of their own, each of which stays what it is
/// while the value changes.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Width {
    /// The part that grows with the value, and has its sign.
    pub size: f64,
    /// The part that is there at any value.
    pub offset: f64,
}

impl Width {
    /// Both together.
    pub fn total(self) -> f64 {
        self.size + self.offset
    }
}

/// Why an accuracy could not be read.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum AccuracyError {
    /// It is no width.
    #[error(transparent)]
    Tolerance(#[from] ToleranceError),
    /// What stands in parentheses is not what it can mean.
    #[error("`({0})` is not what an accuracy can mean")]
    Means(String),
    /// It says twice what it means.
    #[error("what `{0}` means is said twice")]
    Twice(String),
    /// Its two sides differ.
    #[error("an accuracy is as wide above as below, and `{0}` is not")]
    Sides(String),
    /// A share of more than the whole value.
    #[error("an accuracy of {0} % says nothing: 100 % is the most")]
    Share(f64),
}

impl AccuracyError {
    /// The way out, where the message alone does not tell it.
    pub fn help(&self) -> Option<String> {
        match self {
            Self::Tolerance(error) => error.help(),
            Self::Means(_) | Self::Twice(_) => Some(
                "write `0.1 % + 1 mV` or `0.1 % (limit)` for a limit, `0.1 % (k = 2)` for an uncertainty".into(),
            ),
            Self::Sides(_) | Self::Share(_) => {
                Some("accuracies read like `0.1 %`, `0.05 % + 1 mV`, `0.1 % or 1 mA`".into())
            }
        }
    }
}

impl Accuracy {
    /// Without any error.
    pub fn exact(dimension: Dimension) -> Self {
        Self::limit(AnyTolerance::symmetric(dimension, 0.0, 0.0))
    }

    /// A limit that no error exceeds.
    pub fn limit(width: AnyTolerance) -> Self {
        Self { width, means: Means::Limit }
    }

    /// The same width, meaning something else.
    #[must_use]
    pub fn meaning(self, means: Means) -> Self {
        Self { means, ..self }
    }

    /// Takes what it means from its text, such as `0.1 % + 1 mV (k = 2)`; the rest, which is its width, and what was
    /// said, if anything.
    ///
    /// # Errors
    /// What stands in parentheses and has no meaning, or is there twice.
    pub fn split(text: &str) -> Result<(&str, Option<Means>), AccuracyError> {
        let Some(before) = text.trim().strip_suffix(')') else { return Ok((text, None)) };
        let Some((width, said)) = before.rsplit_once('(') else { return Ok((text, None)) };
        let said = said.trim();
        let plain: String = said.chars().filter(|c| !c.is_whitespace()).collect();
        let means = match plain.as_str() {
            "limit" => Means::Limit,
            "k=2" => Means::Uncertainty,
            _ => return Err(AccuracyError::Means(said.to_owned())),
        };
        match width.trim_end().ends_with(')') {
            true => Err(AccuracyError::Twice(text.trim().to_owned())),
            false => Ok((width, Some(means))),
        }
    }

    /// An accuracy of this width.
    ///
    /// # Errors
    /// [`AccuracyError::Sides`] and [`AccuracyError::Share`].
    pub fn of(width: AnyTolerance, means: Means) -> Result<Self, AccuracyError> {
        if width.below != width.above {
            return Err(AccuracyError::Sides(width.to_string()));
        }
        match width.above.relative {
            share if share > 1.0 => Err(AccuracyError::Share(share * 100.0)),
            _ => Ok(Self { width, means }),
        }
    }

    /// How wide it is at a value in SI. Of `a or b` the larger one goes with the value.
    pub fn width(&self, si: f64) -> Width {
        let side = self.width.above;
        let relative = side.relative * si.abs();
        match side.combine {
            Combine::Larger if side.relative > 0.0 => {
                Width { size: relative.max(side.absolute), offset: 0.0 }
            }
            _ => Width { size: relative, offset: side.absolute },
        }
    }

    /// A share and an amount in SI that together are never wider than it: of `a or b` half of each.
    pub fn linear(&self) -> (f64, f64) {
        let side = self.width.above;
        let is_larger = side.combine == Combine::Larger && side.relative * side.absolute > 0.0;
        let part = if is_larger { 0.5 } else { 1.0 };
        (side.relative * part, side.absolute * part)
    }

    /// The standard uncertainty of a value in SI.
    pub fn standard(&self, si: f64) -> f64 {
        let Width { size, offset } = self.width(si);
        self.means.standard(size).hypot(self.means.standard(offset))
    }

    /// The expanded uncertainty (k = 2) of a value in SI.
    pub fn expanded(&self, si: f64) -> f64 {
        2.0 * self.standard(si)
    }

    /// The most that a value in SI can be off by: of an uncertainty, three standard ones.
    pub fn most(&self, si: f64) -> f64 {
        match self.means {
            Means::Limit => self.width(si).total(),
            Means::Uncertainty => 1.5 * self.width(si).total(),
        }
    }
}

impl From<AnyTolerance> for Accuracy {
    fn from(width: AnyTolerance) -> Self {
        Self::limit(width)
    }
}

impl<Q: Measure> From<Tolerance<Q>> for Accuracy {
    fn from(width: Tolerance<Q>) -> Self {
        Self::limit(width.any())
    }
}

impl fmt::Display for Accuracy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.means {
            Means::Limit => self.width.fmt(f),
            Means::Uncertainty => write!(f, "{} (k = 2)", self.width),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Result<Accuracy, AccuracyError> {
        let (width, said) = Accuracy::split(text)?;
        Accuracy::of(AnyTolerance::parse(width, Dimension::VOLTAGE)?, said.unwrap_or_default())
    }

    /// JCGM 100:2008, 4.3.7: a limit a is a standard uncertainty of a/√3; 4.3.3: of U with k = 2 the half.
    #[test]
    fn a_limit_and_an_uncertainty_are_not_the_same() {
        let limit = read("0.1 % + 30 mV").unwrap();
        assert_eq!(limit.width(-40.0), Width { size: 0.04, offset: 0.03 });
        assert!((limit.standard(40.0) - 0.05 / 3f64.sqrt()).abs() < 1e-12);
        assert!((limit.expanded(40.0) - 0.1 / 3f64.sqrt()).abs() < 1e-12);
        assert!((limit.most(40.0) - 0.07).abs() < 1e-12);
        let stated = read("0.1 % + 30 mV (k = 2)").unwrap();
        assert!((stated.expanded(40.0) - 0.05).abs() < 1e-12);
        assert!((stated.most(40.0) - 0.105).abs() < 1e-12);
        let larger = read("0.1 % or 30 mV (limit)").unwrap();
        assert_eq!(larger.width(40.0), Width { size: 0.04, offset: 0.0 });
        assert_eq!(larger.width(20.0), Width { size: 0.03, offset: 0.0 });
        assert_eq!(read("30 mV").unwrap().width(20.0), Width { size: 0.0, offset: 0.03 });
        for text in ["0.1 % + 30 mV", "0.1 % or 30 mV (k = 2)"] {
            assert_eq!(read(text).unwrap().to_string(), text);
        }
        assert_eq!(Accuracy::exact(Dimension::VOLTAGE).most(100.0), 0.0);
    }

    #[test]
    fn what_is_no_accuracy_is_told() {
        let told = |text: &str| read(text).unwrap_err().to_string();
        assert!(told("0.1").contains("no unit"));
        assert!(told("-1 %").contains("negative"));
        assert!(told("101 %").contains("100 % is the most"));
        assert!(told("+1 % / -0 %").contains("as wide above as below"));
        assert!(told("1 % (k = 2) (k = 2)").contains("said twice"));
        assert!(told("1 % (k = 3)").contains("`(k = 3)` is not what"));
        assert!(read("1 % (k = 3)").unwrap_err().help().unwrap().contains("(k = 2)"));
    }
}
