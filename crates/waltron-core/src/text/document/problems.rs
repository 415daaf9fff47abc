//! Problems of a file, found one after the other.

use super::{DocumentError, Problem, Source};
use crate::text::expression::Settings;

/// Problems found so far; reading goes on so that all are found. Also holds the names that the
/// values read next may refer to.
#[derive(Clone, Debug, Default)]
pub struct Problems {
    found: Vec<Problem>,
    /// What expressions may refer to: the settings read so far.
    pub settings: Settings,
}

impl Problems {
    /// Nothing found yet, with names that values may refer to.
    pub fn with(settings: Settings) -> Self {
        Self { found: Vec::new(), settings }
    }

    /// Notes a problem.
    pub fn push(&mut self, problem: Problem) {
        if !self.found.contains(&problem) {
            self.found.push(problem);
        }
    }

    /// How many were found.
    pub fn count(&self) -> usize {
        self.found.len()
    }

    /// Whether nothing was found.
    pub fn is_empty(&self) -> bool {
        self.found.is_empty()
    }

    /// Nothing wrong, or the error that shows all of it.
    ///
    /// # Errors
    /// All problems noted, in the order of their places.
    pub fn none_or(self, source: &Source) -> Result<(), DocumentError> {
        if self.found.is_empty() { Ok(()) } else { Err(DocumentError::new(source, self.found)) }
    }
}
