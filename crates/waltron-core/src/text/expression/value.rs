//! What an expression is worth, and of what kind it is.

use crate::quantity::fault_loop::FaultLoop;
use crate::quantity::{Dimension, Quantity};
use crate::text::name::Name;
use crate::uncertainty::Estimate;
use num_complex::Complex64;
use std::fmt;

/// A value.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// A quantity or a plain number.
    Quantity(Quantity),
    /// A quantity that was measured, or worked out from one that was.
    Measured(Measured),
    /// A magnitude at an angle.
    Phasor(PhasorValue),
    /// One phasor for each of the phases A, B, C.
    Phases([PhasorValue; 3]),
    /// True or false.
    Bool(bool),
    /// Text.
    Text(String),
    /// A fault loop.
    Loop(FaultLoop),
    /// A list of values of one kind.
    List(Vec<Value>),
    /// A quantity that is measured later and lies within bounds.
    Range(Range),
    /// A phasor, or three, that is worked out later, of at most this magnitude in SI.
    Bounded(Type, f64),
    /// Of this kind, but not known before something is measured.
    Unknown(Type),
    /// Of this kind, and not there though it was waited for or measured.
    Missing(Box<Missing>),
}

/// A measured quantity.
#[derive(Clone, Debug, PartialEq)]
pub struct Measured {
    /// Its value.
    pub value: Quantity,
    /// The same with what makes it uncertain, where the accuracy of what measured it is stated.
    pub estimate: Option<Estimate>,
}

/// Bounds of a quantity, in SI; an infinite one is none.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Range {
    /// The lowest value it can have.
    pub low: f64,
    /// The highest.
    pub high: f64,
    /// What it measures.
    pub dimension: Dimension,
}

/// Why a value is not there.
#[derive(Clone, Debug, PartialEq)]
pub struct Missing {
    /// What it would be.
    pub kind: Type,
    /// Whether what needs it has failed; else nothing is proven.
    pub fails: bool,
    /// Why it is not there.
    pub why: String,
}

impl Range {
    /// Everything that a quantity of this dimension can be.
    pub fn unbounded(dimension: Dimension) -> Self {
        Self { low: f64::NEG_INFINITY, high: f64::INFINITY, dimension }
    }

    /// One value.
    pub fn exactly(q: Quantity) -> Self {
        Self { low: q.si, high: q.si, dimension: q.dimension }
    }

    /// The smallest range that holds both.
    #[must_use]
    pub fn with(self, other: Self) -> Self {
        Self { low: self.low.min(other.low), high: self.high.max(other.high), ..self }
    }

    /// The largest magnitude in it.
    pub fn largest(self) -> f64 {
        self.low.abs().max(self.high.abs())
    }
}

/// A phasor whose dimension is known at run time. The magnitude and the angle are kept as written,
/// so that -120 deg stays -120 deg.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct PhasorValue {
    /// RMS value in SI.
    pub rms: f64,
    /// Angle in radians, counter-clockwise positive.
    pub angle: f64,
    /// What it measures.
    pub dimension: Dimension,
}

/// The kind of a value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Type {
    /// A quantity of this dimension.
    Quantity(Dimension),
    /// A phasor of this dimension.
    Phasor(Dimension),
    /// Three phasors of this dimension.
    Phases(Dimension),
    /// True or false.
    Bool,
    /// Text.
    Text,
    /// A fault loop.
    Loop,
    /// A list of values of one kind.
    List(Box<Type>),
    /// Whatever: what it was made of has been complained about already.
    Any,
}

impl Type {
    /// A plain number.
    pub const NUMBER: Self = Self::Quantity(Dimension::NUMBER);

    /// The types that parameters and answers can be declared to have.
    pub const DECLARED: [(&'static str, Self); 13] = [
        ("number", Self::NUMBER),
        ("current", Self::Quantity(Dimension::CURRENT)),
        ("voltage", Self::Quantity(Dimension::VOLTAGE)),
        ("time", Self::Quantity(Dimension::TIME)),
        ("angle", Self::Quantity(Dimension::ANGLE)),
        ("frequency", Self::Quantity(Dimension::FREQUENCY)),
        ("frequency_rate", Self::Quantity(Dimension::FREQUENCY_RATE)),
        ("resistance", Self::Quantity(Dimension::RESISTANCE)),
        ("power", Self::Quantity(Dimension::POWER)),
        ("temperature", Self::Quantity(Dimension::TEMPERATURE)),
        ("phasor_current", Self::Phasor(Dimension::CURRENT)),
        ("phasor_voltage", Self::Phasor(Dimension::VOLTAGE)),
        ("text", Self::Text),
    ];

    /// Finds a type by the word that declares it.
    pub fn declared(word: &str) -> Option<Self> {
        Self::DECLARED.iter().find(|(w, _)| *w == word).map(|(_, t)| t.clone())
    }

    /// Whether nothing is said about it, since what it was made of was complained about.
    pub fn is_any(&self) -> bool {
        *self == Self::Any
    }

    /// Some value of this type, to find out what an operation on it gives.
    pub(super) fn sample(&self) -> Value {
        let phasor =
            |dimension: &Dimension| PhasorValue { rms: 1.0, angle: 0.0, dimension: *dimension };
        match self {
            Self::Quantity(dimension) => {
                Value::Quantity(Quantity { si: 1.0, dimension: *dimension })
            }
            Self::Phasor(dimension) => Value::Phasor(phasor(dimension)),
            Self::Phases(dimension) => Value::Phases([phasor(dimension); 3]),
            Self::Bool => Value::Bool(true),
            Self::Text => Value::Text(String::new()),
            Self::Loop => Value::Loop(FaultLoop::ABC),
            Self::List(item) => Value::List(vec![item.sample()]),
            Self::Any => Value::Unknown(Self::Any),
        }
    }
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Quantity(dimension) => dimension.fmt(f),
            Self::Phasor(dimension) => write!(f, "a phasor of {}", bare(*dimension)),
            Self::Phases(dimension) => write!(f, "three phasors of {}", bare(*dimension)),
            Self::Bool => f.write_str("a condition"),
            Self::Text => f.write_str("text"),
            Self::Loop => f.write_str("a fault loop"),
            Self::List(_) => f.write_str("a list"),
            Self::Any => f.write_str("a value"),
        }
    }
}

/// A dimension's name without its article.
fn bare(dimension: Dimension) -> String {
    let name = dimension.to_string();
    let stripped = name.strip_prefix("an ").or_else(|| name.strip_prefix("a "));
    stripped.map(str::to_owned).unwrap_or(name)
}

impl PhasorValue {
    /// The complex RMS value.
    pub fn complex(self) -> Complex64 {
        Complex64::from_polar(self.rms, self.angle)
    }

    /// A magnitude at angle zero; `None` where it is negative.
    pub fn upright(q: Quantity) -> Option<Self> {
        (q.si >= 0.0).then_some(Self { rms: q.si, angle: 0.0, dimension: q.dimension })
    }

    /// Whether both its numbers are finite.
    pub fn is_finite(self) -> bool {
        self.rms.is_finite() && self.angle.is_finite()
    }

    /// A phasor from its complex RMS value.
    pub fn of(complex: Complex64, dimension: Dimension) -> Self {
        Self { rms: complex.norm(), angle: complex.arg(), dimension }
    }

    /// The phasor times a real factor of some dimension; a negative one turns it by half a turn.
    #[must_use]
    pub fn scaled(self, factor: f64, dimension: Dimension) -> Self {
        let turn = if factor < 0.0 { std::f64::consts::PI } else { 0.0 };
        Self { rms: self.rms * factor.abs(), angle: self.angle + turn, dimension }
    }
}

impl Value {
    /// A plain number.
    pub fn number(value: f64) -> Self {
        Self::Quantity(Quantity::number(value))
    }

    /// Its type.
    pub fn kind(&self) -> Type {
        match self {
            Self::Quantity(q) => Type::Quantity(q.dimension),
            Self::Phasor(p) => Type::Phasor(p.dimension),
            Self::Phases([p, ..]) => Type::Phases(p.dimension),
            Self::Bool(_) => Type::Bool,
            Self::Text(_) => Type::Text,
            Self::Loop(_) => Type::Loop,
            Self::List(items) => Type::List(Box::new(items.first().map_or(Type::Any, Self::kind))),
            Self::Measured(m) => Type::Quantity(m.value.dimension),
            Self::Range(r) => Type::Quantity(r.dimension),
            Self::Bounded(kind, _) | Self::Unknown(kind) => kind.clone(),
            Self::Missing(missing) => missing.kind.clone(),
        }
    }

    /// A value that is not there.
    pub fn missing(kind: Type, fails: bool, why: impl Into<String>) -> Self {
        Self::Missing(Box::new(Missing { kind, fails, why: why.into() }))
    }

    /// A value that is not known before something is measured: its bounds where it is a quantity.
    pub fn later(kind: Type) -> Self {
        match kind {
            Type::Quantity(dimension) => Self::Range(Range::unbounded(dimension)),
            kind => Self::Unknown(kind),
        }
    }

    /// What is known of a quantity.
    pub fn range(&self) -> Option<Range> {
        match self {
            Self::Quantity(q) => Some(Range::exactly(*q)),
            Self::Measured(m) => Some(Range::exactly(m.value)),
            Self::Range(r) => Some(*r),
            Self::Unknown(Type::Quantity(dimension)) => Some(Range::unbounded(*dimension)),
            _ => None,
        }
    }

    /// The largest magnitude that a phasor, or one of three, can have; infinite where nothing bounds it.
    pub fn most(&self) -> Option<f64> {
        match self {
            Self::Phasor(p) => Some(p.rms),
            Self::Phases(all) => Some(all.iter().map(|p| p.rms).fold(0.0, f64::max)),
            Self::Bounded(_, most) => Some(*most),
            Self::Unknown(Type::Phasor(_) | Type::Phases(_)) => Some(f64::INFINITY),
            other => other.range().map(Range::largest),
        }
    }

    /// What is known of either of two values of one kind.
    #[must_use]
    pub fn joined(&self, other: &Self) -> Self {
        if self == other {
            return self.clone();
        }
        match (self.range(), other.range()) {
            (Some(a), Some(b)) if a.dimension == b.dimension => return Self::Range(a.with(b)),
            _ => {}
        }
        let kind = self.kind();
        match (self.most(), other.most()) {
            (Some(a), Some(b)) if kind == other.kind() => Self::Bounded(kind, a.max(b)),
            _ if kind == other.kind() => Self::Unknown(kind),
            _ => Self::Unknown(Type::Any),
        }
    }

    /// The value without what is known of its uncertainty.
    #[must_use]
    pub fn plain(self) -> Self {
        match self {
            Self::Measured(m) => Self::Quantity(m.value),
            other => other,
        }
    }

    /// Whether it, or a part of it, is not known yet.
    pub fn is_unknown(&self) -> bool {
        match self {
            Self::Unknown(_) | Self::Range(_) | Self::Bounded(..) => true,
            Self::List(items) => items.iter().any(Self::is_unknown),
            _ => false,
        }
    }

    /// The quantity, where it is one.
    pub fn quantity(&self) -> Option<Quantity> {
        match self {
            Self::Quantity(q) => Some(*q),
            Self::Measured(m) => Some(m.value),
            _ => None,
        }
    }
}

impl fmt::Display for Value {
    /// As it reads in a message to the attendant.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Quantity(q) => q.fmt(f),
            Self::Phasor(p) => p.fmt(f),
            Self::Phases([a, b, c]) => write!(f, "{a}, {b}, {c}"),
            Self::Bool(b) => f.write_str(if *b { "yes" } else { "no" }),
            Self::Text(text) => f.write_str(text),
            Self::Loop(fault_loop) => f.write_str(fault_loop.name()),
            Self::List(items) => {
                for (i, item) in items.iter().enumerate() {
                    write!(f, "{}{item}", if i == 0 { "" } else { ", " })?;
                }
                Ok(())
            }
            Self::Measured(m) => m.value.fmt(f),
            Self::Range(_) | Self::Bounded(..) | Self::Unknown(_) => f.write_str("…"),
            Self::Missing(missing) => write!(f, "– ({})", missing.why),
        }
    }
}

impl fmt::Display for PhasorValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        Quantity { si: self.rms, dimension: self.dimension }.fmt(f)?;
        write!(f, " @ {}", Quantity { si: self.angle, dimension: Dimension::ANGLE })
    }
}

impl From<Quantity> for Value {
    fn from(q: Quantity) -> Self {
        Self::Quantity(q)
    }
}

/// A named value, as scripts and plans define it.
pub type Named = (Name, Value);
