//! What a test does besides putting something out.

use super::Question;
use crate::quantity::{Quantity, Voltage};
use crate::text::expression::Range;
use crate::text::name::Name;
use std::fmt;

/// What a test does besides putting something out.
#[derive(Clone, Debug, PartialEq)]
pub enum Also {
    /// It switches a parameter of the rig.
    Switches {
        /// Its name.
        parameter: Name,
        /// On or off.
        on: bool,
    },
    /// It sets a parameter of the rig.
    Sets {
        /// Its name.
        parameter: Name,
        /// The lowest and the highest value that it is set to.
        to: Range,
    },
    /// It sends an instrument a message of its own.
    Sends {
        /// The instrument.
        to: Name,
        /// The message.
        text: String,
    },
    /// It asks the attendant.
    Asks {
        /// The question.
        question: Question,
        /// Whether its text is known before; else it holds what is measured.
        is_exact: bool,
    },
    /// A voltage arises on terminals of the asset that nothing is fed to.
    Arises {
        /// Where: `1U-1V, open`.
        at: String,
        /// The most, as RMS value.
        most: Voltage,
    },
    /// The leads go there too, besides where its program has them.
    Leads {
        /// Where: `A 1a-1n, primary shorted`.
        at: Name,
    },
    /// Somebody puts a voltage on from an instrument of their own.
    ByHand {
        /// What it would be called as an output of the rig: `insulation voltage`.
        what: Name,
        /// Where: `H: L+tank measured`.
        at: String,
        /// How much.
        voltage: Voltage,
    },
    /// It runs a program on this computer.
    Runs {
        /// The program.
        program: String,
    },
}

impl Also {
    /// Adds this to others: each once, of a parameter's values the span, of what arises the most.
    pub fn join(self, all: &mut Vec<Self>) {
        if let Self::Sets { parameter, to } = &self {
            let same = all.iter_mut().find_map(|other| match other {
                Self::Sets { parameter: other, to } if other == parameter => Some(to),
                _ => None,
            });
            if let Some(same) = same {
                same.low = same.low.min(to.low);
                same.high = same.high.max(to.high);
                return;
            }
        }
        if let Self::Arises { at, most } = &self {
            let same = all.iter_mut().find_map(|other| match other {
                Self::Arises { at: other, most } if other == at => Some(most),
                _ => None,
            });
            if let Some(same) = same {
                *same = if *same < *most { *most } else { *same };
                return;
            }
        }
        if !all.contains(&self) {
            all.push(self);
        }
    }
}

/// A span of values in words: `24 V`, `20 V … 29.5 V`.
pub struct Span(pub Range);

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Range { low, high, dimension } = self.0;
        let of = |si| Quantity { si, dimension };
        if low == high { of(low).fmt(f) } else { write!(f, "{} … {}", of(low), of(high)) }
    }
}
