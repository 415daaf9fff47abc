//! What counts of a record: the latest attempt of each point.

use crate::grading::{Summary, Verdict};
use std::collections::HashMap;

/// The latest attempt and verdict of each point, by its id.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Tally {
    latest: HashMap<String, (u32, Verdict)>,
}

impl Tally {
    /// Notes a point's verdict and returns the number of this attempt, from 1.
    pub fn note(&mut self, id: &str, verdict: Verdict) -> u32 {
        match self.latest.get_mut(id) {
            Some(known) => {
                *known = (known.0 + 1, verdict);
                known.0
            }
            None => {
                self.latest.insert(id.to_owned(), (1, verdict));
                1
            }
        }
    }

    /// A point's latest verdict; `None` where it was never graded.
    pub fn verdict(&self, id: &str) -> Option<Verdict> {
        self.latest.get(id).map(|(_, verdict)| *verdict)
    }

    /// Counts of the latest verdicts.
    pub fn summary(&self) -> Summary {
        Summary::of(self.latest.values().map(|(_, verdict)| *verdict))
    }
}
