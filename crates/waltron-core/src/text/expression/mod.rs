//! Expressions with units: numbers, phasors, arithmetic, functions, conditions, names.
//!
//! They stand wherever a value is expected, in sequences and in TOML files alike:
//! `1.1 * 51P.pickup`, `nominal.voltage / sqrt(3)`, `5 A @ -120 deg`. [`parse()`] makes the tree,
//! [`evaluate()`] its worth. Dimensions are checked on the way: adding a current and a time is a
//! mistake that names both.

mod ast;
mod evaluate;
mod functions;
mod interval;
mod parse;
mod settings;
#[cfg(test)]
mod tests;
mod token;
mod value;

pub use ast::{Binary, Event, Expr, ExprKind, Piece, Stage, Unary, Which};
pub use evaluate::{Names, NoNames, evaluate, not_there, quantity, wrong_kind};
pub use functions::FUNCTIONS;
pub use parse::{Cursor, OPERATORS, parse};
pub use settings::Settings;
pub use token::{Kind, Sign, Token, tokens};
pub use value::{Measured, Missing, Named, PhasorValue, Range, Type, Value};

/// Words of the sequence language, which therefore cannot name anything else.
pub const RESERVED: &[&str] = &[
    "and",
    "or",
    "not",
    "true",
    "false",
    "let",
    "hold",
    "ramp",
    "fault",
    "wait",
    "repeat",
    "for",
    "finally",
    "guard",
    "ask",
    "send",
    "run",
    "tell",
    "read",
    "set",
    "expect",
    "capture",
    "play",
    "playback",
    "sequence",
    "call",
    "if",
    "else",
    "end",
    "then",
    "until",
    "while",
    "at",
    "by",
    "every",
    "from",
    "to",
    "with",
    "after",
    "within",
    "is",
    "in",
    "as",
    "off",
    "stop",
    "fail",
    "between",
    "most",
    "times",
    "resting",
    "over",
    "inception",
    "offset",
    "go",
];
