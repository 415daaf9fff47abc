//! What a run measured against what another one of the same asset measured.

use super::{Block, Section, Table};
use crate::grading::{Grade, Value};
use crate::quantity::{Quantity, significant};
use crate::wing::Told;

/// The points that both runs measured, test by test, each with its first value that both have.
pub fn compared(told: Told<'_>) -> Option<Section> {
    let earlier = told.earlier?;
    let mut blocks = Vec::new();
    let mut tests: Vec<&str> = Vec::new();
    for grade in told.points {
        let test = grade.point.test.as_str();
        if !tests.contains(&test) {
            tests.push(test);
        }
    }
    let mut widest: Option<(f64, String)> = None;
    for test in tests {
        let mut table = Table::of(&["Point", "Value", "#Was", "#Is", "#Change", "Was", "Is"]);
        for now in told.points.iter().filter(|g| g.point.test == *test) {
            let before = earlier.points.iter().find(|e| e.point.id == now.point.id);
            let Some((name, was, is)) = before.and_then(|before| both(now, before)) else {
                continue;
            };
            let before_word = before.map_or("", |b| b.verdict.word());
            let change = share(was, is);
            if let Some(share) = change
                && widest.as_ref().is_none_or(|(most, _)| share.abs() > most.abs())
            {
                widest = Some((share, now.point.id.clone()));
            }
            table.rows.push(vec![
                now.point.id.clone(),
                name.replace('_', " "),
                words(was),
                words(is),
                change.map_or_else(|| difference(was, is), percent),
                before_word.to_owned(),
                now.verdict.word().to_owned(),
            ]);
        }
        blocks.extend(table.block());
    }
    if blocks.is_empty() {
        return None;
    }
    let day = earlier.at.split('T').next().unwrap_or(earlier.at);
    let told = match widest {
        Some((share, _)) if percent(share) == NONE => "No value has changed.".to_owned(),
        Some((share, id)) => format!("The largest change is that of {id}: {}.", percent(share)),
        None => "No value can be told as a share of what it was.".to_owned(),
    };
    blocks.insert(0, Block::Note(told));
    Some(Section::new(format!("Against the run of {day}"), blocks))
}

/// The first value of a point that an earlier run has as well, in the same dimension.
fn both<'g>(now: &'g Grade, before: &Grade) -> Option<(&'g str, Value, Value)> {
    now.measured.iter().find_map(|(name, is)| {
        let (_, was) = before.measured.iter().find(|(other, _)| *other == name)?;
        let same = match (was, is) {
            (Value::Plain(a), Value::Plain(b)) => a.dimension == b.dimension,
            (a, b) => std::mem::discriminant(&a) == std::mem::discriminant(&b),
        };
        same.then_some((name, was, is))
    })
}

/// By which share a quantity has changed; shares themselves differ by percentage points instead.
fn share(was: Value, is: Value) -> Option<f64> {
    match (was, is) {
        (Value::Plain(a), Value::Plain(b)) if a.si != 0.0 => Some(b.si / a.si - 1.0),
        _ => None,
    }
}

fn difference(was: Value, is: Value) -> String {
    let off = is.si() - was.si();
    match is {
        Value::Percent(_) => changed(off * 100.0, 3, "points"),
        Value::Plain(q) => {
            let size = Quantity { si: off.abs(), ..q };
            if off == 0.0 { NONE.to_owned() } else { format!("{}{size:.3}", sign(off)) }
        }
        _ => changed(off, 3, ""),
    }
}

fn percent(share: f64) -> String {
    changed(share * 100.0, 2, "%")
}

/// What is less than anybody would look at.
const NONE: &str = "none";

/// A change with so many decimals.
fn changed(by: f64, decimals: usize, unit: &str) -> String {
    let size = format!("{:.decimals$}", by.abs());
    match size.parse() {
        Ok(0.0) => NONE.to_owned(),
        _ => format!("{}{size} {unit}", sign(by)).trim_end().to_owned(),
    }
}

fn sign(value: f64) -> &'static str {
    if value < 0.0 { "−" } else { "+" }
}

fn words(value: Value) -> String {
    match value {
        Value::Percent(share) => format!("{} %", significant(share * 100.0, 4)),
        Value::Plain(quantity) => quantity.to_string(),
        other => significant(other.si(), 4),
    }
}
