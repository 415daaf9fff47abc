//! What is told in tables alone: impedances, and insulation by direct voltage.

use super::points::{of, outcome_word, place, tests};
use crate::power::procedure::{ALIKE, IMPEDANCE, INDEX, INSULATION_RESISTANCE, ZERO};
use waltron_core::grading::Grade;
use waltron_core::section::{Block, Table};
use waltron_core::text::name::Name;
use waltron_core::wing::Told;

fn text(grade: &Grade, name: &str) -> String {
    grade.measured.text(name).unwrap_or_default()
}

/// Short-circuit and zero-sequence impedances.
pub(super) fn impedances(told: Told<'_>) -> Vec<Block> {
    let mut all = Vec::new();
    for test in tests(told, &IMPEDANCE) {
        let mut table = Table::of(&[
            "Position",
            "#Impedance",
            "#Nameplate",
            "#A phase",
            "#Reactance",
            "#U-V",
            "#V-W",
            "#W-U",
            "#Lines differ by",
            "Verdict",
        ]);
        let differences = of(told, test, &ALIKE);
        for grade in of(told, test, &IMPEDANCE) {
            let position = place(grade).0;
            let alike = differences.iter().find(|g| place(g).0 == position);
            let mut row = vec![position.to_owned(), text(grade, "impedance")];
            row.push(grade.expected.text("impedance").unwrap_or_default());
            let names = ["ohms", "reactance", "line_uv", "line_vw", "line_wu"];
            row.extend(names.iter().map(|name| text(grade, name)));
            row.push(alike.map(|g| text(g, "difference")).unwrap_or_default());
            row.push(outcome_word(std::iter::once(grade).chain(alike.copied())));
            table.rows.push(row);
        }
        all.extend(table.block());
    }
    for test in tests(told, &ZERO) {
        let mut table =
            Table::of(&["Zero sequence at", "#Impedance", "#A phase", "#Reactance", ""]);
        table.rows = of(told, test, &ZERO)
            .into_iter()
            .map(|g| {
                let position = place(g).0.to_owned();
                let names = ["impedance", "ohms", "reactance"];
                let mut row = vec![position];
                row.extend(names.iter().map(|name| text(g, name)));
                row.push(g.reason.clone());
                row
            })
            .collect();
        all.extend(table.block());
    }
    all
}

/// Insulation resistances with the polarisation index.
pub(super) fn insulation(told: Told<'_>) -> Vec<Block> {
    tests(told, &INSULATION_RESISTANCE)
        .into_iter()
        .filter_map(|test| resistances(told, test))
        .collect()
}

fn resistances(told: Told<'_>, test: &Name) -> Option<Block> {
    let mut table = Table::of(&[
        "Insulation",
        "#After 15 s",
        "#After 1 min",
        "#After 10 min",
        "#At 20 °C",
        "#Allowed",
        "#Polarisation index",
        "Verdict",
    ]);
    let indices = of(told, test, &INDEX);
    for grade in of(told, test, &INSULATION_RESISTANCE) {
        let part = place(grade).1;
        let index = indices.iter().find(|g| place(g).0 == part);
        let mut row = vec![part.to_owned()];
        let names = ["after_15s", "resistance", "after_600s", "resistance_20"];
        row.extend(names.iter().map(|name| text(grade, name)));
        row.push(grade.limits.words().unwrap_or_default());
        row.push(index.map(|g| text(g, "index")).unwrap_or_default());
        row.push(outcome_word(std::iter::once(grade).chain(index.copied())));
        table.rows.push(row);
    }
    table.block()
}
