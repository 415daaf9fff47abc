//! Readings that were taken down while keys changed what is out.

use crate::tables::{align_right, table};
use crate::terminal::{Terminal, plain};
use waltron_core::injection::measuring::{Reading, words};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::quantity::{Measure, Time};

/// What was read at one moment, and of what.
pub(super) struct Take {
    at: Time,
    pub(super) readings: Vec<(String, Reading)>,
    pub(super) program: Program,
    pub(super) seen: Observation,
}

impl Take {
    pub(super) fn of(
        seen: &Observation,
        program: &Program,
        readings: &[(String, &Reading)],
    ) -> Self {
        let readings = readings.iter().map(|(name, r)| (name.clone(), (*r).clone())).collect();
        let (program, seen) = (program.clone(), seen.clone());
        Self { at: seen.length(), readings, program, seen }
    }

    /// The same, so long after the first thing that was put out.
    pub(super) fn at(self, at: Time) -> Self {
        Self { at, ..self }
    }
}

/// Takes line by line, a column for each reading.
pub(super) fn table_of(takes: &[Take], terminal: &Terminal) -> String {
    let names = takes.first().map(|t| t.readings.as_slice()).unwrap_or_default();
    let mut header = vec!["Take".to_owned(), "At".to_owned()];
    header.extend(names.iter().map(|(name, _)| plain(name)));
    let mut out = table(header.iter().map(String::as_str), terminal);
    for (n, take) in takes.iter().enumerate() {
        let mut row = vec![(n + 1).to_string(), format!("{:.1} s", take.at.si())];
        row.extend(take.readings.iter().map(|(_, reading)| cell(reading)));
        out.add_row(row);
    }
    align_right(&mut out, 0..header.len());
    format!("{}\n", out.trim_fmt())
}

fn cell(reading: &Reading) -> String {
    let Some(value) = reading.value.column_text("value") else { return "–".to_owned() };
    let angle = reading.value.text("angle").map(|a| format!(" @ {a}")).unwrap_or_default();
    let words = words::told(reading).map(|w| format!(", {w}")).unwrap_or_default();
    format!("{value}{angle}{words}")
}
