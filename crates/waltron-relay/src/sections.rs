//! What a report tells of a relay: its settings, and its times over the current.

use crate::time_current;
use crate::{Overcurrent, Stage};
use waltron_core::asset::{Asset, Element, Function};
use waltron_core::grading::Grade;
use waltron_core::quantity::{significant, text};
use waltron_core::section::{Block, Section, Table};

/// The sections of a report.
pub(crate) fn sections(asset: &Asset, points: &[Grade]) -> Vec<Section> {
    if asset.elements.is_empty() {
        return Vec::new();
    }
    let tables = [stages(asset), overcurrent(asset)].into_iter().filter_map(Table::block);
    let assumed = (!asset.assumed.is_empty()).then(|| {
        let assumed = asset.assumed.join(", ");
        Block::Note(format!("Assumed tolerances, since the asset's file gives none: {assumed}."))
    });
    let settings = Section::new("Settings and tolerances", tables.chain(assumed).collect());
    let charts = time_current::charts(asset, points).into_iter().map(Block::Chart);
    let charts: Vec<Block> = charts.collect();
    let times = (!charts.is_empty()).then(|| Section::new("Trip time against current", charts));
    std::iter::once(settings).chain(times).collect()
}

/// Its id, and whether it is off.
fn named<F>(element: &Element<F>) -> String {
    format!("{}{}", element.id, if element.enabled { "" } else { " (off)" })
}

/// Voltage and frequency functions.
fn stages(asset: &Asset) -> Table {
    let mut table =
        Table::of(&["Element", "Measures", "#Pickup", "#Delay", "Tolerance of pickup", "of time"]);
    for element in asset.elements.iter().filter_map(Element::of::<Stage>) {
        table.rows.push(vec![
            named(&element),
            element.name().to_owned(),
            element.pickup.to_string(),
            text(element.delay),
            element.pickup_tolerance.to_string(),
            element.time_tolerance.to_string(),
        ]);
    }
    table
}

/// Overcurrent functions.
fn overcurrent(asset: &Asset) -> Table {
    let mut table = Table::of(&[
        "Element",
        "Measures",
        "#Pickup",
        "Characteristic",
        "#Reset ratio",
        "Tolerance of current",
        "of time",
    ]);
    let percent = |share: f64| format!("{} %", significant(share * 100.0, 4));
    for element in asset.elements.iter().filter_map(Element::of::<Overcurrent>) {
        table.rows.push(vec![
            named(&element),
            element.measures.name().to_owned(),
            text(element.pickup),
            element.characteristic.words(),
            element.reset_ratio.map_or("–".to_owned(), |ratio| percent(ratio.value)),
            element.tolerances.current.to_string(),
            element.tolerances.time.to_string(),
        ]);
    }
    table
}
