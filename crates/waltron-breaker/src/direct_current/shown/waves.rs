//! Pulses over time: the current, and the arc over the breaker, with what was measured of them.

use crate::direct_current::analysis::pulse::Shown;
use crate::direct_current::asset::{DcBreaker, amps};
use crate::direct_current::procedure::{
    LEVEL, MAIN_A, MAIN_V, MAKING, OPENING, passing, shown_on, told_of,
};
use crate::traces::{curve, range, trace};
use waltron_core::grading::{Grade, Verdict, words};
use waltron_core::procedure::Served;
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::section::{Axis, Chart, Curve, Line, Mark, Outcome, Panel};
use waltron_core::wing::Told;

/// What is shown before and after the contacts part, in s.
const RAMP_S: (f64, f64) = (0.08, 0.04);
const STEP_S: (f64, f64) = (0.02, 0.03);
/// What is shown of a closing, in s.
const CLOSING_S: (f64, f64) = (0.0, 0.4);

/// A chart of the last pulse of each rate, one of the steps, one of the closings.
pub(super) fn charts(tag: &str, of: &DcBreaker, told: Told<'_>) -> Vec<Chart> {
    let mut all = Vec::new();
    for grade in told.points {
        let served: Vec<&Served> =
            told.served.iter().filter(|s| s.points.first() == Some(&grade.point.id)).collect();
        let chart = if grade.criterion == LEVEL {
            opening(tag, of, grade, &served, RAMP_S)
        } else if grade.criterion == OPENING {
            opening(tag, of, grade, &served, STEP_S)
        } else if grade.criterion == MAKING {
            closing(tag, grade, &served)
        } else {
            None
        };
        all.extend(chart);
    }
    all
}

fn outcome(grade: &Grade) -> Outcome {
    match grade.verdict {
        Verdict::Pass => Outcome::Pass,
        Verdict::Fail => Outcome::Fail,
        Verdict::Measured => Outcome::Measured,
        _ => Outcome::Open,
    }
}

/// What a point came to, short enough for a line below a heading.
fn told(grade: &Grade) -> String {
    match grade.limits.words() {
        Some(allowed) if !grade.measured.is_empty() => {
            let value = words::main_value(&grade.measured, &grade.limits, true);
            format!("{value}, allowed {allowed}")
        }
        _ => grade.reason.clone(),
    }
}

/// A line's points between two places, so that what lies outside costs nothing.
fn cut(points: Vec<(f64, f64)>, from: f64, to: f64) -> Vec<(f64, f64)> {
    points.into_iter().filter(|p| (from..=to).contains(&p.0)).collect()
}

/// Pulses on which it opened, each from the moment at which its contacts parted.
fn opening(
    tag: &str,
    of: &DcBreaker,
    grade: &Grade,
    served: &[&Served],
    (before, after): (f64, f64),
) -> Option<Chart> {
    let (mut currents, mut arcs, mut marks): (Vec<Curve>, Vec<Curve>, Vec<Mark>) =
        Default::default();
    let mut passed = None;
    for (number, one) in served.iter().enumerate() {
        let Some(Shown::Opened(opened)) = shown_on(of, one) else { continue };
        let start_s = one.observation.captures.first()?.start.value;
        let zero_s = start_s + opened.parted_s;
        let name = format!("pulse {}", number + 1);
        let line = |meter: &str| {
            let points = cut(trace(one, meter, zero_s, 1.0)?, -before, after);
            Some(curve(&name, number, points, false))
        };
        currents.extend(line(MAIN_A));
        arcs.extend(line(MAIN_V));
        marks.push(Mark {
            x: 0.0,
            y: opened.level_a,
            outcome: outcome(grade),
            id: grade.point.id.clone(),
            notes: vec![format!("contacts part at {}", amps(opened.level_a))],
        });
        if let (Some(setting), None) = (passing(&grade.stimulus), passed) {
            let pulse = told_of(one)?;
            passed =
                pulse.passes(setting, opened.parted_s).map(|at| (at - opened.parted_s, setting));
        }
    }
    if currents.is_empty() {
        return None;
    }
    let panel = |label: &str, curves: Vec<Curve>, marks: Vec<Mark>| {
        let (low, high) = range(&curves, -before, after);
        let mut panel = Panel::empty(Axis::linear(label, low, high));
        (panel.curves, panel.marks) = (curves, marks);
        panel
    };
    // One legend is enough.
    let unnamed = arcs.into_iter().map(|c| Curve { name: String::new(), ..c }).collect();
    let panels = vec![
        panel("Current, A", currents, marks),
        panel("Voltage over the breaker, V", unnamed, Vec::new()),
    ];
    let mut lines = vec![Line { at: 0.0, name: "contacts part".to_owned(), is_tested: true }];
    lines.extend(passed.map(|(at, setting)| Line {
        at,
        name: format!("{} passed", amps(setting)),
        is_tested: true,
    }));
    let what = match grade.criterion == LEVEL {
        true => {
            let rate = grade.stimulus.get("rate").unwrap_or(0.0);
            format!("ramp of {}", Quantity { si: rate, dimension: Dimension::CURRENT_RATE })
        }
        false => "opening on a step".to_owned(),
    };
    Some(Chart {
        of: vec![grade.point.id.as_str().into()],
        title: format!("{tag} · {what}"),
        subtitle: told(grade),
        x: Axis::linear("Time from the contacts parting, ms", -before, after).in_parts(1e3),
        panels,
        lines,
    })
}

/// Closings, each from its command.
fn closing(tag: &str, grade: &Grade, served: &[&Served]) -> Option<Chart> {
    let (from, to) = CLOSING_S;
    let curves = served.iter().enumerate().filter_map(|(number, one)| {
        let at = one.program.position("close")?;
        let zero_s = one.observation.segments.get(at)?.start.value;
        let points = cut(trace(one, MAIN_A, zero_s, 1.0)?, from, to);
        // The last samples' mean: one of them is noise.
        let end = &points[points.len().saturating_sub(200)..];
        let mean = end.iter().map(|p| p.1).sum::<f64>() / end.len().max(1) as f64;
        Some(Curve { label: amps(mean.round()).to_string(), ..curve("", number, points, false) })
    });
    let curves: Vec<Curve> = curves.collect();
    if curves.is_empty() {
        return None;
    }
    let (low, high) = range(&curves, from, to);
    let mut panel = Panel::empty(Axis::linear("Current, A", low, high));
    panel.curves = curves;
    Some(Chart {
        of: vec![grade.point.id.as_str().into()],
        title: format!("{tag} · closing against a current"),
        subtitle: told(grade),
        x: Axis::linear("Time from the close command, ms", from, 1.12 * to).in_parts(1e3),
        panels: vec![panel],
        lines: Vec::new(),
    })
}
