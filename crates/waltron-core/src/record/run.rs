//! A run as its record tells it.

use super::chain::{Line, ReadError, known_format};
use super::event::{Event, GradedAgain, Outcome, RunEnded, RunStarted};
use super::head::{Head, first_break, lines};
use super::kept::Kept;
use crate::asset::Asset;
use crate::asset::readback::{Difference, with_device};
use crate::grading::{Grade, Summary, Verdict};
use crate::procedure::Served;
use crate::text::document::DocumentError;
use crate::text::name::Name;
use crate::wing::{Earlier, Told, Wing, Wings};
use std::collections::HashMap;

/// A run put together from its record; the latest attempt of each point counts.
#[derive(Clone, Debug, PartialEq)]
pub struct Run {
    /// What it started with.
    pub started: RunStarted,
    /// When it started, RFC 3339.
    pub started_at: String,
    /// Its last event's time, RFC 3339.
    pub last_at: String,
    /// The latest grade of each point, in the order the points were first graded.
    pub points: Vec<Grade>,
    /// Grades that a later attempt replaced, in the order they were given.
    pub superseded: Vec<Grade>,
    /// Settings in which the asset differs from its file, and which hold for the run.
    pub from_device: Vec<Difference>,
    /// Settings in which the device differs from the file, where the file's hold for the run.
    pub from_file: Vec<Difference>,
    /// When the plan was changed, RFC 3339, and which tests began anew or were taken out.
    pub changes: Vec<(String, Vec<Name>)>,
    /// When it was graded again, RFC 3339, and what came of it.
    pub again: Vec<(String, GradedAgain)>,
    /// Notes that were added: when (RFC 3339), by whom, what.
    pub notes: Vec<(String, Option<String>, String)>,
    /// Waveforms that were kept, in order.
    pub kept: Vec<Kept>,
    /// Its injections in order; read only where somebody looks at them: see [`Run::read_injections`].
    pub served: Vec<Served>,
    /// How it ended; absent if the record stops before the run did.
    pub ended: Option<RunEnded>,
    /// Bytes left out at the record's end.
    pub cut_bytes: usize,
    /// First line that does not fit the one before it.
    pub broken_at: Option<usize>,
}

impl Run {
    /// Reads a record's bytes up to its last whole event. Observations are checked as part of the
    /// chain, but not read.
    ///
    /// # Errors
    /// [`ReadError`]: nothing whole in it, damage before the end, or not a run record.
    pub fn read(bytes: &[u8]) -> Result<Self, ReadError> {
        let mut run: Option<Self> = None;
        let mut index = HashMap::new();
        let mut cut_bytes = 0;
        if let Some((_, first, _)) = lines(bytes).next() {
            known_format(first)?;
        }
        for (n, (_, line, is_last)) in lines(bytes).enumerate() {
            let head = match Head::read(line) {
                Ok(head) => head,
                Err(_) if is_last => {
                    cut_bytes = line.len();
                    break;
                }
                Err(error) => {
                    let message = error.to_string();
                    return Err(ReadError::BadLine { line: n + 1, message });
                }
            };
            let needed = head.event != "observed" || is_last;
            let event = match needed.then(|| Line::read(line)) {
                None => None,
                Some(Ok(line)) => Some(line.event),
                Some(Err(_)) if is_last => {
                    cut_bytes = line.len();
                    break;
                }
                Some(Err(error)) => {
                    let message = error.to_string();
                    return Err(ReadError::BadLine { line: n + 1, message });
                }
            };
            match (&mut run, event) {
                (None, Some(Event::RunStarted(started))) => {
                    run = Some(Self::beginning(*started, head.at.into_owned()));
                }
                (None, _) => return Err(ReadError::NoStart),
                (Some(run), event) => {
                    // Grading again is no part of the test, but for its own time.
                    let again = matches!(&*head.event, "graded-again" | "noted" | "sealed");
                    let at = head.at.into_owned();
                    let before = std::mem::replace(&mut run.last_at, at);
                    event.into_iter().for_each(|event| run.take(event, &mut index));
                    if again {
                        run.last_at = before;
                    }
                }
            }
        }
        let mut run = run.ok_or(ReadError::NothingWhole)?;
        run.cut_bytes = cut_bytes;
        run.broken_at = first_break(bytes);
        Ok(run)
    }

    fn beginning(started: RunStarted, at: String) -> Self {
        Self {
            started,
            started_at: at.clone(),
            last_at: at,
            points: Vec::new(),
            superseded: Vec::new(),
            from_device: Vec::new(),
            from_file: Vec::new(),
            changes: Vec::new(),
            again: Vec::new(),
            notes: Vec::new(),
            kept: Vec::new(),
            served: Vec::new(),
            ended: None,
            cut_bytes: 0,
            broken_at: None,
        }
    }

    fn take(&mut self, event: Event, index: &mut HashMap<String, usize>) {
        match event {
            Event::Graded(grade) => {
                let at = *index.entry(grade.point.id.clone()).or_insert(self.points.len());
                match self.points.get_mut(at) {
                    Some(earlier) => self.superseded.push(std::mem::replace(earlier, grade)),
                    None => self.points.push(grade),
                }
            }
            Event::Kept(kept) => self.kept.push(kept),
            Event::Noted { text, by } => self.notes.push((self.last_at.clone(), by, text)),
            Event::RunEnded(end) => self.ended = Some(end),
            Event::GradedAgain(again) => self.again.push((self.last_at.clone(), *again)),
            Event::Continued(continued) => {
                self.ended = None;
                continued.update(&mut self.started);
                if !continued.changed.is_empty() {
                    let changed = &continued.changed;
                    let (gone, stays) = std::mem::take(&mut self.points)
                        .into_iter()
                        .partition(|grade| changed.contains(&grade.point.test));
                    self.points = stays;
                    self.superseded.extend::<Vec<Grade>>(gone);
                    index.clear();
                    let places = self.points.iter().enumerate();
                    index.extend(places.map(|(at, grade)| (grade.point.id.clone(), at)));
                    self.changes.push((self.last_at.clone(), continued.changed));
                }
            }
            Event::SettingsRead { differences, device_holds, .. } => {
                (self.from_device, self.from_file) = match device_holds {
                    true => (differences, Vec::new()),
                    false => (Vec::new(), differences),
                };
            }
            _ => {}
        }
    }

    /// Reads its injections out of its record's bytes as well, where the asset's wing looks at them.
    pub fn read_injections(&mut self, bytes: &[u8], wings: Wings) {
        let looks = |asset: &Asset| wings.of(asset.kind).is_some_and(Wing::looks_at_injections);
        if !self.asset(wings).is_ok_and(|asset| looks(&asset)) {
            return;
        }
        let observed = lines(bytes).filter_map(|(_, line, _)| Line::read(line).ok());
        let served = observed.filter_map(|line| match line.event {
            Event::Observed { points, program, observation, .. } => {
                Some(Served { points, program, observation })
            }
            _ => None,
        });
        self.served = served.collect();
    }

    /// What it has come to, for its asset's wing.
    pub fn told(&self) -> Told<'_> {
        self.told_beside(None)
    }

    /// The same beside an earlier run.
    pub fn told_beside<'a>(&'a self, earlier: Option<&'a Self>) -> Told<'a> {
        let earlier = earlier.map(|run| Earlier {
            at: &run.started_at,
            points: &run.points,
            served: &run.served,
        });
        Told { points: &self.points, served: &self.served, earlier }
    }

    /// Whether another run is of the same kind of asset.
    pub fn has_asset_like(&self, other: &Self, wings: Wings) -> bool {
        let kind = |run: &Self| run.asset(wings).ok().map(|asset| asset.kind);
        kind(self).is_some_and(|kind_of| kind(other) == Some(kind_of))
    }

    /// Counts of the latest verdicts.
    pub fn summary(&self) -> Summary {
        Summary::of(self.points.iter().map(|g| g.verdict))
    }

    /// The points of the plan that were not reached and those that were not asked for, as far as the run came to say so.
    pub fn left_open(&self) -> (usize, usize) {
        self.ended.as_ref().map_or((0, 0), |ended| (ended.not_reached, ended.left_out.len()))
    }

    /// The verdict of the whole plan by counts of its grades: what was not reached, not asked for, or lost with a run
    /// that was stopped or cut is never a pass.
    pub fn verdict_of_plan(&self, summary: Summary) -> Verdict {
        let is_whole = |ended: &RunEnded| ended.outcome == Outcome::Completed;
        let whole = self.ended.as_ref().is_some_and(is_whole) && self.left_open() == (0, 0);
        match summary.verdict() {
            Verdict::Pass | Verdict::Measured if !whole => Verdict::NotTested,
            verdict => verdict,
        }
    }

    /// The asset as it was when the run started.
    ///
    /// # Errors
    /// When the copy in the record cannot be read, for instance by an older program.
    pub fn asset(&self, wings: Wings) -> Result<Asset, DocumentError> {
        let copy = &self.started.asset;
        let asset = wings.asset(&copy.source(copy.name.clone()))?;
        // What could not be taken over would not have been run with.
        Ok(with_device(&asset, &self.from_device).unwrap_or(asset))
    }
}
