//! `waltron curve excitation`: values read off the excitation curves of a record.

use super::load_run;
use crate::cli::CurveExcitation as Args;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::tables::{align_right, table};
use crate::terminal::{STRONG, Terminal, plain, styled};
use crate::wings::WINGS;
use serde_json::{Map, Value, json};
use waltron_core::quantity::Quantity;
use waltron_core::section::{Block, Section, Table};
use waltron_core::wing::Reading;

/// Reads curves.
///
/// # Errors
/// A record that cannot be read or has no curve, a value that is neither voltage nor current.
pub(crate) fn excitation(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let run = load_run(&args.record, terminal)?;
    let asset = run.asset(WINGS)?;
    let at = args.at.iter().map(|text| {
        Quantity::parse(text).map_err(|error| {
            Failure::usage(format!("--at: {error}"))
                .help("write an e.m.f. as \"240 V\", a current as \"80 mA\"")
        })
    });
    let at: Vec<Quantity> = at.collect::<Result<_, _>>()?;
    let wanted = Reading { at: &at, place: args.place.as_deref(), whole: args.whole };
    let wing = WINGS.of(asset.kind);
    let read = wing.and_then(|wing| wing.read_off(&asset, run.told(), &wanted));
    let sections = match read {
        Some(Ok(sections)) => sections,
        Some(Err(why)) => return Err(Failure::file(&args.record, why)),
        None => {
            let message = format!("{} has no excitation curve", asset.identity.tag);
            return Err(Failure::file(&args.record, message));
        }
    };
    match args.format {
        crate::cli::Format::Json => terminal.print_json(as_json(&sections)),
        crate::cli::Format::Text => sections.iter().for_each(|s| print(s, terminal)),
    }
    Ok(Exit::Pass)
}

fn print(section: &Section, terminal: &Terminal) {
    if !section.title.is_empty() {
        terminal.print(&format!("{}\n", styled(STRONG, &plain(&section.title))));
    }
    for block in &section.blocks {
        if let Block::Table(rows) = block {
            let mut out = table(rows.columns.iter().map(|c| c.name.as_str()), terminal);
            for row in &rows.rows {
                out.add_row(row.iter().map(|cell| plain(cell)));
            }
            for (index, column) in rows.columns.iter().enumerate() {
                if column.is_value {
                    align_right(&mut out, index..index + 1);
                }
            }
            terminal.print(&format!("{out}\n"));
        }
    }
}

/// Rows as objects by their columns, each with what it is of.
fn as_json(sections: &[Section]) -> Value {
    let rows = |rows: &Table| {
        let row = |row: &Vec<String>| {
            let cells = rows.columns.iter().zip(row);
            let cells = cells.map(|(c, cell)| (c.name.clone(), Value::from(cell.as_str())));
            Value::Object(cells.collect::<Map<_, _>>())
        };
        rows.rows.iter().map(row).collect::<Vec<_>>()
    };
    let section = |section: &Section| {
        let tables = section.blocks.iter().filter_map(|block| match block {
            Block::Table(table) => Some(rows(table)),
            _ => None,
        });
        json!({ "of": section.title, "rows": tables.flatten().collect::<Vec<_>>() })
    };
    json!({ "curves": sections.iter().map(section).collect::<Vec<_>>() })
}
