//! A characteristic in words, for tables.

use super::{Characteristic, Form, Reset, SHAPES};
use crate::quantity::{significant, text};

impl Characteristic {
    /// `IEC very-inverse, TMS 0.3`, with what limits it.
    pub fn words(&self) -> String {
        let mut words = match &self.form {
            Form::Definite { delay } => format!("definite time {}", text(*delay)),
            Form::Inverse { coefficients, tms } => {
                match SHAPES.iter().find(|s| s.coefficients == *coefficients) {
                    Some(s) => {
                        let factor = if s.family == "ieee" { "TD" } else { "TMS" };
                        format!("{} {}, {factor} {tms}", s.family.to_uppercase(), s.name)
                    }
                    None => format!(
                        "formula k {} s, c {} s, α {}, TMS {tms}",
                        coefficients.k, coefficients.c, coefficients.alpha
                    ),
                }
            }
            Form::SquaredCurrent { at_pickup } => format!("I²t, {} at pickup", text(*at_pickup)),
            Form::Thermal { tau, preload } => {
                format!("thermal, τ {}, preload {} x", text(*tau), significant(*preload, 4))
            }
            Form::Table { table, tms } => format!("{} points, TMS {tms}", table.points().len()),
        };
        if let Some(t) = self.minimum_time {
            words.push_str(&format!(", at least {}", text(t)));
        }
        match self.reset {
            Reset::Instant => {}
            Reset::Delay(t) => words.push_str(&format!(", reset after {}", text(t))),
            Reset::Curve(_) => words.push_str(", reset curve"),
        }
        words
    }
}
