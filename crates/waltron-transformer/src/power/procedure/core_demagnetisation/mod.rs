//! Takes the remanence away that direct current left in the core: direct currents of either sign, each smaller than
//! the one before, phase by phase; exciting currents before and after show that it worked.

mod inrush;
mod keys;
mod steps;

pub use keys::{CoreDemagnetisationKeys, CoreDemagnetisationTest};

use super::joint::{Joint, Stepwise};
use crate::power::asset::PowerTransformer;
use waltron_core::procedure::{Bench, SetupError};

impl Stepwise for CoreDemagnetisationTest {
    const WORD: &'static str = "core-demagnetisation";
    const SEE_TO: &'static [&'static str] = &[
        "While demagnetising all other windings carry up to half of their rated voltage: fence them off",
        "While demagnetising leave all other windings open: what flows in them keeps the core from being demagnetised",
    ];

    fn joint(&self, of: &PowerTransformer, bench: Bench<'_>) -> Result<Joint, SetupError> {
        steps::joint(self, of, bench)
    }
}
