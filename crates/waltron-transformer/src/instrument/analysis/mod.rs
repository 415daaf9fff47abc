//! What a transformer would do in service, worked out from what was measured on its secondary: pure
//! calculation, in SI units, without a rig, an asset or a plan.
//!
//! The method is the indirect one of IEC 61869-2 (2B, 2E): winding resistance, turns ratio and excitation
//! give the errors at any current and burden.

pub mod burden;
pub mod classes;
pub mod criteria;
pub mod curve;
pub mod errors;
pub mod knee;
pub mod meets;
mod moved;
mod powers;
pub mod transient;
pub mod voltage;

pub use burden::Burden;
pub use classes::Class;
pub use criteria::{Assessed, Duty, Evidence, Plate, assess};
pub use curve::{CurveError, ExcitationCurve, Sample};
pub use errors::{Limit, Loop};
pub use knee::{Knee, KneeKind};
pub use moved::Move;
