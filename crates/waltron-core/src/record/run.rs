//! A run as its record tells it.

use super::chain::Reading;
use super::event::{Event, RunEnded, RunStarted};
use crate::asset::Asset;
use crate::document::{AssetForm, DocumentError, Source};
use crate::grading::{Grade, Summary};
use crate::readback::{Difference, with_device};

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
    /// How it ended; absent if the record stops before the run did.
    pub ended: Option<RunEnded>,
    /// Bytes left out at the record's end.
    pub cut_bytes: usize,
    /// First line that does not fit the one before it.
    pub broken_at: Option<usize>,
}

impl Run {
    /// Folds a record's events; `None` where the reading does not begin with a start.
    pub fn from_reading(reading: &Reading) -> Option<Self> {
        let first = reading.lines.first()?;
        let Event::RunStarted(started) = &first.event else { return None };
        let mut points: Vec<Grade> = Vec::new();
        let mut index = std::collections::HashMap::new();
        let (mut ended, mut superseded, mut from_device) = (None, Vec::new(), Vec::new());
        for line in &reading.lines {
            match &line.event {
                Event::Graded(grade) => {
                    let at = *index.entry(grade.point.id.clone()).or_insert(points.len());
                    match points.get_mut(at) {
                        Some(earlier) => {
                            superseded.push(std::mem::replace(earlier, grade.clone()));
                        }
                        None => points.push(grade.clone()),
                    }
                }
                Event::RunEnded(end) => ended = Some(end.clone()),
                Event::Continued(_) => ended = None,
                Event::SettingsRead { differences, device_holds: true, .. } => {
                    from_device = differences.clone();
                }
                _ => {}
            }
        }
        Some(Self {
            started: (**started).clone(),
            started_at: first.at.clone(),
            last_at: reading.lines.last()?.at.clone(),
            points,
            superseded,
            from_device,
            ended,
            cut_bytes: reading.cut_bytes,
            broken_at: reading.broken_at,
        })
    }

    /// Counts of the latest verdicts.
    pub fn summary(&self) -> Summary {
        Summary::of(self.points.iter().map(|g| g.verdict))
    }

    /// The asset as it was when the run started.
    ///
    /// # Errors
    /// When the copy in the record cannot be read, for instance by an older program.
    pub fn asset(&self) -> Result<Asset, DocumentError> {
        let copy = &self.started.asset;
        let asset = AssetForm::load(&Source::new(copy.name.clone(), copy.text.as_str()))?;
        // What could not be taken over would not have been run with.
        Ok(with_device(&asset, &self.from_device).unwrap_or(asset))
    }
}
