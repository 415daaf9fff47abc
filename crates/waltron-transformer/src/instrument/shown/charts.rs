//! Charts of a run: excitation of all taps and phases, errors against current, limit against burden.

use super::measured::{Measured, measured};
use crate::instrument::analysis::KneeKind;
use crate::instrument::analysis::classes::Class;
use crate::instrument::analysis::errors::burden_for;
use crate::instrument::asset::InstrumentTransformer;
use waltron_core::asset::Asset;
use waltron_core::quantity::{Dimension, Quantity, significant};
use waltron_core::section::{Axis, Chart, Curve, Mark, Outcome, Panel, Region, Style};
use waltron_core::wing::Told;

/// All charts of a run, core by core.
pub(crate) fn charts(asset: &Asset, told: Told<'_>) -> Vec<Chart> {
    let Some(of) = asset.family::<InstrumentTransformer>() else { return Vec::new() };
    let all = measured(asset, told);
    let mut charts = Vec::new();
    for (core, secondary) in of.secondaries.iter().enumerate() {
        let places: Vec<&Measured> = all.iter().filter(|m| m.spot.core == core).collect();
        if places.is_empty() {
            continue;
        }
        let called = match of.secondaries.len() {
            1 => asset.identity.tag.clone(),
            _ => format!("{} · core {}", asset.identity.tag, secondary.id),
        };
        let named = |what: &str| match of.secondaries.len() {
            1 => what.to_owned(),
            _ => format!("{what}-{}", secondary.id),
        };
        charts.push(excitation(of, &places, &called, named("excitation")));
        charts.extend(errors(of, &places, &called, named("errors")));
        charts.extend(limits(of, &places, &called, named("limit")));
    }
    charts
}

fn volts(si: f64) -> String {
    Quantity { si, dimension: Dimension::VOLTAGE }.to_string()
}

fn amps(si: f64) -> String {
    Quantity { si, dimension: Dimension::CURRENT }.to_string()
}

/// Which of the phases a place is of, and its line's style: taps by colour, phases by dashes.
fn style(of: &InstrumentTransformer, place: &Measured) -> Style {
    let phase = of.phases.iter().position(|p| Some(&p.id) == place.spot.phase.as_ref());
    Style::Dashed { number: place.spot.tap, dashes: phase.unwrap_or(0) }
}

fn excitation(of: &InstrumentTransformer, places: &[&Measured], called: &str, id: String) -> Chart {
    let points = || places.iter().flat_map(|m| m.curve.curve.points());
    let span = |value: &dyn Fn(f64, f64) -> f64| {
        points()
            .map(|p| value(p.rms_a, p.emf_v))
            .fold((f64::INFINITY, 0.0f64), |(l, h), v| (l.min(v), h.max(v)))
    };
    let (low_i, high_i) = span(&|i, _| i);
    let (low_e, high_e) = span(&|_, e| e);
    // What small currents take is of use for metering, but four decades are enough to see.
    let x = Axis::logarithmic("Exciting current, A (RMS)", low_i.max(high_i * 1e-5), high_i * 2.0);
    let lowest = low_e.max(high_e * 1e-3);
    let mut panel = Panel::empty(Axis::logarithmic("E.m.f., V (RMS)", lowest, high_e));
    let mut phases: Vec<Option<String>> = Vec::new();
    for place in places {
        let curve = &place.curve.curve;
        let tap = of.tap(&place.spot);
        // A phase stands in the legend once; taps are written at their curves.
        let is_new = !phases.contains(&place.spot.phase);
        let is_first = phases.first().is_none_or(|p| *p == place.spot.phase);
        if is_new {
            phases.push(place.spot.phase.clone());
        }
        let phase = place.spot.phase.as_ref().filter(|_| is_new);
        panel.curves.push(Curve {
            name: phase.map_or_else(String::new, |p| format!("phase {p}")),
            label: if is_first { tap.terminals.clone() } else { String::new() },
            style: style(of, place),
            points: curve
                .points()
                .iter()
                .map(|p| (p.rms_a, p.emf_v))
                .filter(|p| p.1 >= lowest)
                .collect(),
        });
        for knee in curve.knees() {
            if knee.kind == KneeKind::Tangent30 {
                continue;
            }
            panel.marks.push(Mark {
                x: knee.current_a,
                y: knee.emf_v,
                outcome: Outcome::Measured,
                id: format!("{} {}", place.name, knee.kind.words()),
                notes: vec![volts(knee.emf_v), amps(knee.current_a)],
            });
        }
        if let (Some(v), Some((i, 1.0))) = (tap.knee_v, tap.exciting) {
            panel.marks.push(Mark {
                x: i,
                y: v,
                outcome: Outcome::Rated,
                id: format!("{} rated knee point", place.name),
                notes: vec![volts(v), amps(i)],
            });
        }
    }
    Chart {
        of: vec![id.as_str().into()],
        title: format!("{called} · excitation"),
        subtitle: "RMS exciting current against e.m.f., demagnetised; knee points 10/50 % and 45°"
            .to_owned(),
        x,
        panels: vec![panel],
        lines: Vec::new(),
    }
}

/// Ratio error and phase displacement against current, of the whole winding of a core.
fn errors(
    of: &InstrumentTransformer,
    places: &[&Measured],
    called: &str,
    id: String,
) -> Option<Chart> {
    let whole = of.secondary(&places.first()?.spot).whole();
    let rows = match whole.class? {
        Class::Measuring(class) => class.rows(whole.extended),
        _ => return None,
    };
    let of_whole = places.iter().filter(|m| std::ptr::eq(of.tap(&m.spot), whole));
    let (from, to) = (rows.first()?.share, rows.last()?.share);
    let grid: Vec<f64> = (0..=60).map(|k| from * (to / from).powf(f64::from(k) / 60.0)).collect();
    let mut ratio = Panel::empty(Axis::linear("Ratio error, %", 0.0, 1.0));
    let mut phase = Panel::empty(Axis::linear("Phase displacement, min", 0.0, 1.0));
    let mut dashes = 0;
    for place in of_whole {
        for (number, (share, words)) in
            [(1.0, "rated burden"), (0.25, "quarter")].into_iter().enumerate()
        {
            let Some(of_loop) =
                place.rated_burden(of, share).and_then(|b| place.with_burden(of, b))
            else {
                continue;
            };
            let found = grid.iter().filter_map(|s| Some((*s, of_loop.errors(*s)?)));
            let found: Vec<_> = found.collect();
            let name = match &place.spot.phase {
                Some(phase) => format!("{phase} {words}"),
                None => words.to_owned(),
            };
            let curve = |points, name| Curve {
                name,
                label: String::new(),
                style: Style::Dashed { number, dashes },
                points,
            };
            let percent = found.iter().map(|(s, e)| (s * 100.0, e.ratio * 100.0)).collect();
            ratio.curves.push(curve(percent, name));
            let minutes = found.iter().map(|(s, e)| (s * 100.0, e.phase.to_degrees() * 60.0));
            phase.curves.push(curve(minutes.collect(), String::new()));
        }
        dashes += 1;
    }
    let corridor = |value: &dyn Fn(usize) -> f64| {
        let edges: Vec<(f64, f64, f64)> = rows
            .iter()
            .enumerate()
            .map(|(k, row)| (row.share * 100.0, -value(k), value(k)))
            .collect();
        edges
    };
    let of_ratio = corridor(&|k| rows[k].ratio * 100.0);
    let of_phase = corridor(&|k| rows[k].minutes.unwrap_or(0.0));
    let most = |edges: &[(f64, f64, f64)]| edges.iter().fold(0.0f64, |m, e| m.max(e.2)) * 1.1;
    ratio.y = Axis::linear("Ratio error, %", -most(&of_ratio), most(&of_ratio));
    phase.y = Axis::linear("Phase displacement, min", -most(&of_phase), most(&of_phase));
    let class = whole.class.map(|c| c.to_string()).unwrap_or_default();
    let name = format!("class {class}");
    ratio.regions.push(Region::between(name.as_str(), &of_ratio));
    phase.regions.push(Region::between(name.as_str(), &of_phase));
    let mut panels = vec![ratio];
    if rows.iter().any(|row| row.minutes.is_some()) {
        panels.push(phase);
    }
    Some(Chart {
        of: vec![id.as_str().into()],
        title: format!("{called} · errors against current"),
        subtitle: "worked out from excitation, turns and resistance (indirect method)".to_owned(),
        x: Axis::logarithmic("Current, % of rated", from * 100.0, to * 100.0),
        panels,
        lines: Vec::new(),
    })
}

/// The multiple up to which a protection core keeps its composite error, against the burden.
fn limits(
    of: &InstrumentTransformer,
    places: &[&Measured],
    called: &str,
    id: String,
) -> Option<Chart> {
    let secondary = of.secondary(&places.first()?.spot);
    let is_protection =
        |m: &&&Measured| matches!(of.tap(&m.spot).class, Some(Class::Protection { .. }));
    let mut panel = Panel::empty(Axis::linear("Accuracy limit factor", 0.0, 1.0));
    let (mut most_x, mut most_y) = (0.0f64, 0.0f64);
    let mut phases: Vec<Option<String>> = Vec::new();
    for place in places.iter().filter(is_protection) {
        let tap = of.tap(&place.spot);
        let Some(Class::Protection { percent, limit_factor, .. }) = tap.class else { continue };
        let Some(burden) = place.rated_burden(of, 1.0) else { continue };
        let Some(of_loop) = place.with_burden(of, burden) else { continue };
        let share = f64::from(percent) / 100.0;
        let rated = burden.va(of_loop.rated_a);
        // From the highest multiple down, as long as less of it allows more burden: below, the core's
        // own loss may exceed the share long before it saturates.
        let mut points: Vec<(f64, f64)> = Vec::new();
        for k in (0..80).rev() {
            let multiple = 2.0 * 40f64.powf(f64::from(k) / 79.0);
            let Some(va) = burden_for(&of_loop, multiple, share, burden.power_factor()) else {
                continue;
            };
            if va > 4.0 * rated || points.last().is_some_and(|(before, _)| va <= *before) {
                break;
            }
            points.push((va, multiple));
        }
        most_y = points.iter().fold(most_y, |most, p| most.max(p.1 * 1.1));
        let is_new = !phases.contains(&place.spot.phase);
        let is_first = phases.first().is_none_or(|p| *p == place.spot.phase);
        if is_new {
            phases.push(place.spot.phase.clone());
        }
        let phase = place.spot.phase.as_ref().filter(|_| is_new);
        most_x = most_x.max(rated * 2.5);
        most_y = most_y.max(limit_factor * 1.1);
        panel.curves.push(Curve {
            name: phase.map_or_else(String::new, |p| format!("phase {p}")),
            label: if is_first { tap.terminals.clone() } else { String::new() },
            style: style(of, place),
            points,
        });
        if is_first {
            panel.marks.push(Mark {
                x: rated,
                y: limit_factor,
                outcome: Outcome::Rated,
                id: format!("{} as rated", tap.terminals),
                notes: vec![
                    format!("{limit_factor} times rated current"),
                    format!("{} VA", significant(rated, 4)),
                ],
            });
        }
    }
    if panel.curves.is_empty() {
        return None;
    }
    panel.y = Axis::linear("Accuracy limit factor", 0.0, most_y);
    let amps = Quantity { si: secondary.secondary.si, ..secondary.secondary };
    Some(Chart {
        of: vec![id.as_str().into()],
        title: format!("{called} · accuracy limit against burden"),
        subtitle: "above the rated point, a tap does more than its class asks".to_owned(),
        x: Axis::linear(format!("Burden, VA at {amps}"), 0.0, most_x),
        panels: vec![panel],
        lines: Vec::new(),
    })
}
