//! What counts of a record: the latest attempt of each point.

use crate::grading::{Summary, Verdict};
use std::collections::HashMap;

#[derive(Clone, Copy, Debug, PartialEq)]
struct Latest {
    attempt: u32,
    verdict: Verdict,
    /// The record's line, where it was read from one.
    line: u64,
}

/// The latest attempt and verdict of each point, by its id.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Tally {
    latest: HashMap<String, Latest>,
}

impl Tally {
    /// Notes a point's verdict and returns the number of this attempt, from 1.
    pub fn note(&mut self, id: &str, verdict: Verdict) -> u32 {
        self.note_at(id, verdict, 0)
    }

    /// The same of a record's line.
    pub(super) fn note_at(&mut self, id: &str, verdict: Verdict, line: u64) -> u32 {
        if let Some(known) = self.latest.get_mut(id) {
            *known = Latest { attempt: known.attempt + 1, verdict, line };
            return known.attempt;
        }
        self.latest.insert(id.to_owned(), Latest { attempt: 1, verdict, line });
        1
    }

    /// The record's line of a point's latest grade; 0 where there is none.
    pub(super) fn line(&self, id: &str) -> u64 {
        self.latest.get(id).map_or(0, |latest| latest.line)
    }

    /// The points whose latest verdict is a failure.
    pub(super) fn failed(&self) -> impl Iterator<Item = &String> {
        self.latest.iter().filter(|(_, l)| l.verdict == Verdict::Fail).map(|(id, _)| id)
    }

    /// A point's latest verdict; `None` where it was never graded.
    pub fn verdict(&self, id: &str) -> Option<Verdict> {
        self.latest.get(id).map(|latest| latest.verdict)
    }

    /// Counts of the latest verdicts.
    pub fn summary(&self) -> Summary {
        Summary::of(self.latest.values().map(|latest| latest.verdict))
    }
}
