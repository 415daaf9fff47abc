//! Tolerances: how far a measured value may lie from the expected one.
//!
//! Written as `"5 %"`, `"40 ms"`, `"5 % or 40 ms"` (the larger), `"5 % + 40 ms"` (the sum), or
//! one-sided `"+5 % / -0 %"`. A percentage is of the value that the tolerance is applied to.

use crate::quantity::{Dimension, Measure, Quantity, QuantityError, significant};
use std::fmt;
use std::marker::PhantomData;

/// How a relative and an absolute part work together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Combine {
    /// Whichever is larger.
    Larger,
    /// Both added.
    Sum,
}

/// One side of a tolerance; both parts are at least zero.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Side {
    /// Share of the value.
    pub relative: f64,
    /// In the SI unit of the value.
    pub absolute: f64,
    /// How the two work together.
    pub combine: Combine,
}

impl Side {
    /// The width at a value, in the value's SI unit.
    fn at(self, si: f64) -> f64 {
        let relative = self.relative * si.abs();
        match self.combine {
            Combine::Larger => relative.max(self.absolute),
            Combine::Sum => relative + self.absolute,
        }
    }

    fn text(self, dimension: Dimension) -> String {
        let percent = format!("{} %", significant(self.relative * 100.0, 6));
        let absolute = || Quantity { si: self.absolute, dimension }.exact();
        match (self.relative > 0.0, self.absolute > 0.0, self.combine) {
            (_, false, _) => percent,
            (false, true, _) => absolute(),
            (true, true, Combine::Larger) => format!("{percent} or {}", absolute()),
            (true, true, Combine::Sum) => format!("{percent} + {}", absolute()),
        }
    }
}

/// A tolerance of values whose dimension is known at run time.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct AnyTolerance {
    /// What it is a tolerance of.
    pub dimension: Dimension,
    /// How far below.
    pub below: Side,
    /// How far above.
    pub above: Side,
}

impl AnyTolerance {
    /// The same above and below: the sum of a share and of a value in SI.
    pub fn symmetric(dimension: Dimension, relative: f64, absolute: f64) -> Self {
        let side = Side { relative, absolute, combine: Combine::Sum };
        Self { dimension, below: side, above: side }
    }

    /// Reads a tolerance's text.
    ///
    /// # Errors
    /// [`ToleranceError`]: a part that is no quantity of this kind, negative parts, a missing side.
    pub fn parse(text: &str, dimension: Dimension) -> Result<Self, ToleranceError> {
        Self::parse_by(text, dimension, &mut |part, wanted| match wanted {
            Some(dimension) => {
                let si = crate::quantity::parse_as(part, dimension)?;
                Ok(Quantity { si, dimension })
            }
            None => Ok(Quantity::parse(part)?),
        })
    }

    /// Reads a tolerance's text, whose parts somebody else can read: of any dimension, or of one.
    ///
    /// # Errors
    /// As [`AnyTolerance::parse`], and what the reader says.
    pub fn parse_by<E: From<ToleranceError>>(
        text: &str,
        dimension: Dimension,
        read: &mut PartReader<'_, E>,
    ) -> Result<Self, E> {
        let Some((first, second)) = sides(text) else {
            // One side alone leaves the other open to guessing.
            if text.trim_start().starts_with('+') {
                return Err(ToleranceError::Sides(text.trim().to_owned()).into());
            }
            let side = parse_side(text, dimension, read)?;
            return Ok(Self { dimension, below: side, above: side });
        };
        let (mut above, mut below) = (None, None);
        for part in [first.trim(), second.trim()] {
            if let Some(rest) = part.strip_prefix('+') {
                above = Some(parse_side(rest, dimension, read)?);
            } else if let Some(rest) = part.strip_prefix(['-', '−']) {
                below = Some(parse_side(rest, dimension, read)?);
            }
        }
        match (below, above) {
            (Some(below), Some(above)) => Ok(Self { dimension, below, above }),
            _ => Err(ToleranceError::Sides(text.trim().to_owned()).into()),
        }
    }

    /// The lowest and the highest value, in SI, still within tolerance of a value in SI.
    pub fn limits(&self, si: f64) -> (f64, f64) {
        (si - self.below.at(si), si + self.above.at(si))
    }
}

/// Reads a part of a tolerance: a quantity of any kind, or of the one that is wanted.
pub type PartReader<'r, E> = dyn FnMut(&str, Option<Dimension>) -> Result<Quantity, E> + 'r;

/// A tolerance band around a value of type `Q`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Tolerance<Q> {
    below: Side,
    above: Side,
    of: PhantomData<Q>,
}

/// Why a tolerance could not be read.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum ToleranceError {
    /// One of its parts is no quantity of the right kind.
    #[error(transparent)]
    Part(#[from] QuantityError),
    /// A part is negative without being the lower side.
    #[error("a tolerance cannot be negative: `{0}`")]
    Negative(String),
    /// `/` without exactly one `+` and one `-` side.
    #[error("`{0}` needs one `+` side and one `-` side, like `+5 % / -0 %`")]
    Sides(String),
    /// Two relative or two absolute parts in one side.
    #[error("`{0}` has two parts of the same kind; write one percentage and one absolute value")]
    SameKind(String),
}

impl ToleranceError {
    /// The way out, where the message alone does not tell it.
    pub fn help(&self) -> Option<String> {
        match self {
            Self::Part(part) => part.help(),
            _ => Some("tolerances read like `5 % or 40 ms`, `5 % + 40 ms`, `+5 % / -0 %`".into()),
        }
    }
}

impl<Q: Measure> Tolerance<Q> {
    /// The same tolerance above and below: the larger of a share and an absolute value.
    pub fn larger_of(relative: f64, absolute: Q) -> Self {
        let side = Side { relative, absolute: absolute.si(), combine: Combine::Larger };
        Self { below: side, above: side, of: PhantomData }
    }

    /// Nothing below, and so much above.
    pub fn up_to(above: Q) -> Self {
        let side = |absolute| Side { relative: 0.0, absolute, combine: Combine::Larger };
        Self { below: side(0.0), above: side(above.si()), of: PhantomData }
    }

    /// Reads a tolerance's text.
    ///
    /// # Errors
    /// [`ToleranceError`]: a part that is no quantity of this kind, negative parts, a missing side.
    pub fn parse(text: &str) -> Result<Self, ToleranceError> {
        let AnyTolerance { below, above, .. } = AnyTolerance::parse(text, Q::DIMENSION)?;
        Ok(Self { below, above, of: PhantomData })
    }

    /// The lowest value still within tolerance of `value`.
    pub fn lower(&self, value: Q) -> Q {
        Q::from_si(value.si() - self.below.at(value.si()))
    }

    /// The highest value still within tolerance of `value`.
    pub fn upper(&self, value: Q) -> Q {
        Q::from_si(value.si() + self.above.at(value.si()))
    }

    /// A tolerance whose dimension was known at run time only; none where it is another one.
    pub fn of(any: AnyTolerance) -> Option<Self> {
        let AnyTolerance { dimension, below, above } = any;
        (dimension == Q::DIMENSION).then_some(Self { below, above, of: PhantomData })
    }

    /// The same tolerance with its dimension known at run time.
    pub fn any(&self) -> AnyTolerance {
        AnyTolerance { dimension: Q::DIMENSION, below: self.below, above: self.above }
    }
}

/// The two sides of a tolerance: what stands before and behind a `/` that a sign follows. Other ones
/// belong to units, as in `0.05 Hz/s`.
fn sides(text: &str) -> Option<(&str, &str)> {
    let slashes = text.match_indices('/').map(|(at, _)| (&text[..at], &text[at + 1..]));
    let mut both = slashes.filter(|(_, rest)| rest.trim_start().starts_with(['+', '-', '−']));
    both.next()
}

fn parse_side<E: From<ToleranceError>>(
    text: &str,
    dimension: Dimension,
    read: &mut PartReader<'_, E>,
) -> Result<Side, E> {
    let (combine, parts): (_, Vec<&str>) = if let Some((a, b)) = text.split_once(" or ") {
        (Combine::Larger, vec![a, b])
    } else if let Some((a, b)) = text.split_once('+').filter(|(a, _)| !a.trim().is_empty()) {
        (Combine::Sum, vec![a, b])
    } else {
        (Combine::Larger, vec![text])
    };
    let (mut relative, mut absolute) = (None, None);
    for part in parts {
        // A bare number is not a share: people write `5` and mean either.
        let quantity = read(part, None)?;
        if quantity.si < 0.0 {
            return Err(ToleranceError::Negative(part.trim().to_owned()).into());
        }
        let share = part.trim_end().ends_with('%');
        let (slot, value) = if share {
            (&mut relative, quantity.si)
        } else {
            (&mut absolute, read(part, Some(dimension))?.si)
        };
        if slot.replace(value).is_some() {
            return Err(ToleranceError::SameKind(text.trim().to_owned()).into());
        }
    }
    Ok(Side { relative: relative.unwrap_or(0.0), absolute: absolute.unwrap_or(0.0), combine })
}

impl fmt::Display for AnyTolerance {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (below, above) = (self.below.text(self.dimension), self.above.text(self.dimension));
        if self.below == self.above {
            f.write_str(&above)
        } else {
            write!(f, "+{above} / -{below}")
        }
    }
}

impl<Q: Measure> fmt::Display for Tolerance<Q> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.any().fmt(f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::{Current, Time, amperes, seconds};
    use proptest::prelude::*;

    fn time_band(text: &str, at_s: f64) -> (f64, f64) {
        let t = Tolerance::<Time>::parse(text).unwrap();
        (t.lower(seconds(at_s)).si(), t.upper(seconds(at_s)).si())
    }

    #[test]
    fn every_form_gives_its_band() {
        let near =
            |a: (f64, f64), b: (f64, f64)| (a.0 - b.0).abs() < 1e-12 && (a.1 - b.1).abs() < 1e-12;
        assert!(near(time_band("5 %", 2.0), (1.9, 2.1)));
        assert!(near(time_band("40 ms", 2.0), (1.96, 2.04)));
        assert!(near(time_band("5 % or 40 ms", 2.0), (1.9, 2.1)));
        assert!(near(time_band("5 % or 40 ms", 0.2), (0.16, 0.24)));
        assert!(near(time_band("5 % + 40 ms", 2.0), (1.86, 2.14)));
        assert!(near(time_band("+5 % / -0 %", 2.0), (2.0, 2.1)));
        assert!(near(time_band("-10 ms / +5 % or 40 ms", 2.0), (1.99, 2.1)));
    }

    #[test]
    fn refuses_what_has_no_one_meaning() {
        let message = |text: &str| Tolerance::<Current>::parse(text).unwrap_err().to_string();
        assert!(message("5").contains("no unit"));
        assert!(message("-5 %").contains("negative"));
        assert!(message("40 ms").contains("a time, but a current"));
        assert!(message("5 % or 3 %").contains("same kind"));
        assert!(message("+5 % / +1 %").contains("one `-` side"));
        assert!(message("+5 %").contains("one `-` side"));
        assert!(message("+5 % /").contains("one `-` side"));
        assert!(message("5 x").contains("a plain number"));
    }

    proptest! {
        #[test]
        fn text_round_trips(r in 0u32..50, ms in 0u32..500, sum: bool, one_sided: bool) {
            let side = Side { relative: f64::from(r) / 100.0, absolute: f64::from(ms) / 1000.0,
                combine: if sum && r > 0 && ms > 0 { Combine::Sum } else { Combine::Larger } };
            let other = Side { relative: 0.01, absolute: 0.0, combine: Combine::Larger };
            let t = Tolerance::<Time> { below: if one_sided { other } else { side }, above: side, of: PhantomData };
            let back = Tolerance::<Time>::parse(&t.to_string()).unwrap();
            for s in [0.01, 1.0, 7.0] {
                prop_assert!((back.upper(seconds(s)).si() - t.upper(seconds(s)).si()).abs() < 1e-9);
                prop_assert!((back.lower(seconds(s)).si() - t.lower(seconds(s)).si()).abs() < 1e-9);
            }
        }

        #[test]
        fn the_value_lies_in_its_band(v in 1e-3f64..1e3) {
            let t = Tolerance::larger_of(0.03, amperes(0.01));
            prop_assert!(t.lower(amperes(v)) < amperes(v) && amperes(v) < t.upper(amperes(v)));
        }
    }
}
