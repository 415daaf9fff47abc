//! How far a record has come: what a run that goes on with it must know, and no more.
//!
//! Observations, most of a record's text, are checked as part of the chain but not read.

use super::chain::{Line, ReadError, known_format};
use super::event::{Continued, Event, RunStarted};
use super::head::{Head, first_break, lines};
use super::tally::{Noted, Tally};
use crate::asset::readback::Difference;
use crate::clearance::duty::Warm;
use crate::grading::{PointId, Verdict};
use crate::plan::selection::Selection;
use crate::procedure::{Carried, Owed, Ungraded};
use crate::quantity::Time;
use crate::text::name::Name;
use serde::Deserialize;
use std::collections::{BTreeMap, HashMap, HashSet};

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
    /// How warm the asset was left.
    pub warm: Warm,
    /// Time that outputs stayed off since, for the asset to cool.
    pub cooled: Time,
    /// What its tests have handed on.
    pub carried: Carried,
    /// Its last injection, where that was seen and not graded to its end.
    pub ungraded: Option<Ungraded>,
    /// What it has undone and not put back.
    pub owed: Vec<Owed>,
    /// In what the device differed from its file, and whether its own values held, where it told them.
    pub settings: Option<(Vec<Difference>, bool)>,
    /// Why points were skipped by the tester, by their ids, and whole tests by theirs; those that were tested since
    /// are not among them.
    pub skipped: BTreeMap<String, String>,
    /// Whether what was skipped is open like everything else.
    pub offers_skipped: bool,
    /// Whether all of the plan is wanted, and not only what the record was asked for.
    pub whole: bool,
    /// When the last event was written, RFC 3339.
    pub last_at: String,
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
    /// These, by id, and whole tests by theirs where injections depend on each other.
    Graded {
        /// The points.
        points: HashSet<String>,
        /// Their tests.
        tests: HashSet<String>,
    },
}

impl Chosen {
    /// Whether a point is wanted.
    pub fn wants(&self, point: &PointId) -> bool {
        match self {
            Self::All => true,
            Self::Matching(selection) => selection.matches(point),
            Self::These(ids) | Self::Graded { points: ids, .. } => ids.contains(&point.id),
        }
    }

    /// Whether a test is wanted whose injections depend on each other, for any of these points.
    pub fn wants_test(&self, test: &str, points: &[&PointId]) -> bool {
        let itself = matches!(self, Self::Graded { tests, .. } if tests.contains(test));
        itself || points.iter().any(|p| self.wants(p))
    }
}

/// How warm an injection left the asset.
#[derive(Deserialize)]
struct Left {
    #[serde(default)]
    warm: Warm,
}

/// What an injection may have done that was not seen to its end.
#[derive(Deserialize)]
struct IfCut {
    #[serde(default)]
    if_cut: Carried,
}

#[derive(Deserialize)]
struct HandedOn {
    carried: Carried,
}

#[derive(Deserialize)]
struct ToRestore {
    owed: Vec<Owed>,
}

#[derive(Deserialize)]
struct SettingsRead {
    differences: Vec<Difference>,
    device_holds: bool,
}

#[derive(Deserialize)]
struct Reason {
    reason: String,
}

#[derive(Deserialize)]
struct Rested {
    #[serde(rename = "time_s", with = "crate::quantity::edge::si")]
    time: Time,
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
        known_format(first)?;
        let bad = |line: usize, error: &serde_json::Error| ReadError::BadLine {
            line,
            message: error.to_string(),
        };
        let start: Start = serde_json::from_slice(first).map_err(|e| bad(1, &e))?;
        let wanted = match start.started.only.as_slice() {
            [] => Chosen::All,
            patterns => Chosen::Matching(Selection::any_of(patterns)),
        };
        let mut progress = Self {
            started: start.started,
            lines: 1,
            whole_bytes: first.len(),
            last_line: 0,
            broken_at: None,
            tally: Tally::default(),
            warm: Warm::default(),
            cooled: Time::default(),
            carried: Carried::new(),
            ungraded: None,
            owed: Vec::new(),
            settings: None,
            skipped: BTreeMap::new(),
            offers_skipped: false,
            last_at: head.at.into_owned(),
            is_closed: false,
            ended: HashMap::new(),
            phases: vec![Phase { line: 1, wanted }],
            whole: false,
        };
        // The last line that tells how warm it was left, and an injection that was not seen to its end.
        let (mut left, mut cut): (Option<&[u8]>, Option<&[u8]>) = (None, None);
        // The last observation while its test goes on, and what was graded since.
        let (mut seen, mut graded): (Option<&[u8]>, Vec<String>) = (None, Vec::new());
        for (at, line, is_last) in all {
            let number = progress.lines as usize + 1;
            // What ends the file may have been cut off: it is read whole.
            let read = if is_last { serde_json::from_slice(line) } else { Head::read(line) };
            match read {
                Ok(head) => {
                    progress.lines += 1;
                    match &*head.event {
                        "begun" => {
                            (left, cut, seen) = (Some(line), Some(line), None);
                            progress.cooled = Time::default();
                        }
                        "observed" => {
                            (left, cut, seen) = (Some(line), None, Some(line));
                            graded.clear();
                            progress.cooled = Time::default();
                        }
                        // What is handed on from there on knows of it.
                        "handed-on" => cut = None,
                        "graded" => graded.extend(head.id.as_deref().map(str::to_owned)),
                        "test-ended" | "repeated" => seen = None,
                        "continued" => {
                            progress.take_cut(cut.take()).map_err(|e| bad(number, &e))?;
                            if let Some(line) = seen {
                                let read = ungraded(line, &graded);
                                progress.ungraded = read.map_err(|e| bad(number, &e))?;
                            }
                        }
                        _ => {}
                    }
                    let goes_on = head.event == "continued";
                    progress.take(head, line).map_err(|e| bad(number, &e))?;
                    // Of a test that begins anew nothing is left to be graded.
                    seen = seen.filter(|_| !goes_on || progress.ungraded.is_some());
                }
                Err(_) if is_last => break,
                Err(error) => return Err(bad(number, &error)),
            }
            (progress.whole_bytes, progress.last_line) = (at + line.len(), at);
        }
        progress.take_cut(cut).map_err(|e| bad(0, &e))?;
        progress.ungraded = match seen {
            Some(line) => ungraded(line, &graded).map_err(|e| bad(0, &e))?,
            None => None,
        };
        if let Some(line) = left {
            let Left { warm } = serde_json::from_slice(line).map_err(|e| bad(0, &e))?;
            progress.warm = warm;
        }
        Ok(progress)
    }

    /// Takes the worst of an injection that was not seen to its end.
    fn take_cut(&mut self, line: Option<&[u8]>) -> Result<(), serde_json::Error> {
        if let Some(line) = line {
            let IfCut { if_cut } = serde_json::from_slice(line)?;
            if !if_cut.is_empty() {
                self.carried = if_cut;
            }
        }
        Ok(())
    }

    fn take(&mut self, head: Head<'_>, line: &[u8]) -> Result<(), serde_json::Error> {
        let n = self.lines;
        // What stands behind an end takes nothing from it, and is none itself.
        self.is_closed = match &*head.event {
            "run-ended" => true,
            "graded-again" | "noted" | "sealed" => self.is_closed,
            _ => false,
        };
        self.last_at.clear();
        self.last_at.push_str(&head.at);
        match (head.event.as_ref(), head.id, head.test, head.verdict) {
            ("graded", Some(id), Some(test), Some(verdict)) => {
                let noted = Noted {
                    id: &id,
                    test: &test,
                    verdict,
                    skipped: head.skipped,
                    criterion: head.criterion,
                };
                self.tally.note_at(&noted, n);
                if head.skipped {
                    let Reason { reason } = serde_json::from_slice(line)?;
                    self.skipped.insert(id.into_owned(), reason);
                } else {
                    self.skipped.remove(&*id);
                }
            }
            ("handed-on", ..) => {
                let HandedOn { carried } = serde_json::from_slice(line)?;
                self.carried = carried;
            }
            ("to-restore", ..) => {
                let ToRestore { owed } = serde_json::from_slice(line)?;
                self.owed = owed;
            }
            ("rested", ..) => {
                let Rested { time } = serde_json::from_slice(line)?;
                self.cooled += time;
            }
            ("settings-read", ..) => {
                let SettingsRead { differences, device_holds } = serde_json::from_slice(line)?;
                self.settings = Some((differences, device_holds));
            }
            ("test-ended", _, Some(test), _) if head.skipped => {
                let own = |id: &&String| {
                    id.strip_prefix(&*test).is_some_and(|rest| rest.starts_with('/'))
                };
                let reason = self.skipped.keys().find(own).map(|id| self.skipped[id].clone());
                let reason = reason.unwrap_or_else(|| "skipped".to_owned());
                self.skipped.insert(test.into_owned(), reason);
            }
            ("test-ended", _, Some(test), _) => {
                self.skipped.remove(&*test);
                self.tally.note_end(&test);
                self.ended.insert(test.into_owned(), n);
            }
            ("continued", ..) => {
                let continued: Continued = serde_json::from_slice(line)?;
                continued.update(&mut self.started);
                self.restart(&continued.changed);
                match (continued.redo, continued.only.as_slice()) {
                    (Some(redo), _) => {
                        let wanted = self.redo(&redo);
                        self.phases.push(Phase { line: n, wanted });
                    }
                    // Asked for from there on, where it is not graded yet.
                    (None, []) => self.phases.push(Phase { line: 1, wanted: Chosen::All }),
                    (None, patterns) => {
                        let wanted = Chosen::Matching(Selection::any_of(patterns));
                        self.phases.push(Phase { line: 1, wanted });
                    }
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// Begins tests anew: what was graded of them counts no longer.
    pub fn restart(&mut self, tests: &[Name]) {
        for test in tests {
            self.ended.remove(test.as_str());
            self.ungraded.take_if(|seen| seen.test == *test);
            let own = |id: &str| {
                let rest = id.strip_prefix(test.as_str());
                rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
            };
            self.skipped.retain(|id, _| !own(id));
            self.tally.restart(test);
        }
    }

    /// The points that `failed`, `not-passed` or a pattern names, as things stand.
    pub fn redo(&self, what: &str) -> Chosen {
        let worse: fn(Verdict) -> bool = match what {
            "failed" => |verdict| verdict == Verdict::Fail,
            // Of what was only measured nothing can pass.
            "not-passed" => |verdict| !matches!(verdict, Verdict::Pass | Verdict::Measured),
            pattern => return Chosen::Matching(Selection::new(pattern)),
        };
        let found = self.tally.graded(worse);
        let (points, tests) = found.map(|(p, t)| (p.clone(), t.clone())).unzip();
        Chosen::Graded { points, tests }
    }

    /// Whether a point was wanted and is not graded since.
    pub fn is_open(&self, point: &PointId) -> bool {
        let graded = match self.tally.is_skipped(&point.id) {
            true if self.offers_skipped => 0,
            true => return false,
            false => self.tally.line(&point.id),
        };
        let asked = || self.phases.iter().any(|p| graded < p.line && p.wanted.wants(point));
        (self.whole && graded == 0) || asked()
    }

    /// Whether a test whose steps depend on each other was wanted, for any of these points, and has
    /// not come to its end since.
    pub fn is_test_open(&self, test: &str, points: &[&PointId]) -> bool {
        if self.skipped.contains_key(test) && !self.offers_skipped {
            return false;
        }
        let ended = self.ended.get(test).copied().unwrap_or(0);
        if self.whole && ended == 0 {
            return true;
        }
        let wanted = |phase: &Phase| phase.wanted.wants_test(test, points);
        self.phases.iter().any(|phase| ended < phase.line && wanted(phase))
    }
}

/// What a line's observation leaves to be graded. `None` where it was broken off, or nothing is left.
fn ungraded(line: &[u8], graded: &[String]) -> Result<Option<Ungraded>, serde_json::Error> {
    let Event::Observed { test, mut points, program, observation, .. } = Line::read(line)?.event
    else {
        return Ok(None);
    };
    points.retain(|id| !graded.contains(id));
    let is_left = !points.is_empty() && !observation.aborted();
    Ok(is_left.then_some(Ungraded { test, points, program, observation }))
}
