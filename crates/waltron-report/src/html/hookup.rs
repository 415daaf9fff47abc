//! The connection sheet as a page, and as a part of a report.

use super::page::STYLE;
use crate::hookup::drawing;
use maud::{DOCTYPE, Markup, PreEscaped, html as markup};
use waltron_core::plan::hookup::{Sheet, Wire};
use waltron_core::text::name::Name;

/// A page with the sheet alone, for the phone and for paper.
pub fn page(sheet: &Sheet, title: &str) -> String {
    let page = markup! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { "Hook-up: " (title) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                article {
                    header { div { p.kind { "Hook-up sheet" } h1 { (title) } } }
                    dl.block {
                        div { dt { "Asset" } dd { (sheet.asset) } }
                        @for (name, value) in &sheet.details { div { dt { (name) } dd { (value) } } }
                        div { dt { "Rig" } dd { (sheet.rig) } }
                        div { dt { "Date" } dd {} }
                    }
                    (body(sheet, true))
                    footer {
                        div.sign { span { "Connected by" } span {} }
                        div.sign { span { "Put back by" } span {} }
                    }
                }
            }
        }
    };
    crate::clean::document(page.into_string())
}

/// The sheet as a part of a report.
pub(super) fn section(sheet: &Sheet) -> Markup {
    if sheet.wires.is_empty() {
        return markup! {};
    }
    markup! { section.hookup { h2 { "Hook-up" } (body(sheet, false)) } }
}

/// The lists and the drawing; on a page of their own with boxes to tick, and headings of its level.
fn body(sheet: &Sheet, alone: bool) -> Markup {
    let heading = |title: &str| markup! { @if alone { h2 { (title) } } @else { h3 { (title) } } };
    let list = |title: &str, lines: &[String]| {
        markup! {
            @if !lines.is_empty() {
                (heading(title))
                ol.steps.tick[alone] { @for line in lines { li { (line) } } }
            }
        }
    };
    markup! {
        (list("Before connecting", &sheet.before))
        (heading("Connections"))
        figure.wiring { (PreEscaped(drawing(sheet))) }
        (tests(sheet))
        (list("Afterwards", &sheet.after))
    }
}

/// Which test uses which connections.
fn tests(sheet: &Sheet) -> Markup {
    let all = by_test(sheet);
    markup! {
        table.short {
            thead { tr { th { "Test" } th { "Uses" } } }
            tbody {
                @for (test, wires) in &all {
                    tr {
                        td { (test) }
                        td { (wires.iter().map(|w| w.id.as_str()).collect::<Vec<_>>().join(", ")) }
                    }
                }
            }
        }
    }
}

/// The tests in order, each with its connections.
pub fn by_test(sheet: &Sheet) -> Vec<(&Name, Vec<&Wire>)> {
    let mut tests: Vec<(&Name, Vec<&Wire>)> = Vec::new();
    for wire in &sheet.wires {
        for test in &wire.tests {
            match tests.iter_mut().find(|(t, _)| *t == test) {
                Some((_, wires)) => wires.push(wire),
                None => tests.push((test, vec![wire])),
            }
        }
    }
    tests
}
