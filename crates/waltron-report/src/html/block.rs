//! Sections and what stands in them, as HTML.

use super::tables::{class, sign};
use crate::plot::svg;
use maud::{Markup, PreEscaped, html as markup};
use waltron_core::grading::Verdict;
use waltron_core::section::{Block, Section, Table};

/// Size of a chart in the page, in CSS pixels.
const CHART: (u32, u32) = (960, 600);

/// A section as a part of a report.
pub(super) fn section(section: &Section) -> Markup {
    markup! {
        section {
            h2 { (section.title) }
            @if section.blocks.iter().any(|block| matches!(block, Block::Chart(_))) {
                p.hint.screen { "Point at a mark, or anywhere in a chart, to read its values." }
            }
            (blocks(&section.blocks, false))
        }
    }
}

/// Blocks one after the other; steps with boxes to tick, where the page is one to work with.
pub(super) fn blocks(blocks: &[Block], tick: bool) -> Markup {
    markup! { @for one in blocks { (block(one, tick)) } }
}

fn block(block: &Block, tick: bool) -> Markup {
    match block {
        Block::Facts(facts) => markup! {
            table.facts {
                tbody { @for (name, value) in facts { tr { th scope="row" { (name) } td { (value) } } } }
            }
        },
        Block::Table(rows) => table(rows),
        Block::Chart(chart) => match svg(chart, CHART) {
            Ok(picture) => markup! { figure { (PreEscaped(picture)) } },
            // The rest of the report is worth as much without it.
            Err(why) => markup! { p.note { (chart.title) ": " (why) } },
        },
        Block::Note(note) => markup! { p.note { (note) } },
        Block::Steps(steps) => markup! {
            ol.steps.tick[tick] { @for step in steps { li { (step) } } }
        },
        Block::Picture(picture) => markup! { figure.wiring { (PreEscaped(picture)) } },
    }
}

/// The verdict whose word a cell is.
fn verdict(cell: &str) -> Option<Verdict> {
    use Verdict::{Fail, Inconclusive, Measured, NotTested, Pass};
    [Pass, Fail, Inconclusive, Measured, NotTested].into_iter().find(|v| v.word() == cell)
}

/// Most rows of a table that is kept on one printed page.
pub(super) const SHORT_TABLE: usize = 14;

fn table(table: &Table) -> Markup {
    let values = || table.columns.iter().map(|column| column.is_value);
    let cells = |row: &[String]| {
        let mut cells: Vec<String> = row.to_vec();
        cells.resize(table.columns.len(), String::new());
        cells
    };
    markup! {
        table.told.short[table.rows.len() <= SHORT_TABLE] {
            thead { tr { @for c in &table.columns { th.number[c.is_value] { (c.name) } } } }
            tbody {
                @for row in &table.rows {
                    tr { @for (cell, is_value) in cells(row).iter().zip(values()) {
                        @match verdict(cell) {
                            Some(verdict) => { td class={ "verdict " (class(verdict)) } { (sign(verdict)) " " (cell) } }
                            None => { td.number[is_value] { (cell) } }
                        }
                    } }
                }
            }
        }
    }
}
