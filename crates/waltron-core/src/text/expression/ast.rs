//! The tree of an expression.

use crate::quantity::Quantity;
use crate::quantity::fault_loop::FaultLoop;
use crate::text::name::Name;
use std::ops::Range;

/// An expression with its place.
#[derive(Clone, Debug)]
pub struct Expr {
    /// What it is.
    pub kind: ExprKind,
    /// Byte range in the text.
    pub span: Range<usize>,
}

impl PartialEq for Expr {
    /// Two expressions are equal if they mean the same, wherever they stand.
    fn eq(&self, other: &Self) -> bool {
        self.kind == other.kind
    }
}

/// Kinds of expression.
#[derive(Clone, Debug, PartialEq)]
pub enum ExprKind {
    /// A number, with its unit if it has one.
    Quantity {
        /// Its value.
        value: Quantity,
        /// Whether it is written in percent, which a tolerance tells from a plain number.
        percent: bool,
    },
    /// Text, with values to be filled in.
    Text(Vec<Piece>),
    /// A fault loop, such as `A-N`.
    Loop(FaultLoop),
    /// A name, dotted where it is a part of something: `load`, `51P.pickup`, `supply.current`.
    Name(Name),
    /// `-x` or `not x`.
    Unary(Unary, Box<Expr>),
    /// Two operands.
    Binary(Binary, Box<Expr>, Box<Expr>),
    /// A function of its arguments.
    Call(Name, Vec<Expr>),
    /// `[a, b, c]`.
    List(Vec<Expr>),
    /// `time(a -> b)`: from one event to the next other one.
    Interval(Box<Event>, Box<Event>),
}

/// A piece of a text.
#[derive(Clone, Debug, PartialEq)]
pub enum Piece {
    /// As it stands.
    Plain(String),
    /// `{value}`.
    Value(Expr),
}

/// Operators of one operand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unary {
    /// `-`.
    Minus,
    /// `not`.
    Not,
}

/// Operators of two operands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Binary {
    /// `+`.
    Add,
    /// `-`.
    Subtract,
    /// `*`.
    Multiply,
    /// `/`.
    Divide,
    /// `^`.
    Power,
    /// `@`: a magnitude at an angle.
    At,
    /// `<`.
    Less,
    /// `<=`.
    LessEqual,
    /// `>`.
    Greater,
    /// `>=`.
    GreaterEqual,
    /// `==`.
    Equal,
    /// `!=`.
    NotEqual,
    /// `and`.
    And,
    /// `or`.
    Or,
}

impl Binary {
    /// How it is written.
    pub fn sign(self) -> &'static str {
        match self {
            Self::Add => "+",
            Self::Subtract => "-",
            Self::Multiply => "*",
            Self::Divide => "/",
            Self::Power => "^",
            Self::At => "@",
            Self::Less => "<",
            Self::LessEqual => "<=",
            Self::Greater => ">",
            Self::GreaterEqual => ">=",
            Self::Equal => "==",
            Self::NotEqual => "!=",
            Self::And => "and",
            Self::Or => "or",
        }
    }

    /// Whether it compares two values.
    pub fn compares(self) -> bool {
        use Binary::{Equal, Greater, GreaterEqual, Less, LessEqual, NotEqual};
        matches!(self, Less | LessEqual | Greater | GreaterEqual | Equal | NotEqual)
    }
}

/// Something that happens at a moment of the last injection.
#[derive(Clone, Debug, PartialEq)]
pub enum Event {
    /// The fault begins.
    Inception,
    /// A contact changes.
    Contact {
        /// Its meaning.
        signal: Name,
        /// Whether it closes.
        closes: bool,
        /// Which of its changes.
        which: Which,
    },
    /// A stage of the injection begins, or a level of its ramp.
    Begin(Stage),
    /// A stage of the injection ends.
    End(Stage),
}

/// Which of several changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Which {
    /// The first one, at or after the event it is measured from.
    First,
    /// The last one.
    Last,
    /// The n-th one, counted from 1.
    Nth(u32),
}

/// A part of an injection.
#[derive(Clone, Debug, PartialEq)]
pub enum Stage {
    /// The stage with this label.
    Named(Name),
    /// The n-th level of the ramp, counted from 1.
    Level(u32),
}
