//! Resistances over positions, and what changes of tap under current look like.

use super::points::{letter, of as all_of, one, outcome, place, positions, tests, worst};
use crate::power::asset::PowerTransformer;
use crate::power::changeover::{Samples, in_series};
use crate::power::procedure::{CHANGE, DIFFERENCE, RESISTANCE, traced};
use waltron_core::grading::{Criterion, Grade, Verdict};
use waltron_core::procedure::Served;
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::section::{Axis, Block, Chart, Curve, Mark, Panel, Style, Table};
use waltron_core::text::name::Name;
use waltron_core::wing::Told;

/// How much of a change is drawn before it begins and after, in s.
const BEFORE_S: f64 = 0.03;
const AFTER_S: f64 = 0.15;

fn ohms(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::RESISTANCE }
}

/// The points of a kind of a test, but for those of another winding in its circuit.
fn of<'t>(told: Told<'t>, test: &Name, criterion: &Criterion) -> Vec<&'t Grade> {
    let mut all = all_of(told, test, criterion);
    all.retain(|g| place(g).0 != SECOND);
    all
}

/// Where points of another winding in the circuit stand.
const SECOND: &str = "second";

/// The phases of a test, as its points call them: `U`, or `U-V`.
fn phases(told: Told<'_>, test: &Name) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for grade in of(told, test, &RESISTANCE) {
        let phase = place(grade).1.to_owned();
        if !all.contains(&phase) {
            all.push(phase);
        }
    }
    all.sort_by_key(|phase| (0..3).position(|k| phase.starts_with(&letter(k))));
    all
}

/// Charts of each test: resistances over positions, and changes over each other.
pub(super) fn charts(tag: &str, of_asset: &PowerTransformer, told: Told<'_>) -> Vec<Chart> {
    let mut all = Vec::new();
    for test in tests(told, &RESISTANCE) {
        all.extend(over_positions(tag, of_asset, told, test));
        all.extend(changes(tag, of_asset, told, test));
    }
    all
}

fn own_positions<'t>(of_asset: &PowerTransformer, told: Told<'t>, test: &Name) -> Vec<&'t str> {
    let mut all = positions(of_asset, told, test, &RESISTANCE);
    all.retain(|position| *position != SECOND);
    all
}

fn over_positions(
    tag: &str,
    of_asset: &PowerTransformer,
    told: Told<'_>,
    test: &Name,
) -> Option<Chart> {
    let positions = own_positions(of_asset, told, test);
    if positions.len() < 2 {
        return None;
    }
    let at = |position: &str| Some(positions.iter().position(|p| *p == position)? as f64 + 1.0);
    let of_phases = phases(told, test);
    let all = of(told, test, &RESISTANCE);
    let (mut low, mut high) = (f64::INFINITY, 0.0f64);
    for value in all.iter().filter_map(|g| g.measured.get("resistance")) {
        (low, high) = (low.min(value), high.max(value));
    }
    // Milliohms where that reads better.
    let (unit, scale) = if high < 1.0 { ("mOhm", 1e3) } else { ("Ohm", 1.0) };
    let room = 0.08 * (high - low).max(high * 0.01);
    let title = format!("Resistance, {unit}");
    let mut upper = Panel::empty(Axis::linear(title, (low - room) * scale, (high + room) * scale));
    for (k, phase) in of_phases.iter().enumerate() {
        let of_phase = all.iter().filter(|g| place(g).1 == *phase);
        let value = |g: &&&Grade| Some((at(place(g).0)?, g.measured.get("resistance")? * scale));
        let mut points: Vec<(f64, f64)> = of_phase.clone().filter_map(|g| value(&g)).collect();
        points.sort_by(|a, b| a.0.total_cmp(&b.0));
        upper.curves.push(Curve {
            name: format!("phase {phase}"),
            label: String::new(),
            style: Style::Trace(k),
            points,
        });
        let bad = |g: &&&Grade| !matches!(g.verdict, Verdict::Pass | Verdict::Measured);
        upper.marks.extend(of_phase.filter(bad).filter_map(|g| {
            let (x, y) = value(&g)?;
            let notes = vec![g.reason.clone()];
            Some(Mark { x, y, outcome: outcome(g.verdict), id: g.point.id.clone(), notes })
        }));
    }
    let differences = of(told, test, &DIFFERENCE);
    let share = |g: &&Grade| Some((at(place(g).0)?, g.measured.get("difference")? * 100.0));
    let mut points: Vec<(f64, f64)> = differences.iter().filter_map(share).collect();
    points.sort_by(|a, b| a.0.total_cmp(&b.0));
    let limit = differences.iter().find_map(|g| g.limits.upper()).map(|l| l * 100.0);
    let most = points.iter().map(|p| p.1).chain(limit).fold(0.0, f64::max);
    let mut lower = Panel::empty(Axis::linear("Between the phases, %", 0.0, 1.2 * most.max(0.1)));
    let last = positions.len() as f64 + 0.5;
    if let Some(limit) = limit {
        lower.curves.push(Curve {
            name: "allowed at most".to_owned(),
            label: String::new(),
            style: Style::Expected,
            points: vec![(0.5, limit), (last, limit)],
        });
    }
    lower.marks = differences
        .iter()
        .filter_map(|g| {
            let (x, y) = share(g)?;
            let (id, notes) = (g.point.id.clone(), vec![g.reason.clone()]);
            Some(Mark { x, y, outcome: outcome(g.verdict), id, notes })
        })
        .collect();
    let changer = one(of_asset).map_or("tap changers".to_owned(), |c| c.name.clone());
    let failed = differences.iter().filter(|g| g.verdict == Verdict::Fail).count();
    let subtitle = match failed {
        0 => format!("{} readings; the phases are alike at every position", all.len()),
        n => format!("{} readings; the phases differ too much at {n} positions", all.len()),
    };
    Some(Chart {
        of: vec![test.clone()],
        title: format!("{tag} · winding resistance over positions"),
        subtitle,
        x: Axis::of_places(
            format!("Position, {changer}"),
            positions.iter().map(|p| (*p).to_owned()).collect(),
        ),
        panels: vec![upper, lower],
        lines: Vec::new(),
    })
}

/// The trace of a change from where it begins: time in ms, current in A, and what lies in series in ohms.
#[derive(Default)]
struct Trace {
    amps: Vec<(f64, f64)>,
    ohms: Vec<(f64, f64)>,
}

fn trace(served: &Served) -> Option<Trace> {
    let shows = traced(&served.observation)?;
    let captured = served.observation.captures.first()?;
    let of = |name: &str| Some(&captured.tracks.iter().find(|t| t.of == *name)?.samples[..]);
    let (amps, volts) = (of("winding current")?, of("winding voltage")?);
    let series = in_series(Samples { amps, volts, rate_hz: captured.rate_hz });
    let at = |k: usize| k as f64 / captured.rate_hz - shows.begins_s;
    let inside = |k: &usize| (-BEFORE_S..=AFTER_S).contains(&at(*k));
    let places = || (0..amps.len()).filter(inside);
    Some(Trace {
        amps: places().map(|k| (at(k) * 1e3, amps[k])).collect(),
        ohms: places().filter_map(|k| Some((at(k) * 1e3, series.get(k).copied()??))).collect(),
    })
}

/// Whether a change goes on in the order of the pointer.
fn goes_on(of_asset: &PowerTransformer, change: &str) -> bool {
    let place = |label: &str| {
        let mut all = of_asset.changers.iter().flat_map(|c| &c.positions);
        all.position(|p| p.label.replace(' ', "-") == label)
    };
    // Labels may have dashes of their own.
    let cuts = change.match_indices('-').map(|(at, _)| (&change[..at], &change[at + 1..]));
    let mut known = cuts.filter_map(|(from, to)| place(from).zip(place(to)));
    known.next().is_none_or(|(from, to)| from < to)
}

/// Every change of a test over each other, phase by phase, those that fail in front: on in the pointer's order and back
/// below each other, and what lay in series meanwhile.
fn changes(tag: &str, of_asset: &PowerTransformer, told: Told<'_>, test: &Name) -> Option<Chart> {
    let grades = of(told, test, &CHANGE);
    let of_phases = phases(told, test);
    let (mut on, mut back, mut series): (Vec<Curve>, Vec<Curve>, Vec<Curve>) = Default::default();
    let mut named: Vec<usize> = Vec::new();
    let mut ordered: Vec<&&Grade> = grades.iter().collect();
    ordered.sort_by_key(|g| g.verdict == Verdict::Fail);
    for grade in ordered {
        let served = told
            .served
            .iter()
            .rfind(|s| s.serves(&grade.point.id) && !s.observation.captures.is_empty());
        let Some(trace) = served.and_then(trace) else { continue };
        let number = of_phases.iter().position(|p| *p == place(grade).1).unwrap_or_default();
        // Each phase stands in the legend once.
        let is_first = !named.contains(&number);
        if is_first {
            named.push(number);
        }
        let name = match is_first {
            true => format!("phase {}", of_phases[number]),
            false => String::new(),
        };
        let label = match grade.verdict {
            Verdict::Fail => place(grade).0.to_owned(),
            _ => String::new(),
        };
        let style = Style::Trace(number);
        let quiet = |points| Curve { name: String::new(), label: String::new(), style, points };
        series.push(quiet(trace.ohms));
        let curve = Curve { name, label, style, points: trace.amps };
        if goes_on(of_asset, place(grade).0) { on.push(curve) } else { back.push(curve) }
    }
    let count = series.len();
    if count == 0 {
        return None;
    }
    let highest =
        |curves: &[Curve]| curves.iter().flat_map(|c| &c.points).map(|p| p.1).fold(0.0, f64::max);
    let most = highest(&on).max(highest(&back));
    let panel = |title: String, most: f64, curves: Vec<Curve>| {
        let values = curves.iter().flat_map(|c| &c.points).map(|p| p.1);
        // What swings below nothing by more than scatter is seen to.
        let least = values.fold(0.0, f64::min);
        let least = if least < -0.01 * most { 1.08 * least } else { 0.0 };
        let mut panel = Panel::empty(Axis::linear(title, least, 1.08 * most));
        panel.curves = curves;
        panel
    };
    let changer = one(of_asset);
    let ends = changer.and_then(|c| Some((c.positions.first()?, c.positions.last()?)));
    let way = |from: &str, to: &str| format!("Current, A · from {from} to {to}");
    let mut panels = Vec::new();
    for (curves, is_on) in [(on, true), (back, false)] {
        if !curves.is_empty() {
            let title = match (ends, is_on) {
                (Some((a, b)), true) => way(&a.label, &b.label),
                (Some((a, b)), false) => way(&b.label, &a.label),
                (None, _) => "Current, A".to_owned(),
            };
            panels.push(panel(title, most, curves));
        }
    }
    // What opens has no end: the scale is that of the changes that are sound.
    let sound = |g: &&&Grade| g.verdict != Verdict::Fail;
    let of_sound = grades.iter().filter(sound).filter_map(|g| g.measured.get("series"));
    let ohms = of_sound.reduce(f64::max).map_or_else(|| highest(&series), |most| 1.5 * most);
    for curve in &mut series {
        curve.points.retain(|(_, y)| *y <= 1.08 * ohms);
    }
    panels.push(panel("In series, Ohm".to_owned(), ohms.max(1e-3), series));
    let failed = grades.iter().filter(|g| g.verdict == Verdict::Fail).count();
    let subtitle = match failed {
        0 => format!("{count} changes of tap over each other, the current is never gone"),
        n => format!("{count} changes of tap over each other, {n} beyond their limits"),
    };
    Some(Chart {
        of: vec![format!("{test}/changes").as_str().into()],
        title: format!("{tag} · changes of tap under current"),
        subtitle,
        x: Axis::linear(
            "Time since contacts begin to change over, ms",
            -BEFORE_S * 1e3,
            AFTER_S * 1e3,
        ),
        panels,
        lines: Vec::new(),
    })
}

/// Resistances of all positions as a table, and changes of tap that are out of their limits or the widest.
pub(super) fn blocks(of_asset: &PowerTransformer, told: Told<'_>) -> Vec<Block> {
    let mut all = Vec::new();
    for test in tests(told, &RESISTANCE) {
        let of_phases = phases(told, test);
        let mut headings = vec!["Position".to_owned()];
        headings.extend(of_phases.iter().map(|p| format!("#{p}")));
        headings.extend(["#Between phases", "#Largest left to come", "Verdict"].map(str::to_owned));
        let headings: Vec<&str> = headings.iter().map(String::as_str).collect();
        let mut table = Table::of(&headings);
        let (resistances, differences) = (of(told, test, &RESISTANCE), of(told, test, &DIFFERENCE));
        for position in own_positions(of_asset, told, test) {
            let find = |phase: &String| {
                resistances.iter().find(|g| place(g) == (position, phase.as_str())).copied()
            };
            let mut grades: Vec<Option<&Grade>> = of_phases.iter().map(find).collect();
            let mut row = vec![position.to_owned()];
            row.extend(grades.iter().map(|g| {
                let value = g.and_then(|g| g.measured.get("resistance"));
                value.map_or(String::new(), |si| format!("{:#}", ohms(si)))
            }));
            let difference = differences.iter().find(|g| place(g).0 == position).copied();
            let text = |g: Option<&Grade>, name: &str| g.and_then(|g| g.measured.text(name));
            row.push(text(difference, "difference").unwrap_or_default());
            let left = grades.iter().flatten().max_by(|a, b| {
                let left = |g: &Grade| g.measured.get("left").unwrap_or(0.0).abs();
                left(a).total_cmp(&left(b))
            });
            row.push(text(left.copied(), "left").unwrap_or_default());
            grades.push(difference);
            row.push(worst(&grades));
            table.rows.push(row);
        }
        all.extend(table.block());
        all.extend(second(told, test));
        all.extend(changed(told, test));
    }
    all
}

/// Another winding that was in the circuit.
fn second(told: Told<'_>, test: &Name) -> Option<Block> {
    let mut table = Table::of(&["In the same circuit", "#Resistance", "#Maker's", "Verdict"]);
    let is_second = |g: &&&Grade| place(g).0 == SECOND;
    table.rows = all_of(told, test, &RESISTANCE)
        .iter()
        .filter(is_second)
        .map(|g| {
            let text = |si: Option<f64>| si.map_or(String::new(), |si| format!("{:#}", ohms(si)));
            vec![
                place(g).1.to_owned(),
                text(g.measured.get("resistance")),
                text(g.expected.get("resistance")),
                g.verdict.word().to_owned(),
            ]
        })
        .collect();
    table.block()
}

/// Changes of tap, the deepest dip of each phase and all that fail.
fn changed(told: Told<'_>, test: &Name) -> Option<Block> {
    let mut grades = of(told, test, &CHANGE);
    let ripple = |g: &Grade| g.measured.get("ripple").unwrap_or(0.0);
    grades.sort_by(|a, b| {
        let key = |g: &Grade| (g.verdict != Verdict::Fail, -ripple(g));
        key(a).0.cmp(&key(b).0).then(key(a).1.total_cmp(&key(b).1))
    });
    let failed = grades.iter().filter(|g| g.verdict == Verdict::Fail).count();
    let has_motor = grades.iter().any(|g| g.measured.get("motor_time").is_some());
    let of_motor: &[&str] = if has_motor { &["motor_time", "motor_current"] } else { &[] };
    let mut headings =
        vec!["Change of tap", "Phase", "#Gone for", "#Dip", "#Lasts", "#In series at most"];
    headings.extend(of_motor.iter().zip(["#Motor ran", "#Motor took"]).map(|(_, name)| name));
    headings.push("Verdict");
    let mut table = Table::of(&headings);
    let of_phases = phases(told, test);
    let mut shown = grades[..failed].to_vec();
    for phase in &of_phases {
        shown.extend(grades[failed..].iter().find(|g| place(g).1 == phase.as_str()));
    }
    table.rows = shown
        .iter()
        .map(|g| {
            let text = |name: &str| g.measured.text(name).unwrap_or_default();
            let mut row = vec![place(g).0.to_owned(), place(g).1.to_owned()];
            let values = ["interruption", "ripple", "duration", "series"];
            row.extend(values.iter().chain(of_motor).map(|name| text(name)));
            row.push(g.verdict.word().to_owned());
            row
        })
        .collect();
    table.block()
}
