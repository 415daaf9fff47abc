//! How far a record has come: what a run that goes on with it must know, and no more.
//!
//! Observations, most of a record's text, are checked as part of the chain but not read.

use super::chain::ReadError;
use super::event::{Continued, RunStarted};
use super::head::{Head, first_break, lines};
use super::tally::Tally;
use crate::grading::PointId;
use crate::selection::Selection;
use serde::Deserialize;
use std::collections::{HashMap, HashSet};

/// How far a record has come.
#[derive(Clone, Debug)]
pub struct Progress {
    /// What the run started with.
    pub started: RunStarted,
    /// Number of whole lines.
    pub lines: u64,
    /// Bytes up to the end of the last whole line, without its line break.
    pub whole_bytes: usize,
    /// Where the last whole line begins.
    pub last_line: usize,
    /// First line that does not follow from the one before it.
    pub broken_at: Option<usize>,
    /// The latest verdicts.
    pub tally: Tally,
    /// Injections that were recorded.
    pub injections: u64,
    /// Whether its last event is a run's end.
    pub is_closed: bool,
    /// Line at which each test came to its end last.
    ended: HashMap<String, u64>,
    phases: Vec<Phase>,
}

/// What was wanted from some line on.
#[derive(Clone, Debug)]
struct Phase {
    line: u64,
    wanted: Chosen,
}

/// Which points are wanted.
#[derive(Clone, Debug, PartialEq)]
pub enum Chosen {
    /// All of the plan.
    All,
    /// Those that a pattern matches.
    Matching(Selection),
    /// These, by id.
    These(HashSet<String>),
}

impl Chosen {
    /// Whether a point is wanted.
    pub fn wants(&self, point: &PointId) -> bool {
        match self {
            Self::All => true,
            Self::Matching(selection) => selection.matches(point),
            Self::These(ids) => ids.contains(&point.id),
        }
    }
}

#[derive(Deserialize)]
struct Start {
    #[serde(flatten)]
    started: RunStarted,
}

impl Progress {
    /// Reads a record's bytes up to its last whole event, and checks the chain.
    ///
    /// # Errors
    /// [`ReadError`]: nothing whole in it, damage before the end, or not a run record.
    pub fn read(bytes: &[u8]) -> Result<Self, ReadError> {
        let mut progress = Self::read_unchecked(bytes)?;
        progress.broken_at = first_break(bytes);
        Ok(progress)
    }

    /// The same without looking at the chain, which [`first_break`] does: on long records both take
    /// their time, and can be done at once.
    ///
    /// # Errors
    /// As [`Progress::read`].
    pub fn read_unchecked(bytes: &[u8]) -> Result<Self, ReadError> {
        let mut all = lines(bytes);
        let Some((_, first, _)) = all.next() else { return Err(ReadError::NothingWhole) };
        let head = Head::read(first).map_err(|_| ReadError::NothingWhole)?;
        if head.event != "run-started" {
            return Err(ReadError::NoStart);
        }
        let bad = |line: usize, error: &serde_json::Error| ReadError::BadLine {
            line,
            message: error.to_string(),
        };
        let start: Start = serde_json::from_slice(first).map_err(|e| bad(1, &e))?;
        let wanted = match &start.started.only {
            Some(pattern) => Chosen::Matching(Selection::new(pattern)),
            None => Chosen::All,
        };
        let mut progress = Self {
            started: start.started,
            lines: 1,
            whole_bytes: first.len(),
            last_line: 0,
            broken_at: None,
            tally: Tally::default(),
            injections: 0,
            is_closed: false,
            ended: HashMap::new(),
            phases: vec![Phase { line: 1, wanted }],
        };
        for (at, line, is_last) in all {
            let number = progress.lines as usize + 1;
            // What ends the file may have been cut off: it is read whole.
            let read = if is_last { serde_json::from_slice(line) } else { Head::read(line) };
            match read {
                Ok(head) => {
                    progress.lines += 1;
                    progress.take(head, line).map_err(|e| bad(number, &e))?;
                }
                Err(_) if is_last => break,
                Err(error) => return Err(bad(number, &error)),
            }
            (progress.whole_bytes, progress.last_line) = (at + line.len(), at);
        }
        Ok(progress)
    }

    fn take(&mut self, head: Head<'_>, line: &[u8]) -> Result<(), serde_json::Error> {
        let n = self.lines;
        self.is_closed = head.event == "run-ended";
        match (head.event.as_ref(), head.id, head.test, head.verdict) {
            ("graded", Some(id), _, Some(verdict)) => {
                self.tally.note_at(&id, verdict, n);
            }
            ("observed", ..) => self.injections += 1,
            ("test-ended", _, Some(test), _) => {
                self.ended.insert(test.into_owned(), n);
            }
            ("continued", ..) => {
                let continued: Continued = serde_json::from_slice(line)?;
                if let Some(redo) = continued.redo {
                    let wanted = self.redo(&redo);
                    self.phases.push(Phase { line: n, wanted });
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// The points that `failed` or a pattern names, as things stand.
    pub fn redo(&self, what: &str) -> Chosen {
        if what != "failed" {
            return Chosen::Matching(Selection::new(what));
        }
        Chosen::These(self.tally.failed().cloned().collect())
    }

    /// Whether a point was wanted and is not graded since.
    pub fn is_open(&self, point: &PointId) -> bool {
        let graded = self.tally.line(&point.id);
        self.phases.iter().any(|phase| graded < phase.line && phase.wanted.wants(point))
    }

    /// Whether a test whose steps depend on each other was wanted, for any of these points, and has
    /// not come to its end since.
    pub fn is_test_open(&self, test: &str, points: &[&PointId]) -> bool {
        let ended = self.ended.get(test).copied().unwrap_or(0);
        let wanted = |phase: &Phase| points.iter().any(|p| phase.wanted.wants(p));
        self.phases.iter().any(|phase| ended < phase.line && wanted(phase))
    }
}
