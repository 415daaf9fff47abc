//! `waltron plot`: the time-current diagram of a run or an asset.

use super::load_run;
use crate::cli::Plot as Args;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files;
use crate::terminal::Terminal;
use std::path::Path;
use waltron_core::asset::Asset;
use waltron_core::document::AssetForm;
use waltron_core::grading::Grade;
use waltron_report::plot::{TimeCurrent, png, svg};

/// Draws one diagram.
///
/// # Errors
/// A source that is neither record nor asset, an unknown format or element, a file that exists.
pub(crate) fn plot(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let ending = args.output.extension().and_then(|e| e.to_str()).unwrap_or_default();
    let is_png = match ending.to_ascii_lowercase().as_str() {
        "svg" => false,
        "png" => true,
        _ => {
            return Err(Failure::usage(format!("no picture format has the ending `.{ending}`"))
                .help("name the picture ….svg or ….png"));
        }
    };
    files::refuse_existing(&args.output, args.force)?;
    let (asset, points) = load(&args.source, terminal)?;
    let drawing = |e: waltron_report::plot::PlotError| Failure::trouble(e.to_string());
    let diagrams = TimeCurrent::of_run(&asset, &points).map_err(drawing)?;
    let diagram = choose(&diagrams, &asset, args.element.as_deref())?;
    let bytes = if is_png {
        png(diagram, args.size).map_err(drawing)?
    } else {
        svg(diagram, args.size).map_err(drawing)?.into_bytes()
    };
    files::write(&args.output, &bytes, args.force)?;
    terminal.print(&format!("Plot    {}\n", args.output.display()));
    if args.element.is_none() && diagrams.len() > 1 {
        let others: Vec<&str> = diagrams[1..].iter().map(|d| d.elements[0].as_str()).collect();
        terminal.chat(&format!("there is more to draw: --element {}\n", others.join(" or ")));
    }
    Ok(Exit::Pass)
}

fn load(path: &Path, terminal: &Terminal) -> Result<(Asset, Vec<Grade>), Failure> {
    if path.extension().is_some_and(|e| e == "toml") {
        let asset = AssetForm::load(&files::read_source(path)?)?;
        return Ok((asset, Vec::new()));
    }
    let run = load_run(path, terminal)?;
    Ok((run.asset()?, run.points))
}

fn choose<'a>(
    diagrams: &'a [TimeCurrent],
    asset: &Asset,
    element: Option<&str>,
) -> Result<&'a TimeCurrent, Failure> {
    let found = match element {
        None => diagrams.first(),
        Some(id) => diagrams.iter().find(|d| d.elements.iter().any(|e| e == id)),
    };
    found.ok_or_else(|| {
        let ids: Vec<&str> =
            diagrams.iter().flat_map(|d| &d.elements).map(|e| e.as_str()).collect();
        let wanted = element.unwrap_or_default();
        Failure::usage(format!("no diagram of element `{wanted}` of {}", asset.identity.tag))
            .help(format!("there is one of {}", ids.join(", ")))
    })
}
