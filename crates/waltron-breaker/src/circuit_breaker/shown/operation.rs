//! An operation over time: contacts as bars, coil currents, travel, with what was graded on them.

use super::sections::{begin, told_time};
use crate::circuit_breaker::asset::{CircuitBreaker, Measurand};
use crate::circuit_breaker::procedure::TRAVEL;
use crate::traces::{curve, range, trace};
use waltron_core::grading::{Grade, Limits, Verdict};
use waltron_core::procedure::Served;
use waltron_core::quantity::{Measure, Time};
use waltron_core::section::{Axis, Bar, Chart, Curve, Line, Mark, Outcome, Panel};
use waltron_core::text::name::Name;

/// The shaft's line among the traces.
const SHAFT: usize = 4;

/// What is shown before the first command, and after the last change, in s.
const BEFORE_S: f64 = 0.01;
const AFTER_S: f64 = 0.04;

/// Where the axis has its zero, in s since the program's start: the first command.
fn zero(served: &Served) -> Option<f64> {
    let commands = ["open", "close"].into_iter().filter_map(|name| begin(served, name));
    commands.reduce(f64::min)
}

/// A chart of an operation; nothing where no command came.
pub(super) fn chart(
    (tag, of): (&str, &CircuitBreaker),
    label: &str,
    served: &Served,
    points: &[&Grade],
    earlier: Option<&Served>,
) -> Option<Chart> {
    let zero_s = zero(served)?;
    let contacts = contacts(of, served);
    let end = end(served, &contacts, zero_s);
    let x = Axis::linear("Time from the first command, ms", -BEFORE_S, end).in_parts(1e3);
    let mut states = Panel::empty(Axis::of_rows(
        "Contacts, bar: closed",
        contacts.iter().map(Name::to_string).collect(),
    ));
    states.bars = bars(served, &contacts, zero_s, false);
    let earlier = earlier.and_then(|earlier| Some((earlier, zero(earlier)?)));
    if let Some((earlier, zero_s)) = earlier {
        states.bars.extend(bars(earlier, &contacts, zero_s, true));
    }
    states.marks = contact_marks(served, &contacts, points, &states.y, zero_s);
    let mut panels = vec![states];
    let lines_of = |name: &str, number: usize, title: &str, scale: f64| {
        let mut all: Vec<Curve> = Vec::new();
        let now = trace(served, name, zero_s, scale)?;
        all.push(curve(title, number, now, false));
        let before = earlier.and_then(|(served, zero_s)| trace(served, name, zero_s, scale));
        all.extend(before.map(|points| curve(title, number, points, true)));
        Some(all)
    };
    let mut currents = Vec::new();
    for (number, coil) in of.coils.iter().enumerate() {
        let lines = lines_of(coil.current().as_str(), number, &coil.name, 1.0);
        // A coil that nobody fed is a line along zero.
        let flows = |curves: &Vec<Curve>| curves.iter().any(|c| range_of(c) > 0.02);
        currents.extend(lines.filter(flows).into_iter().flatten());
    }
    if !currents.is_empty() {
        let (low, high) = range(&currents, -BEFORE_S, end);
        let mut panel = Panel::empty(Axis::linear("Coil current, A", low, high));
        panel.marks = coil_marks(of, &currents, points, zero_s, served);
        panel.curves = currents;
        panels.push(panel);
    }
    if let Some(transducer) = of.transducer {
        let scale = (transducer.stroke_rad / transducer.shows_v).to_degrees();
        if let Some(curves) = lines_of(TRAVEL, SHAFT, "shaft", scale) {
            let (low, high) = range(&curves, -BEFORE_S, end);
            let mut panel = Panel::empty(Axis::linear("Travel, deg", low, high));
            panel.curves = curves;
            panels.push(panel);
        }
    }
    let lines = served.program.segments.iter().zip(&served.observation.segments);
    let lines = lines.filter_map(|(segment, span)| {
        let name = match segment.name.as_str() {
            "open" => "trip command",
            "close" => "close command",
            _ => return None,
        };
        Some(Line { at: span.start.si() - zero_s, name: name.to_owned(), is_tested: true })
    });
    Some(Chart {
        of: vec![label.into()],
        title: format!("{tag} · {label}"),
        subtitle: subtitle(points),
        x,
        panels,
        lines: lines.collect(),
    })
}

fn range_of(curve: &Curve) -> f64 {
    curve.points.iter().fold(0.0f64, |most, p| most.max(p.1.abs()))
}

/// What fails, if anything does.
fn subtitle(points: &[&Grade]) -> String {
    let failed = points.iter().filter(|g| g.verdict == Verdict::Fail);
    let reasons: Vec<&str> = failed.map(|g| g.reason.as_str()).collect();
    let text = reasons.join(" · ");
    match text.char_indices().nth(130) {
        Some((at, _)) => format!("{} …", &text[..at]),
        None => text,
    }
}

/// Main and auxiliary contacts that were seen.
fn contacts(of: &CircuitBreaker, served: &Served) -> Vec<Name> {
    let main = of.contacts().into_iter().map(|(_, name)| name);
    let all = main.chain(of.auxiliaries.iter().map(|a| a.name.clone()));
    let seen = &served.observation;
    let is_seen = |name: &Name| {
        seen.closed_at_start.contains(name) || seen.raw_edges.iter().any(|e| e.signal == *name)
    };
    all.filter(is_seen).collect()
}

/// A little after the last change, or after the last command.
fn end(served: &Served, contacts: &[Name], zero_s: f64) -> f64 {
    let is_shown = |name: &Name| contacts.contains(name);
    let changes = served.observation.raw_edges.iter().filter(|e| is_shown(&e.signal));
    let changes = changes.map(|e| e.time.si() - zero_s);
    let commands = ["open", "close"].into_iter().filter_map(|name| begin(served, name));
    let last = changes.chain(commands.map(|at| at - zero_s)).fold(0.0, f64::max);
    last + AFTER_S
}

/// When contacts were closed, bounces and all.
fn bars(served: &Served, contacts: &[Name], zero_s: f64, is_aside: bool) -> Vec<Bar> {
    let seen = &served.observation;
    let mut all = Vec::new();
    for (row, name) in contacts.iter().enumerate() {
        let mut since = seen.closed_at_start.contains(name).then_some(-zero_s);
        for edge in seen.raw_edges.iter().filter(|e| e.signal == *name) {
            let at = edge.time.si() - zero_s;
            match (since, edge.closed) {
                (None, true) => since = Some(at),
                (Some(from), false) => {
                    all.push(Bar { row, from, to: at, is_aside });
                    since = None;
                }
                _ => {}
            }
        }
        let to = seen.length().si() - zero_s;
        all.extend(since.map(|from| Bar { row, from, to, is_aside }));
    }
    all
}

/// The point of a measurand of a contact or coil.
fn point<'g>(points: &[&'g Grade], what: Measurand, of: &str) -> Option<&'g Grade> {
    let key = what.key().replace('_', "-");
    let of = of.replace(' ', "-");
    let ending = if of.is_empty() { format!("/{key}") } else { format!("/{key}/{of}") };
    points.iter().copied().find(|g| g.point.id.ends_with(&ending))
}

fn outcome(verdict: Verdict) -> Outcome {
    match verdict {
        Verdict::Pass => Outcome::Pass,
        Verdict::Fail => Outcome::Fail,
        Verdict::Measured => Outcome::Measured,
        Verdict::Inconclusive | Verdict::NotTested => Outcome::Open,
    }
}

/// A mark of a graded value, where it was measured.
fn mark(grade: &Grade, x: f64, y: f64) -> Mark {
    let value = waltron_core::grading::words::main_value(&grade.measured, &grade.limits, true);
    let mut notes = vec![format!("measured {value}")];
    if grade.limits != Limits::None {
        notes.extend(grade.limits.words().map(|allowed| format!("allowed {allowed}")));
    }
    notes.push(format!("at {}", told_time(x)));
    if grade.verdict != Verdict::Pass {
        notes.push(grade.reason.clone());
    }
    Mark { x, y, outcome: outcome(grade.verdict), id: grade.point.id.clone(), notes }
}

/// Marks where contacts changed: of each its own time, and of the last one what the poles differ by, where
/// that fails.
fn contact_marks(
    served: &Served,
    contacts: &[Name],
    points: &[&Grade],
    y: &Axis,
    zero_s: f64,
) -> Vec<Mark> {
    let mut marks = Vec::new();
    let kinds = [
        ("open", Measurand::OpeningTime, Measurand::PoleSpreadOpening),
        ("close", Measurand::ClosingTime, Measurand::PoleSpreadClosing),
    ];
    for (command, time, spread) in kinds {
        let Some(from) = begin(served, command).map(|at| at - zero_s) else { continue };
        let mut last: Option<(f64, f64)> = None;
        for (row, contact) in contacts.iter().enumerate() {
            let Some(grade) = point(points, time, contact.as_str()) else { continue };
            let Some(value) = grade.measured.get("value") else { continue };
            let (at, middle) = (from + value, y.row(row));
            marks.push(mark(grade, at, middle));
            if last.is_none_or(|(before, _)| at > before) {
                last = Some((at, middle));
            }
        }
        let spread = point(points, spread, "").filter(|g| g.verdict == Verdict::Fail);
        if let Some((spread, (at, middle))) = spread.zip(last) {
            marks.push(mark(spread, at, middle));
        }
    }
    for (row, contact) in contacts.iter().enumerate() {
        let Some(grade) = point(points, Measurand::AuxiliaryLag, contact.as_str()) else {
            continue;
        };
        let edges = served.observation.raw_edges.iter().filter(|e| e.signal == *contact);
        let change = edges.map(|e| e.time - Time::from_si(zero_s)).find(|t| t.si() >= 0.0);
        marks.extend(change.map(|at| mark(grade, at.si(), y.row(row))));
    }
    marks
}

/// Marks on the coils' currents: first peak and dip.
fn coil_marks(
    of: &CircuitBreaker,
    currents: &[Curve],
    points: &[&Grade],
    zero_s: f64,
    served: &Served,
) -> Vec<Mark> {
    let mut marks = Vec::new();
    for coil in &of.coils {
        let Some(curve) = currents.iter().find(|c| c.name == coil.name) else { continue };
        let command = begin(served, if coil.closes { "close" } else { "open" });
        let Some(command) = command.map(|at| at - zero_s) else { continue };
        let at = |grade: &Grade| Some(command + grade.measured.get("value")?);
        let dip = point(points, Measurand::NotchTime, &coil.name);
        let dip = dip.and_then(|grade| Some((grade, at(grade)?)));
        let value = |time: f64| {
            let next = curve.points.partition_point(|p| p.0 < time);
            curve.points.get(next).map_or(0.0, |p| p.1)
        };
        if let Some((grade, time)) = dip {
            marks.push(mark(grade, time, value(time)));
            let peak = point(points, Measurand::CoilPeak, &coil.name);
            // The peak is the most before the dip.
            let before = curve.points.iter().filter(|p| (command..time).contains(&p.0));
            let most = before.fold((command, 0.0), |a, b| if b.1 > a.1 { *b } else { a });
            marks.extend(peak.map(|grade| mark(grade, most.0, most.1)));
        }
    }
    marks
}
