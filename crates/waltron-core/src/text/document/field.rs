//! Values as written in a file: text with its place, read later into typed quantities.
//!
//! Reading in a second step, rather than while deserialising, finds all wrong values of a file at
//! once and keeps each one's place.

use super::{Problem, Problems};
use crate::quantity::tolerance::{AnyTolerance, Tolerance, ToleranceError};
use crate::quantity::{self, Dimension, Measure, Quantity, Unit, significant};
use crate::text::expression::{self, Settings};
use crate::uncertainty::{Accuracy, AccuracyError, Means};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer};
use std::borrow::Cow;
use std::marker::PhantomData;
use std::ops::Range;
use toml::Spanned;

/// A value with its place.
pub trait Field {
    /// Where it was written.
    fn span(&self) -> Range<usize>;
}

/// Plain text.
#[derive(Clone, Debug, Deserialize)]
#[serde(transparent)]
pub struct Text(Spanned<String>);

impl Text {
    /// The text.
    pub fn as_str(&self) -> &str {
        self.0.get_ref()
    }

    /// The quantity that the text works out to, if it is more than one number with its unit.
    pub fn expression(&self, settings: &Settings) -> Option<Result<Quantity, Problem>> {
        expression_in(self.as_str())?;
        Some(read_quantity(&self.0, None, settings))
    }
}

impl Field for Text {
    fn span(&self) -> Range<usize> {
        self.0.span()
    }
}

impl JsonSchema for Text {
    fn inline_schema() -> bool {
        true
    }
    fn schema_name() -> Cow<'static, str> {
        "Text".into()
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string" })
    }
}

/// A quantity as text with its unit, such as `"1.2 A"`.
#[derive(Clone, Debug)]
pub struct QuantityText<Q> {
    text: Spanned<String>,
    kind: PhantomData<Q>,
}

impl<'de, Q> Deserialize<'de> for QuantityText<Q> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        Ok(Self { text: Spanned::deserialize(from)?, kind: PhantomData })
    }
}

impl<Q> Field for QuantityText<Q> {
    fn span(&self) -> Range<usize> {
        self.text.span()
    }
}

impl<Q: Measure> JsonSchema for QuantityText<Q> {
    fn inline_schema() -> bool {
        true
    }
    fn schema_name() -> Cow<'static, str> {
        format!("Quantity{:?}", Q::DIMENSION).into()
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        // The description is shown by editors while typing.
        let example = Unit::examples(Q::DIMENSION);
        json_schema!({
            "type": "string",
            super::shape::DIMENSION_KEY: Q::DIMENSION.exponents(),
            "$comment": format!("{}, for example {example}", Q::DIMENSION),
        })
    }
}

impl<Q: Measure> QuantityText<Q> {
    /// The quantity, or `None` with the problem noted.
    pub fn read(&self, problems: &mut Problems) -> Option<Q> {
        let read = read_quantity(&self.text, Some(Q::DIMENSION), &problems.settings);
        read.map(|q| Q::from_si(q.si)).map_err(|problem| problems.push(problem)).ok()
    }

    /// A quantity above zero.
    pub fn positive(&self, problems: &mut Problems) -> Option<Q> {
        let value = self.read(problems)?;
        if value.si() > 0.0 {
            return Some(value);
        }
        let written = self.text.get_ref();
        problems.push(Problem::new(self.span(), format!("`{written}` must be above zero")));
        None
    }

    /// A share or an error, above zero, with its `%`: a forgotten one makes it a hundred times as much.
    pub fn percentage(&self, problems: &mut Problems) -> Option<Q> {
        let value = self.positive(problems)?;
        match without_percent(self.text.get_ref()) {
            None => Some(value),
            Some(message) => {
                problems.push(Problem::new(self.span(), message));
                None
            }
        }
    }

    /// A quantity at or above zero.
    pub fn not_negative(&self, problems: &mut Problems) -> Option<Q> {
        let value = self.read(problems)?;
        if value.si() >= 0.0 {
            return Some(value);
        }
        let written = self.text.get_ref();
        problems.push(Problem::new(self.span(), format!("`{written}` must not be negative")));
        None
    }
}

/// What is wrong with a bare number where a percentage is meant.
fn without_percent(text: &str) -> Option<String> {
    let number = text.trim().parse::<f64>().ok()?;
    let percent = crate::quantity::significant(number * 100.0, 6);
    Some(format!("`{0}` has no %: it would be {percent} %; write `{0} %`", text.trim()))
}

/// Reads a quantity or an expression from a file's text; of one dimension, if one is wanted.
///
/// # Errors
/// The mistake, at its place in the file.
fn read_quantity(
    text: &Spanned<String>,
    wanted: Option<Dimension>,
    settings: &Settings,
) -> Result<Quantity, Problem> {
    let (written, span) = (text.get_ref(), text.span());
    let plain = match wanted {
        Some(dimension) => {
            quantity::parse_as(written, dimension).map(|si| Quantity { si, dimension })
        }
        None => Quantity::parse(written),
    };
    let error = match plain {
        Ok(value) => return Ok(value),
        Err(error) => error,
    };
    // What is no expression either was meant as a plain quantity.
    let Some(tree) = expression_in(written) else {
        return Err(Problem::quantity(span, &error));
    };
    // The text stands right behind its opening quote, if nothing in it is escaped.
    let exact = span.len() == written.len() + 2;
    let place = |problem: Problem| {
        if exact {
            problem.moved(span.start + 1)
        } else {
            Problem { span: span.clone(), ..problem }
        }
    };
    let value = match wanted {
        Some(dimension) => expression::quantity(&tree, dimension, settings).map_err(place)?,
        None => expression::evaluate(&tree, settings).map_err(place)?.quantity(),
    };
    value.ok_or_else(|| Problem::new(span.clone(), format!("`{written}` is no quantity")))
}

/// The tree of a text that is more than one number with its unit.
pub(super) fn expression_in(text: &str) -> Option<expression::Expr> {
    // A plain quantity, with its sign, and what only looks like a number are told in their own words.
    if matches!(Quantity::parse(text), Ok(_) | Err(quantity::QuantityError::NotFinite { .. })) {
        return None;
    }
    let tree = expression::parse(text).ok()?;
    (!matches!(tree.kind, expression::ExprKind::Quantity { .. })).then_some(tree)
}

/// A quantity of any kind, or an expression.
#[derive(Clone, Debug, Deserialize)]
#[serde(transparent)]
pub struct AnyQuantityText(Spanned<String>);

impl Field for AnyQuantityText {
    fn span(&self) -> Range<usize> {
        self.0.span()
    }
}

impl JsonSchema for AnyQuantityText {
    fn inline_schema() -> bool {
        true
    }
    fn schema_name() -> Cow<'static, str> {
        "AnyQuantity".into()
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "$comment": "a quantity with its unit, or an expression" })
    }
}

impl AnyQuantityText {
    /// As it is written.
    pub fn text(&self) -> &str {
        self.0.get_ref()
    }

    /// The quantity, or `None` with the problem noted.
    pub fn read(&self, problems: &mut Problems) -> Option<Quantity> {
        let read = read_quantity(&self.0, None, &problems.settings);
        read.map_err(|problem| problems.push(problem)).ok()
    }

    /// A quantity of one dimension.
    pub fn of(&self, wanted: Dimension, problems: &mut Problems) -> Option<Quantity> {
        let read = read_quantity(&self.0, Some(wanted), &problems.settings);
        read.map_err(|problem| problems.push(problem)).ok()
    }

    /// A quantity of one dimension, above zero.
    pub fn positive_of(&self, wanted: Dimension, problems: &mut Problems) -> Option<Quantity> {
        let value = self.of(wanted, problems)?;
        if value.si > 0.0 {
            return Some(value);
        }
        let message = format!("`{}` must be above zero", self.0.get_ref());
        problems.push(Problem::new(self.span(), message));
        None
    }
}

/// A tolerance of any kind of value as text.
#[derive(Clone, Debug, Deserialize)]
#[serde(transparent)]
pub struct AnyToleranceText(Spanned<String>);

impl JsonSchema for AnyToleranceText {
    fn inline_schema() -> bool {
        true
    }
    fn schema_name() -> Cow<'static, str> {
        "AnyTolerance".into()
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "$comment": "a tolerance: `5 %`, `5 % or …`" })
    }
}

impl Field for AnyToleranceText {
    fn span(&self) -> Range<usize> {
        self.0.span()
    }
}

impl<Q> Field for ToleranceText<Q> {
    fn span(&self) -> Range<usize> {
        self.text.span()
    }
}

impl AnyToleranceText {
    /// The tolerance of values of a dimension, or `None` with the problem noted; of a number it is a percentage.
    pub fn read(&self, of: Dimension, problems: &mut Problems) -> Option<AnyTolerance> {
        let bare = without_percent(self.0.get_ref()).filter(|_| of == Dimension::NUMBER);
        if let Some(message) = bare {
            problems.push(Problem::new(self.span(), message));
            return None;
        }
        read_tolerance(&self.0, of, problems)
    }
}

/// An accuracy as text, such as `"0.1 % + 1 mV"` or `"0.1 % (k = 2)"`.
#[derive(Clone, Debug, Deserialize)]
#[serde(transparent)]
pub struct AccuracyText(Spanned<String>);

impl JsonSchema for AccuracyText {
    fn inline_schema() -> bool {
        true
    }
    fn schema_name() -> Cow<'static, str> {
        "Accuracy".into()
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({
            "type": "string",
            "$comment": "an accuracy: `0.1 %`, `0.1 % or …`, `0.1 % + …`; `(limit)` or `(k = 2)` behind it says what it means",
        })
    }
}

impl Field for AccuracyText {
    fn span(&self) -> Range<usize> {
        self.0.span()
    }
}

impl AccuracyText {
    /// The accuracy of values of a dimension, or `None` with the problem noted; it means what is usual where its text
    /// does not say.
    pub fn read(&self, of: Dimension, usual: Means, problems: &mut Problems) -> Option<Accuracy> {
        let told = |error: AccuracyError| Problem {
            help: error.help(),
            ..Problem::new(self.span(), error.to_string())
        };
        let (width, means) = match Accuracy::split(self.0.get_ref()) {
            Ok((width, said)) => (width, said.unwrap_or(usual)),
            Err(error) => {
                problems.push(told(error));
                return None;
            }
        };
        let width = AnyToleranceText(Spanned::new(self.span(), width.to_owned()));
        let accuracy = Accuracy::of(width.read(of, problems)?, means);
        accuracy.map_err(|error| problems.push(told(error))).ok()
    }
}

/// Reads a tolerance whose parts may be worked out: `2 % or 0.005 * nominal.current`.
fn read_tolerance(
    text: &Spanned<String>,
    of: Dimension,
    problems: &mut Problems,
) -> Option<AnyTolerance> {
    /// Mistakes of a part have their own place.
    enum Mistake {
        Tolerance(ToleranceError),
        Part(Problem),
    }
    impl From<ToleranceError> for Mistake {
        fn from(error: ToleranceError) -> Self {
            Self::Tolerance(error)
        }
    }
    let settings = &problems.settings;
    let read = AnyTolerance::parse_by(text.get_ref(), of, &mut |part, wanted| {
        let part = Spanned::new(text.span(), part.trim().to_owned());
        read_quantity(&part, wanted, settings).map_err(Mistake::Part)
    });
    let problem = read.map_err(|mistake| match mistake {
        Mistake::Part(problem) => problem,
        Mistake::Tolerance(error) => {
            Problem { help: error.help(), ..Problem::new(text.span(), error.to_string()) }
        }
    });
    problem.map_err(|problem| problems.push(problem)).ok()
}

/// A tolerance as text, such as `"5 % or 40 ms"`.
#[derive(Clone, Debug)]
pub struct ToleranceText<Q> {
    text: Spanned<String>,
    kind: PhantomData<Q>,
}

impl<'de, Q> Deserialize<'de> for ToleranceText<Q> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        Ok(Self { text: Spanned::deserialize(from)?, kind: PhantomData })
    }
}

impl<Q: Measure> JsonSchema for ToleranceText<Q> {
    fn inline_schema() -> bool {
        true
    }
    fn schema_name() -> Cow<'static, str> {
        format!("Tolerance{:?}", Q::DIMENSION).into()
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({
            "type": "string",
            "$comment": format!("tolerance of {}: `5 %`, `5 % or …`, `5 % + …`, `+5 % / -0 %`", Q::DIMENSION),
        })
    }
}

impl<Q: Measure> ToleranceText<Q> {
    /// The tolerance, or `None` with the problem noted.
    pub fn read(&self, problems: &mut Problems) -> Option<Tolerance<Q>> {
        read_tolerance(&self.text, Q::DIMENSION, problems).and_then(Tolerance::of)
    }
}

/// A plain number, written bare (`0.3`) or as text (`"0.3"`).
#[derive(Clone, Debug, Deserialize)]
#[serde(transparent)]
pub struct Number(Spanned<NumberText>);

#[derive(Clone, Debug)]
struct NumberText(String);

impl<'de> Deserialize<'de> for NumberText {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl serde::de::Visitor<'_> for Visitor {
            type Value = NumberText;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a number")
            }
            fn visit_i64<E>(self, v: i64) -> Result<NumberText, E> {
                Ok(NumberText(v.to_string()))
            }
            fn visit_f64<E>(self, v: f64) -> Result<NumberText, E> {
                Ok(NumberText(v.to_string()))
            }
            fn visit_str<E>(self, v: &str) -> Result<NumberText, E> {
                Ok(NumberText(v.to_owned()))
            }
        }
        from.deserialize_any(Visitor)
    }
}

impl Field for Number {
    fn span(&self) -> Range<usize> {
        self.0.span()
    }
}

impl JsonSchema for Number {
    fn inline_schema() -> bool {
        true
    }
    fn schema_name() -> Cow<'static, str> {
        "Number".into()
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": ["number", "string"] })
    }
}

impl Number {
    /// The number, or `None` with the problem noted.
    pub fn read(&self, problems: &mut Problems) -> Option<f64> {
        let text = &self.0.get_ref().0;
        if expression_in(text).is_some() {
            let spanned = Spanned::new(self.span(), text.clone());
            let read = read_quantity(&spanned, Some(Dimension::NUMBER), &problems.settings);
            return read.map(|q| q.si).map_err(|problem| problems.push(problem)).ok();
        }
        match quantity::Quantity::parse(text) {
            Ok(q) if q.dimension == Dimension::NUMBER => Some(q.si),
            Ok(q) => {
                let message = format!("`{text}` is {}, but a plain number is wanted", q.dimension);
                problems.push(Problem::new(self.span(), message));
                None
            }
            Err(error) => {
                problems.push(Problem::new(self.span(), error.to_string()));
                None
            }
        }
    }

    /// A number above zero.
    pub fn positive(&self, problems: &mut Problems) -> Option<f64> {
        let value = self.read(problems)?;
        if value > 0.0 {
            return Some(value);
        }
        let written = significant(value, 6);
        problems.push(Problem::new(self.span(), format!("{written} must be above zero")));
        None
    }
}
