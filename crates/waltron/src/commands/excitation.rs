//! `waltron curve excitation`: values read off the excitation curves of a record.

use super::load_run;
use crate::cli::{CurveExcitation as Args, Format};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::tables::{align_right, table};
use crate::terminal::{Terminal, plain};
use crate::wings::WINGS;
use serde_json::json;
use waltron_core::quantity::Quantity;
use waltron_core::wing::{ReadOff, Reading};

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
    let none = || Err(format!("{} has no excitation curve", asset.identity.tag));
    let rows = read.unwrap_or_else(none).map_err(|why| Failure::file(&args.record, why))?;
    match args.format {
        Format::Json => terminal.print_json(json!({ "rows": rows })),
        Format::Text => print(&rows, terminal),
    }
    Ok(Exit::Pass)
}

fn print(rows: &[ReadOff], terminal: &Terminal) {
    let mut out =
        table(["Place", "E.m.f.", "Exciting current", "Peak", "Above the knee point"], terminal);
    let mut before = "";
    for row in rows {
        let value = |name: &str| row.values.text(name).unwrap_or_default();
        let above = match (&row.lacks, row.above.is_empty()) {
            (Some(why), _) => why.clone(),
            (None, true) => "below every one".to_owned(),
            (None, false) => row.above.join(", "),
        };
        // A place is named once.
        let place = if row.place == before { String::new() } else { plain(&row.place) };
        before = &row.place;
        out.add_row([place, value("emf"), value("current"), value("peak"), plain(&above)]);
    }
    align_right(&mut out, 1..4);
    terminal.print(&format!("{out}\n"));
}
