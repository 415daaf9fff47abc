//! What insulation of oil and paper loses, at one temperature and at another.

mod correction;
mod shift;

pub use correction::{Class, Condition, Correction, CorrectionForm, shipped, shipped_names};
pub(crate) use correction::{file_of, find};
pub use shift::{Beyond, Corrected, Energy, Loss, at_reference, fit, turns};
