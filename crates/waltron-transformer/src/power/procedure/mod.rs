//! How power transformers are tested.

mod joint;
mod positions;
mod tan_delta;
mod turns_ratio;
mod winding_resistance;

pub(crate) use tan_delta::{CAPACITANCE, LOSSES, Read, SUM, over_frequency};
pub use tan_delta::{TanDeltaKeys, TanDeltaTest};
pub(crate) use turns_ratio::{EXCITING, RATIO};
pub use turns_ratio::{TurnsRatioKeys, TurnsRatioTest};
pub(crate) use winding_resistance::{CHANGE, DIFFERENCE, RESISTANCE, can, traced};
pub use winding_resistance::{WindingResistanceKeys, WindingResistanceTest};

use super::asset::PowerTransformer;
use waltron_core::asset::Asset;
use waltron_core::procedure::SetupError;

/// The asset as this folder knows it.
fn transformer(asset: &Asset) -> Result<&PowerTransformer, SetupError> {
    asset.family().ok_or_else(|| {
        let tag = &asset.identity.tag;
        SetupError::Unknown(format!("{tag} is no power transformer"))
    })
}

/// The next round number below: one of these times a power of ten, the largest first.
fn round_below(value: f64, steps: &[f64]) -> f64 {
    let decade = 10f64.powf(value.log10().floor());
    let mut round = steps.iter().map(|s| s * decade);
    round.find(|v| *v <= value * (1.0 + 1e-9)).unwrap_or(value)
}
