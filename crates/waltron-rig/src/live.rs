//! What a test set tells of the present, as it crosses the line.

use crate::attendant::{Attendant, Present, Waiting};
use serde::{Deserialize, Serialize};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Dimension, Measure, Quantity, seconds};
use waltron_core::text::name::Name;

/// After which time nobody waits any more for what was waited for, in s: its values come at least as often.
const OLD_S: f64 = 2.0;

/// What is put out and seen at present, as JSON.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Live {
    now_s: f64,
    pub(crate) out: Stimulus,
    pub(crate) closed: Vec<Name>,
    /// A measured value on its way.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    waits: Option<Waits>,
}

/// A measured value on its way.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Waits {
    of: String,
    value_si: f64,
    towards_si: f64,
    /// Of ampere, volt, second, radian, kelvin.
    exponents: [i8; 5],
    #[serde(skip_serializing_if = "Option::is_none", default)]
    left_s: Option<f64>,
    /// When it was measured.
    at_s: f64,
}

impl Live {
    /// Takes what is put out and seen now.
    pub(crate) fn sees(&mut self, present: &Present<'_>) {
        self.now_s = present.now.si();
        self.out = present.out.clone();
        self.closed = present.closed.to_vec();
        let now_s = self.now_s;
        self.waits = self.waits.take().filter(|waits| (now_s - waits.at_s).abs() <= OLD_S);
    }

    /// Takes what is waited for now.
    pub(crate) fn waits(&mut self, waiting: &Waiting) {
        self.waits = Some(Waits {
            of: waiting.of.clone(),
            value_si: waiting.value.si,
            towards_si: waiting.towards.si,
            exponents: waiting.value.dimension.exponents(),
            left_s: waiting.left.map(Measure::si),
            at_s: self.now_s,
        });
    }

    /// Shows all of it to the attendant.
    pub(crate) fn show(&self, attendant: &mut dyn Attendant) {
        let now = seconds(self.now_s);
        attendant.sees(&Present { now, out: &self.out, closed: &self.closed });
        if let Some(waits) = &self.waits {
            let [ampere, volt, second, radian, kelvin] = waits.exponents;
            let dimension = Dimension::new(ampere, volt, second, radian, kelvin);
            let of = |si| Quantity { si, dimension };
            attendant.waits(&Waiting {
                of: waits.of.clone(),
                value: of(waits.value_si),
                towards: of(waits.towards_si),
                left: waits.left_s.map(seconds),
            });
        }
    }
}
