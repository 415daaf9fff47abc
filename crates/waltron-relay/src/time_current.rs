//! Charts of operate time over current: characteristics with their band, other stages, points.

use crate::Overcurrent;
use waltron_core::asset::{Asset, Element, Function};
use waltron_core::characteristic::{Acceptance, earliest_of};
use waltron_core::grading::{Grade, Limits, Verdict};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::measures::Measures;
use waltron_core::quantity::{Current, Measure, amperes, text};
use waltron_core::section::{Axis, Chart, Curve, Line, Mark, Outcome, Panel, Region, Style};
use waltron_core::text::name::Name;

/// Points per decade of the drawn curves; more than the picture can resolve.
const PER_DECADE: f64 = 120.0;

/// An element whose time is drawn over its current.
type Tested = Element<Overcurrent>;

/// The charts of a run, with its trip times; those of all elements that are on if there are none.
pub(crate) fn charts(asset: &Asset, points: &[Grade]) -> Vec<Chart> {
    let mut tested: Vec<Tested> = Vec::new();
    for grade in points.iter().filter(|g| is_time(g) && g.verdict != Verdict::NotTested) {
        let element = grade.point.element.as_ref().and_then(|id| asset.element(id.as_str()));
        let element = element.filter(|e| !tested.iter().any(|t| t.id == e.id));
        tested.extend(element.and_then(Element::of));
    }
    if tested.is_empty() {
        tested = asset.enabled().filter_map(Element::of).collect();
    }
    groups(&tested).iter().map(|group| chart(asset, group, points)).collect()
}

/// The chart of elements that measure the same quantity and close the same contact.
fn chart(asset: &Asset, group: &[&Tested], points: &[Grade]) -> Chart {
    let element = group[0];
    let tested = |id: &Name| group.iter().find(|e| e.id == *id).copied();
    let points: Vec<(&Tested, &Grade)> = points
        .iter()
        .filter(|g| is_time(g))
        .filter_map(|g| Some((tested(g.point.element.as_ref()?)?, g)))
        .collect();
    // The loop decides what the other stages see of the same current.
    let fault_loop = points
        .iter()
        .filter_map(|(_, g)| g.point.fault_loop)
        .chain([FaultLoop::AN, FaultLoop::AB, FaultLoop::ABC])
        .find(|l| element.measures.phase_current(*l, amperes(1.0)).is_some())
        .unwrap_or(FaultLoop::AN);
    let frequency = asset.ratings.frequency.unwrap_or_default();
    let fault = |seen: f64| {
        let phase = element.measures.phase_current(fault_loop, amperes(seen));
        Stimulus::phase_currents(fault_loop.currents(phase.unwrap_or_default()), frequency)
    };
    let phases = |seen: f64| fault(seen).complex_phase_currents();
    let sharing: Vec<Tested> = asset.tripping(&element.trip).filter_map(Element::of).collect();
    // Where a stage picks up, as the current on the axis.
    let pickup = |e: &Tested| {
        let seen = e.measures.value(phases(1.0)).si();
        (seen > 1e-9).then(|| e.pickup.si() / seen)
    };
    let marks: Vec<Mark> = points.iter().filter_map(|(e, g)| mark(e, g)).collect();
    let x = currents(element.measures, &marks, sharing.iter().filter_map(&pickup));
    let grid = grid(&x, sharing.iter().filter_map(&pickup));
    let time_of = |e: &Tested, seen: f64| {
        let multiple = e.measures.value(phases(seen)) / e.pickup;
        Some((seen, e.characteristic.operate_time(multiple.value)?.si()))
    };
    let whole = |seen: f64| earliest_of(sharing.iter().map(|e| e.required(&fault(seen))));
    let allowed = |seen: &f64| match whole(*seen) {
        Acceptance { earliest: Some(earliest), latest, .. } => {
            let latest = latest.map_or(f64::INFINITY, Measure::si);
            Some((*seen, earliest.si(), latest))
        }
        _ => None,
    };
    let band: Vec<(f64, f64, f64)> = grid.iter().filter_map(allowed).collect();
    let expected: Vec<(f64, f64)> =
        grid.iter().filter_map(|i| Some((*i, whole(*i).expected?.si()))).collect();
    let mut curves = Vec::new();
    if sharing.len() > 1 {
        curves.extend(sharing.iter().map(|e| Curve {
            name: String::new(),
            label: String::new(),
            style: Style::Aside,
            points: grid.iter().filter_map(|i| time_of(e, *i)).collect(),
        }));
    }
    let y = times(&marks, &expected);
    let name = "expected".to_owned();
    let label = String::new();
    curves.push(Curve { name, label, style: Style::Expected, points: expected });
    let lines = sharing.iter().filter_map(|e| {
        let name = format!("{} {}", e.id, text(e.pickup));
        Some(Line { at: pickup(e)?, name, is_tested: tested(&e.id).is_some() })
    });
    let ids: Vec<&str> = group.iter().map(|e| e.id.as_str()).collect();
    Chart {
        of: group.iter().map(|e| e.id.clone()).collect(),
        title: format!("{} · {} · trip time against current", asset.identity.tag, ids.join(", ")),
        subtitle: String::new(),
        lines: lines.collect(),
        x,
        panels: vec![Panel {
            y,
            regions: vec![Region::between("acceptance band", &band)],
            bars: Vec::new(),
            curves,
            marks,
        }],
    }
}

/// Elements that share one diagram: same quantity on the axis, same contact.
fn groups(elements: &[Tested]) -> Vec<Vec<&Tested>> {
    let mut groups: Vec<Vec<&Tested>> = Vec::new();
    for element in elements {
        let same =
            |g: &&mut Vec<&Tested>| g[0].trip == element.trip && g[0].measures == element.measures;
        match groups.iter_mut().find(same) {
            Some(group) => group.push(element),
            None => groups.push(vec![element]),
        }
    }
    groups
}

fn is_time(grade: &Grade) -> bool {
    grade.limits.is_of_operation()
}

fn mark(element: &Tested, grade: &Grade) -> Option<Mark> {
    let seen: Current = element.pickup * grade.stimulus.get("multiple")?;
    let measured = grade.measured.get("time");
    let waited = grade.limits.upper().or(grade.limits.lower());
    let outcome = match (grade.verdict, measured) {
        (Verdict::Pass, Some(_)) => Outcome::Pass,
        (Verdict::Pass, None) => Outcome::Nothing,
        (Verdict::Fail, _) => Outcome::Fail,
        (Verdict::Inconclusive, _) => Outcome::Open,
        (Verdict::Measured | Verdict::NotTested, _) => return None,
    };
    let value = |label: &str, text: Option<String>| text.map(|t| format!("{label} {t}"));
    let band = match grade.limits {
        Limits::Operation { earliest: Some(a), latest: Some(b) } => {
            format!("allowed {} to {}", text(a), text(b))
        }
        Limits::Operation { earliest: Some(a), .. } => format!("allowed from {}", text(a)),
        _ => "no operation allowed".to_owned(),
    };
    let notes = [
        value("injected", grade.stimulus.text("current")),
        value("measured", grade.measured.text("time")),
        value("expected", grade.expected.text("time")),
        Some(band),
        Some(format!("{}: {}", grade.verdict, grade.reason)),
    ];
    Some(Mark {
        x: seen.si(),
        // A point without operation is drawn at the top edge, where the axis puts it.
        y: measured.or(waited).unwrap_or(f64::INFINITY),
        outcome,
        id: grade.point.id.clone(),
        notes: notes.into_iter().flatten().collect(),
    })
}

fn currents(measures: Measures, marks: &[Mark], pickups: impl Iterator<Item = f64>) -> Axis {
    let label = match measures {
        Measures::Phase => "Phase current, A secondary",
        Measures::Residual => "Residual current 3·I0, A secondary",
        Measures::NegativeSequence => "Negative-sequence current I2, A secondary",
        Measures::PositiveSequence => "Positive-sequence current I1, A secondary",
    };
    let all: Vec<f64> = marks.iter().map(|m| m.x).chain(pickups).collect();
    let low = all.iter().copied().fold(f64::INFINITY, f64::min);
    let high = all.iter().copied().fold(0.0, f64::max);
    Axis::logarithmic(label, low * 0.75, (high * 1.35).max(low * 8.0))
}

fn times(marks: &[Mark], expected: &[(f64, f64)]) -> Axis {
    let measured = marks.iter().map(|m| m.y).filter(|t| t.is_finite());
    let curve = expected.iter().map(|(_, t)| *t);
    let all: Vec<f64> = measured.clone().chain(curve).filter(|t| *t > 0.0).collect();
    // What operates at once stands on the axis' lower end.
    let low = all.iter().copied().reduce(f64::min).unwrap_or(0.01);
    let slowest = measured.fold(0.0, f64::max);
    // The curve runs to infinity at pickup: show what was measured, and some more.
    let high = if slowest > 0.0 { slowest * 4.0 } else { low * 2000.0 };
    Axis::logarithmic("Trip time, s", (low * 0.5).max(0.001), high.max(low * 50.0))
}

/// Currents evenly spread on a logarithmic axis, with the pickups' neighbourhoods resolved.
fn grid(axis: &Axis, pickups: impl Iterator<Item = f64>) -> Vec<f64> {
    let (low, high) = axis.ends();
    let count = ((high / low).log10() * PER_DECADE).ceil().max(2.0);
    let even = (0..=count as usize).map(|i| low * (high / low).powf(i as f64 / count));
    let near = pickups.flat_map(|p| {
        let steps = [0.97, 0.98, 0.99, 0.999, 1.0, 1.000_01, 1.001, 1.003, 1.01, 1.02, 1.03, 1.05];
        steps.map(|s| p * s)
    });
    let mut all: Vec<f64> = even.chain(near).filter(|i| axis.contains(*i)).collect();
    all.sort_by(f64::total_cmp);
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn curves_are_resolved_near_pickup() {
        let grid = grid(&Axis::logarithmic("", 0.5, 20.0), [1.2, 9.6].into_iter());
        assert!(grid.windows(2).all(|w| w[0] <= w[1]));
        assert!(grid.iter().any(|i| *i > 1.2 && *i < 1.2001));
        assert!(grid.first().is_some_and(|i| *i >= 0.5) && grid.last().is_some_and(|i| *i <= 20.0));
    }
}
