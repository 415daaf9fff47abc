//! Injections as a record tells them.

use crate::injection::observation::Observation;
use crate::injection::program::Program;
use std::sync::Arc;

/// An injection with what was seen and the points that it serves.
#[derive(Clone, Debug, PartialEq)]
pub struct Served {
    /// The ids of the points, as far as they were known before it.
    pub points: Vec<String>,
    /// What was put out.
    pub program: Arc<Program>,
    /// What was seen.
    pub observation: Observation,
}

impl Served {
    /// Whether it serves a point.
    pub fn serves(&self, id: &str) -> bool {
        self.points.iter().any(|point| point == id)
    }
}
