//! What counts of a record: the latest attempt of each point.

use crate::grading::{Criterion, Grade, PointId, Summary, Verdict};
use crate::procedure::PlannedPoint;
use crate::text::name::Name;
use std::collections::HashMap;

#[derive(Clone, Debug, PartialEq)]
struct Latest {
    attempt: u32,
    verdict: Verdict,
    /// Whether the attendant left it out.
    skipped: bool,
    /// The test and what its point stands for, where that is a place at which something went wrong.
    place: Option<(String, Criterion)>,
    /// The record's line, where it was read from one.
    line: u64,
    /// Whether its test has begun anew since, so that it counts no longer.
    withdrawn: bool,
}

/// The latest attempt and verdict of each point, by its id.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Tally {
    latest: HashMap<String, Latest>,
    /// The tests that have a point which did not pass, by that point's id.
    tests: HashMap<String, String>,
    /// How often each test came to its end.
    ended: HashMap<String, u32>,
}

/// What a graded point's line says, as far as it counts.
pub(super) struct Noted<'a> {
    pub(super) id: &'a str,
    pub(super) test: &'a str,
    pub(super) verdict: Verdict,
    pub(super) skipped: bool,
    pub(super) criterion: Option<Criterion>,
}

impl Tally {
    /// Notes a grade and returns the number of this attempt, from 1.
    pub fn note(&mut self, grade: &Grade) -> u32 {
        let noted = Noted {
            id: &grade.point.id,
            test: grade.point.test.as_str(),
            verdict: grade.verdict,
            skipped: grade.skipped,
            criterion: Some(grade.criterion.clone()),
        };
        self.note_at(&noted, 0)
    }

    /// The same of a record's line.
    pub(super) fn note_at(&mut self, noted: &Noted<'_>, line: u64) -> u32 {
        if noted.verdict != Verdict::Pass {
            self.tests.entry(noted.id.to_owned()).or_insert_with(|| noted.test.to_owned());
        }
        let is_place = |c: &&Criterion| [Criterion::COMPLETION, Criterion::STEP].contains(*c);
        let place = noted.criterion.as_ref().filter(is_place);
        let place = place.map(|criterion| (noted.test.to_owned(), criterion.clone()));
        let (verdict, skipped) = (noted.verdict, noted.skipped);
        if let Some(known) = self.latest.get_mut(noted.id) {
            let attempt = known.attempt + 1;
            *known = Latest { attempt, verdict, skipped, place, line, withdrawn: false };
            return attempt;
        }
        let latest = Latest { attempt: 1, verdict, skipped, place, line, withdrawn: false };
        self.latest.insert(noted.id.to_owned(), latest);
        1
    }

    /// Begins a test anew: what was graded of it counts no longer.
    pub(super) fn restart(&mut self, test: &Name) {
        let mine = |id: &str| id.strip_prefix(test.as_str()).is_some_and(|r| r.starts_with('/'));
        for (_, latest) in self.latest.iter_mut().filter(|(id, _)| mine(id)) {
            latest.withdrawn = true;
        }
    }

    /// What counts of a point.
    fn counting(&self, id: &str) -> Option<&Latest> {
        self.latest.get(id).filter(|latest| !latest.withdrawn)
    }

    /// Notes that a test came to its end.
    pub fn note_end(&mut self, test: &str) {
        *self.ended.entry(test.to_owned()).or_insert(0) += 1;
    }

    /// How often a test came to its end before.
    pub fn ended(&self, test: &str) -> u32 {
        self.ended.get(test).copied().unwrap_or(0)
    }

    /// How often a point was graded.
    pub fn attempts(&self, id: &str) -> u32 {
        self.latest.get(id).map_or(0, |latest| latest.attempt)
    }

    /// The record's line of a point's latest grade; 0 where there is none.
    pub(super) fn line(&self, id: &str) -> u64 {
        self.counting(id).map_or(0, |latest| latest.line)
    }

    /// The points that did not pass and whose latest verdict is one of these, each with its test.
    pub(super) fn graded(
        &self,
        is_one: impl Fn(Verdict) -> bool,
    ) -> impl Iterator<Item = (&String, &String)> {
        let counts = |(_, latest): &(_, &Latest)| !latest.withdrawn;
        let found = self.latest.iter().filter(counts);
        let found = found.filter(move |(_, latest)| is_one(latest.verdict));
        found.filter_map(|(id, _)| Some((id, self.tests.get(id)?)))
    }

    /// A point's latest verdict; `None` where it was never graded.
    pub fn verdict(&self, id: &str) -> Option<Verdict> {
        self.counting(id).map(|latest| latest.verdict)
    }

    /// Whether a point was left out by the attendant and not graded since.
    pub fn is_skipped(&self, id: &str) -> bool {
        self.counting(id).is_some_and(|latest| latest.skipped)
    }

    /// The places of a test at which something went wrong and that did not pass since, each with what its
    /// point stands for: [`Criterion::COMPLETION`] or [`Criterion::STEP`].
    pub fn places(&self, test: &str) -> Vec<PlannedPoint> {
        let open = self
            .latest
            .iter()
            .filter(|(_, latest)| !latest.withdrawn && latest.verdict != Verdict::Pass);
        let mut points: Vec<PlannedPoint> = open
            .filter_map(|(id, latest)| {
                let (of, criterion) = latest.place.as_ref().filter(|(of, _)| of == test)?;
                let (id, test) = (id.clone(), of.as_str().into());
                let point = PointId { id, test, element: None, fault_loop: None };
                Some(PlannedPoint::certain(point, criterion.clone()))
            })
            .collect();
        points.sort_by(|a, b| a.point.id.cmp(&b.point.id));
        points
    }

    /// Counts of the latest verdicts.
    pub fn summary(&self) -> Summary {
        let counting = self.latest.values().filter(|latest| !latest.withdrawn);
        Summary::of(counting.map(|latest| latest.verdict))
    }
}
