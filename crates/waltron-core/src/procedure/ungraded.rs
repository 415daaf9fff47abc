//! An injection that was seen to its end, and whose points were not all graded when the run was cut.

use crate::injection::observation::Observation;
use crate::injection::program::Program;
use crate::text::name::Name;
use std::sync::Arc;

/// An injection that was seen to its end, with points that are not graded yet.
#[derive(Clone, Debug, PartialEq)]
pub struct Ungraded {
    /// The test it belongs to.
    pub test: Name,
    /// The ids of its points that are not graded.
    pub points: Vec<String>,
    /// What was put out.
    pub program: Arc<Program>,
    /// What was seen of it; its samples are not in a record.
    pub observation: Observation,
}
