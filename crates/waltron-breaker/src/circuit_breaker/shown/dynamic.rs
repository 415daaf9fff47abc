//! The resistance of each pole while it opens, over one time: a pole beside its sisters.

use super::sections::begin;
use crate::circuit_breaker::procedure::{POLE_CURRENT, POLE_VOLTAGE};
use crate::traces::{curve, trace};
use waltron_core::grading::{Grade, words};
use waltron_core::procedure::Served;
use waltron_core::section::{Axis, Chart, Line, Panel};

/// Poles of a breaker in their injections, each with its name.
pub(super) type Poles<'s> = Vec<(String, &'s Served)>;

/// What is shown before the command, and after it, in s.
const SHOWN_S: (f64, f64) = (0.005, 0.06);
/// The share of the current that was fed below which a resistance says nothing.
const FLOWS: f64 = 0.2;

/// What a pole showed of its resistance, in Ω over s from the command: the poles' names go by colour.
fn resistance(served: &Served) -> Option<Vec<(f64, f64)>> {
    let zero_s = begin(served, "open")?;
    let amps = trace(served, POLE_CURRENT, zero_s, 1.0)?;
    let volts = trace(served, POLE_VOLTAGE, zero_s, 1.0)?;
    let fed = amps.first()?.1.abs();
    let both = amps.into_iter().zip(volts);
    let flowing = both.filter(|((_, i), _)| i.abs() > FLOWS * fed);
    let points = flowing.map(|((t, i), (_, u))| (t, u / i));
    let shown = points.filter(|(t, _)| (-SHOWN_S.0..=SHOWN_S.1).contains(t));
    Some(even(&shown.collect::<Vec<_>>()))
}

/// Means of so many neighbours: what a millisecond of scatter hides is no contact.
const NEIGHBOURS: usize = 4;

fn even(points: &[(f64, f64)]) -> Vec<(f64, f64)> {
    let at = |k: usize| {
        let half = NEIGHBOURS.min(k).min(points.len() - 1 - k);
        let part = &points[k - half..=k + half];
        (points[k].0, part.iter().map(|p| p.1).sum::<f64>() / part.len() as f64)
    };
    (0..points.len()).map(at).collect()
}

/// A chart of all poles of a test; nothing where their samples are not there.
pub(super) fn chart(
    tag: &str,
    test: &str,
    poles: &Poles<'_>,
    points: &[&Grade],
    earlier: &Poles<'_>,
) -> Option<Chart> {
    let lines = |all: &Poles<'_>, is_earlier: bool| {
        let line = |(number, (pole, served)): (usize, &(String, &Served))| {
            Some(curve(pole, number, resistance(served)?, is_earlier))
        };
        all.iter().enumerate().filter_map(line).collect::<Vec<_>>()
    };
    let mut curves = lines(poles, false);
    if curves.is_empty() {
        return None;
    }
    curves.extend(lines(earlier, true));
    let values = || curves.iter().flat_map(|c| &c.points).map(|p| p.1).filter(|v| *v > 0.0);
    let (low, high) = values().fold((f64::INFINITY, 0.0f64), |(l, h), v| (l.min(v), h.max(v)));
    let mut panel = Panel::empty(Axis::logarithmic("Resistance, uOhm", low, high).in_parts(1e6));
    panel.curves = curves;
    let told = points.iter().map(|grade| {
        let of = grade.point.id.rsplit('/').next().unwrap_or_default();
        let what = grade.point.id.rsplit('/').nth(1).unwrap_or_default().replace('-', " ");
        let value = words::main_value(&grade.measured, &grade.limits, true);
        format!("{of} {what} {value}")
    });
    let last = panel.curves.iter().flat_map(|c| &c.points).map(|p| p.0).fold(0.0, f64::max);
    let end = 1.1 * last + 2e-3;
    let x = Axis::linear("Time from the trip command, ms", -SHOWN_S.0, end).in_parts(1e3);
    Some(Chart {
        of: vec![test.into()],
        title: format!("{tag} · {test}, pole beside pole"),
        subtitle: told.collect::<Vec<_>>().join(" · "),
        x,
        panels: vec![panel],
        lines: vec![Line { at: 0.0, name: "trip command".to_owned(), is_tested: true }],
    })
}
