//! Points of a run by test, position and phase.

use crate::power::asset::{PowerTransformer, TapChanger};
use crate::power::pairs::Terminal;
use waltron_core::grading::{Criterion, Grade, Verdict};
use waltron_core::section::Outcome;
use waltron_core::text::name::Name;
use waltron_core::wing::Told;

/// The tests that have measured something of a kind, in order.
pub(super) fn tests<'t>(told: Told<'t>, criterion: &Criterion) -> Vec<&'t Name> {
    let mut all: Vec<&Name> = Vec::new();
    let measured = |g: &&Grade| g.criterion == *criterion && !g.measured.is_empty();
    for grade in told.points.iter().filter(measured) {
        if !all.contains(&&grade.point.test) {
            all.push(&grade.point.test);
        }
    }
    all
}

/// A point of a test: the position and what follows it in the id.
pub(super) fn place(grade: &Grade) -> (&str, &str) {
    let id = grade.point.id.as_str();
    let id = id.strip_prefix(grade.point.test.as_str()).unwrap_or(id).trim_start_matches('/');
    id.rsplit_once('/').unwrap_or(("", id))
}

/// The points of a kind of a test that were measured, in order.
pub(super) fn of<'t>(told: Told<'t>, test: &Name, criterion: &Criterion) -> Vec<&'t Grade> {
    let is = |g: &&Grade| g.point.test == *test && g.criterion == *criterion;
    told.points.iter().filter(is).filter(|g| !g.measured.is_empty()).collect()
}

/// The positions of a test, in the pointer's order where they are of one tap changer.
pub(super) fn positions<'t>(
    of_asset: &PowerTransformer,
    told: Told<'t>,
    test: &Name,
    criterion: &Criterion,
) -> Vec<&'t str> {
    let mut all: Vec<&str> = Vec::new();
    for (position, _) in of(told, test, criterion).into_iter().map(place) {
        if !all.contains(&position) {
            all.push(position);
        }
    }
    if let Some(changer) = one(of_asset) {
        all.sort_by_key(|label| {
            changer.positions.iter().position(|p| p.label.replace(' ', "-") == *label)
        });
    }
    all
}

/// The tap changer, where there is one.
pub(super) fn one(of_asset: &PowerTransformer) -> Option<&TapChanger> {
    match of_asset.changers.as_slice() {
        [changer] => Some(changer),
        _ => None,
    }
}

/// The letter of a phase.
pub(super) fn letter(phase: u8) -> String {
    Terminal::Phase(phase).letter().to_string()
}

/// How a verdict is drawn.
pub(super) fn outcome(verdict: Verdict) -> Outcome {
    match verdict {
        Verdict::Pass => Outcome::Pass,
        Verdict::Fail => Outcome::Fail,
        Verdict::Measured => Outcome::Measured,
        _ => Outcome::Open,
    }
}

/// The worst of several points.
pub(super) fn outcome_word<'g>(grades: impl Iterator<Item = &'g Grade>) -> String {
    worst(&grades.map(Some).collect::<Vec<_>>())
}

/// The worst of verdicts.
pub(super) fn worst(grades: &[Option<&Grade>]) -> String {
    let verdicts: Vec<Verdict> = grades.iter().flatten().map(|g| g.verdict).collect();
    let order = [
        Verdict::Fail,
        Verdict::Inconclusive,
        Verdict::NotTested,
        Verdict::Measured,
        Verdict::Pass,
    ];
    let worst = order.into_iter().find(|v| verdicts.contains(v));
    worst.map_or(String::new(), |v| v.word().to_owned())
}
