//! The connection sheet as a page, and as a part of a report.

use super::block;
use super::page::STYLE;
use crate::hookup::drawing;
use maud::{DOCTYPE, Markup, PreEscaped, html as markup};
use waltron_core::plan::hookup::{BY_HAND, Sheet, Wire};
use waltron_core::section::{Block, Section, Table};
use waltron_core::text::name::Name;

/// A page with the sheet alone, for the phone and for paper; with a drawing of where the leads go, where there is one.
pub fn page(sheet: &Sheet, title: &str, leads: Option<&str>) -> String {
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
                    @for part in parts(sheet, leads) { h2 { (part.title) } (block::blocks(&part.blocks, true)) }
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
pub(super) fn section(sheet: &Sheet, leads: Option<&str>) -> Markup {
    if sheet.wires.is_empty() && sheet.by_hand.is_empty() {
        return markup! {};
    }
    markup! {
        section.hookup {
            h2 { "Hook-up" }
            @for part in parts(sheet, leads) { h3 { (part.title) } (block::blocks(&part.blocks, false)) }
        }
    }
}

/// What lines between terminals mean.
const LEADS: &str = "Solid with ~ is fed, dashed with V is read, dotted is joined; windings as phasors, the first one's U on top.";

/// The lists, the drawing, and which test uses which connections.
fn parts(sheet: &Sheet, leads: Option<&str>) -> Vec<Section> {
    let steps = |title: &str, lines: &[String]| {
        (!lines.is_empty()).then(|| Section::new(title, vec![Block::Steps(lines.to_vec())]))
    };
    let mut uses = Table::of(&["Test", "Uses"]);
    for (test, wires) in by_test(sheet) {
        let wires: Vec<&str> = wires.iter().map(|w| w.id.as_str()).collect();
        uses.rows.push(vec![test.to_string(), wires.join(", ")]);
    }
    let picture = Block::Picture(drawing(sheet));
    let connections = (!sheet.wires.is_empty())
        .then(|| Section::new("Connections", vec![picture, Block::Table(uses)]));
    let before = steps("Before connecting", &sheet.before);
    let for_tests = sheet.for_tests.iter().filter_map(|of| steps(&of.title(), &of.lines));
    let by_hand = steps(BY_HAND, &sheet.by_hand);
    let after = steps("Afterwards", &sheet.after);
    let places: Vec<String> = sheet.places.iter().map(ToString::to_string).collect();
    let mut places = steps("The leads go to", &places);
    if let (Some(places), Some(drawn)) = (&mut places, leads) {
        places.blocks.push(Block::Note(LEADS.to_owned()));
        places.blocks.push(Block::Picture(drawn.to_owned()));
    }
    let first = before.into_iter().chain(for_tests).chain(connections);
    first.chain(places).chain(by_hand).chain(after).collect()
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
