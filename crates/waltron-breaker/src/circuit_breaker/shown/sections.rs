//! The sections of a report, and its charts by themselves.

use super::{dynamic, motor, operation};
use crate::circuit_breaker::asset::{CircuitBreaker, Measurand};
use crate::circuit_breaker::procedure::MOTOR_CURRENT;
use waltron_core::asset::Asset;
use waltron_core::grading::{Grade, words};
use waltron_core::procedure::Served;
use waltron_core::quantity::{Measure, seconds};
use waltron_core::section::{Block, Chart, Section, Table};
use waltron_core::wing::Told;

/// Injections that were seen, each with what their points begin with: `operation/O/trip-1`. Of one that was
/// made again, the last.
pub(super) fn shown(served: &[Served]) -> Vec<(String, &Served)> {
    let mut all: Vec<(String, &Served)> = Vec::new();
    for one in served {
        let Some(label) = label(one) else { continue };
        match all.iter_mut().find(|(l, _)| *l == label) {
            Some(earlier) => earlier.1 = one,
            None => all.push((label, one)),
        }
    }
    all
}

/// What the points of an injection begin with.
fn label(served: &Served) -> Option<String> {
    let id = served.points.first()?;
    let keys = crate::circuit_breaker::asset::Measurand::ALL
        .iter()
        .map(|what| what.key().replace('_', "-"));
    let mut parts: Vec<&str> = id.split('/').collect();
    let at = keys.filter_map(|key| parts.iter().position(|part| *part == key)).min()?;
    parts.truncate(at);
    Some(parts.join("/"))
}

/// Whether it moved the main contacts.
fn is_operation(served: &Served) -> bool {
    served.program.segments.iter().any(|s| matches!(s.name.as_str(), "open" | "close"))
        && served.program.position("before").is_some()
}

/// Whether a pole's resistance was looked at while it opened.
fn is_dynamic(served: &Served) -> bool {
    let key = Measurand::ArcingTime.key().replace('_', "-");
    served.points.iter().any(|id| id.split('/').any(|part| part == key))
}

fn is_motor(served: &Served) -> bool {
    let tracks = served.observation.captures.iter().flat_map(|c| &c.tracks);
    served.program.position("charge").is_some()
        && tracks.into_iter().any(|t| t.of == *MOTOR_CURRENT)
}

/// The points that begin with a label.
pub(super) fn points_of<'g>(points: &'g [Grade], label: &str) -> Vec<&'g Grade> {
    let begins = |g: &&Grade| g.point.id.strip_prefix(label).is_some_and(|r| r.starts_with('/'));
    points.iter().filter(begins).collect()
}

/// The injections of each test of dynamic resistances, pole by pole.
fn dynamics(served: &[Served]) -> Vec<(String, dynamic::Poles<'_>)> {
    let key = Measurand::ArcingTime.key().replace('_', "-");
    let mut all: Vec<(String, dynamic::Poles<'_>)> = Vec::new();
    for one in served {
        let of = one.points.iter().find_map(|id| {
            let (test, rest) = id.split_once('/')?;
            let (what, pole) = rest.split_once('/')?;
            (what == key).then(|| (test.to_owned(), pole.to_owned()))
        });
        let Some((test, pole)) = of else { continue };
        let at = all.iter().position(|(of, _)| *of == test).unwrap_or_else(|| {
            all.push((test, Vec::new()));
            all.len() - 1
        });
        // Of one that was made again, the last.
        all[at].1.retain(|(of, _)| *of != pole);
        all[at].1.push((pole, one));
    }
    all
}

/// Charts of dynamic resistances: the poles of a breaker beside each other, those of an earlier run behind them.
fn pole_by_pole<'t>(tag: &str, told: Told<'t>) -> Vec<(String, Chart, Vec<&'t Grade>)> {
    let earlier = told.earlier.map(|e| dynamics(e.served)).unwrap_or_default();
    let nothing = Vec::new();
    let draw = |(test, poles): (String, dynamic::Poles<'_>)| {
        let before = earlier.iter().find(|(of, _)| *of == test).map_or(&nothing, |(_, p)| p);
        let points = points_of(told.points, &test);
        let chart = dynamic::chart(tag, &test, &poles, &points, before)?;
        Some((test, chart, points))
    };
    dynamics(told.served).into_iter().filter_map(draw).collect()
}

fn drawn<'t>(
    (tag, of): (&str, &CircuitBreaker),
    told: Told<'t>,
) -> Vec<(String, Chart, Vec<&'t Grade>)> {
    let earlier = told.earlier.map(|e| shown(e.served)).unwrap_or_default();
    let draw = |(label, served): (String, &Served)| {
        let points = points_of(told.points, &label);
        let before = earlier.iter().find(|(l, _)| *l == label).map(|(_, served)| *served);
        let chart = match served {
            // Those of the poles stand beside each other.
            served if is_dynamic(served) => None,
            served if is_operation(served) => {
                operation::chart((tag, of), &label, served, &points, before)
            }
            served if is_motor(served) => motor::chart(tag, &label, served, &points, before),
            _ => None,
        };
        Some((label, chart?, points))
    };
    let operations = shown(told.served).into_iter().filter_map(draw);
    operations.chain(pole_by_pole(tag, told)).collect()
}

/// A chart of each operation, of the motor, and of the poles' resistances while they open.
pub(crate) fn charts(asset: &Asset, told: Told<'_>) -> Vec<Chart> {
    let Some(of) = asset.family::<CircuitBreaker>() else { return Vec::new() };
    drawn((&asset.identity.tag, of), told).into_iter().map(|(_, chart, _)| chart).collect()
}

/// Nameplate and limits; each operation as it was seen, with its values beside it.
pub(crate) fn sections(asset: &Asset, told: Told<'_>) -> Vec<Section> {
    let own = &asset.own;
    let mut all = vec![Section::new("Nameplate and limits", vec![Block::Facts(own.facts())])];
    let Some(of) = asset.family::<CircuitBreaker>() else { return all };
    let mut blocks = Vec::new();
    if let Some(earlier) = told.earlier {
        let day = earlier.at.split('T').next().unwrap_or(earlier.at);
        let what = "Hollow bars and dashed grey lines are those of the earlier run of";
        blocks.push(Block::Note(format!("{what} {day}.")));
    }
    for (label, chart, points) in drawn((&asset.identity.tag, of), told) {
        blocks.push(Block::Chart(chart));
        let earlier = told.earlier.map(|e| points_of(e.points, &label));
        blocks.extend(table(&label, &points, earlier.as_deref()).block());
    }
    if !blocks.is_empty() {
        all.push(Section::new("Operations", blocks));
    }
    all
}

/// The values of an operation, each with what it must keep.
fn table(label: &str, points: &[&Grade], earlier: Option<&[&Grade]>) -> Table {
    let headings: &[&str] = match earlier {
        Some(_) => &["Value", "#Measured", "#Earlier", "#Allowed", "Verdict"],
        None => &["Value", "#Measured", "#Allowed", "Verdict"],
    };
    let mut table = Table::of(headings);
    let value = |grade: &Grade| words::main_value(&grade.measured, &grade.limits, true);
    for grade in points {
        let mut row = vec![name(label, grade), value(grade)];
        if let Some(earlier) = earlier {
            let before = earlier.iter().find(|e| e.point.id == grade.point.id);
            row.push(before.map_or(String::new(), |before| value(before)));
        }
        row.extend([grade.limits.words().unwrap_or_default(), grade.verdict.word().to_owned()]);
        table.rows.push(row);
    }
    table
}

/// `opening time, L1` of `operation/O/trip-1/opening-time/L1`.
fn name(label: &str, grade: &Grade) -> String {
    let rest = grade.point.id.get(label.len() + 1..).unwrap_or_default();
    let (key, of) = rest.split_once('/').unwrap_or((rest, ""));
    let what = crate::circuit_breaker::asset::Measurand::ALL
        .iter()
        .find(|w| w.key().replace('_', "-") == key);
    let what = what.map_or(key, |what| what.words());
    if of.is_empty() { what.to_owned() } else { format!("{what}, {of}") }
}

/// A time as it is told in a chart.
pub(super) fn told_time(si: f64) -> String {
    waltron_core::quantity::Quantity::of(seconds(si)).to_string()
}

/// Where a segment begins, in s since the program's start.
pub(super) fn begin(served: &Served, name: &str) -> Option<f64> {
    let at = served.program.position(name)?;
    Some(served.observation.segments.get(at)?.start.si())
}
