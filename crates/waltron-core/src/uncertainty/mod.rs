//! What values are uncertain by (JCGM 100:2008): stated accuracies, causes, and what follows from them.

mod accuracy;
mod cause;
mod estimate;
pub mod words;

pub use accuracy::{Accuracy, AccuracyError, Means, Width};
pub use cause::{Cause, Distribution, Part};
pub use estimate::{Estimate, combined, ruling};
