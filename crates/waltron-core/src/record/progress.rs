//! How far a record has come: what a run that goes on with it must know, and no more.
//!
//! Observations, most of a record's text, are checked as part of the chain but not read.

use super::chain::ReadError;
use super::event::{Continued, RunStarted};
use super::head::{Head, lines};
use super::tally::Tally;
use crate::grading::{PointId, Verdict};
use crate::selection::Selection;
use serde::Deserialize;
use std::collections::{HashMap, HashSet};

/// How far a record has come.
#[derive(Clone, Debug)]
pub struct Progress {
    /// What the run started with.
    pub started: RunStarted,
    /// When, RFC 3339.
    pub started_at: String,
    /// Its last event's time, RFC 3339.
    pub last_at: String,
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
    /// Line of each point's latest grade.
    graded: HashMap<String, u64>,
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
    /// Reads a record's bytes up to its last whole event.
    ///
    /// # Errors
    /// [`ReadError`]: nothing whole in it, damage before the end, or not a run record.
    pub fn read(bytes: &[u8]) -> Result<Self, ReadError> {
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
            started_at: head.at.clone(),
            last_at: head.at,
            lines: 1,
            whole_bytes: first.len(),
            last_line: 0,
            broken_at: (!head.prev.is_empty()).then_some(1),
            tally: Tally::default(),
            injections: 0,
            is_closed: false,
            graded: HashMap::new(),
            ended: HashMap::new(),
            phases: vec![Phase { line: 1, wanted }],
        };
        let mut before = first;
        for (at, line, is_last) in all {
            let number = progress.lines as usize + 1;
            // What ends the file may have been cut off: it is read whole.
            let read = if is_last { serde_json::from_slice(line) } else { Head::read(line) };
            match read {
                Ok(head) => {
                    if progress.broken_at.is_none() && !head.follows(before) {
                        progress.broken_at = Some(number);
                    }
                    progress.lines += 1;
                    progress.take(head, line).map_err(|e| bad(number, &e))?;
                }
                Err(_) if is_last => break,
                Err(error) => return Err(bad(number, &error)),
            }
            (progress.whole_bytes, progress.last_line, before) = (at + line.len(), at, line);
        }
        Ok(progress)
    }

    fn take(&mut self, head: Head, line: &[u8]) -> Result<(), serde_json::Error> {
        let n = self.lines;
        self.last_at = head.at;
        self.is_closed = head.event == "run-ended";
        match (head.event.as_str(), head.id, head.test, head.verdict) {
            ("graded", Some(id), _, Some(verdict)) => {
                self.tally.note(&id, verdict);
                self.graded.insert(id, n);
            }
            ("observed", ..) => self.injections += 1,
            ("test-ended", _, Some(test), _) => {
                self.ended.insert(test, n);
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
        let failed = |id: &&String| self.tally.verdict(id) == Some(Verdict::Fail);
        Chosen::These(self.graded.keys().filter(failed).cloned().collect())
    }

    /// Whether a point was wanted and is not graded since.
    pub fn is_open(&self, point: &PointId) -> bool {
        let graded = self.graded.get(&point.id).copied().unwrap_or(0);
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
