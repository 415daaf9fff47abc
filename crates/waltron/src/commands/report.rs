//! `waltron report`: the deliverable.

use super::load_run;
use super::wave::chart;
use crate::cli::Report as Args;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files;
use crate::recording::Recorded;
use crate::terminal::Terminal;
use crate::wings::WINGS;
use std::path::Path;
use waltron_core::record::{Kept, Run};
use waltron_core::section::Block;
use waltron_report::html::Told;

/// Writes a report of one or several runs.
///
/// # Errors
/// Records that cannot be read, an unknown format, a file that exists.
pub(crate) fn report(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let ending = args.output.extension().and_then(|e| e.to_str()).unwrap_or_default();
    if !matches!(ending.to_ascii_lowercase().as_str(), "html" | "htm") {
        return Err(Failure::usage(format!("no report format has the ending `.{ending}`"))
            .help("name the report ….html"));
    }
    files::refuse_existing(&args.output, args.force)?;
    if let Some(earlier) = &args.against
        && args.runs.iter().any(|run| is_same(run, earlier))
    {
        return Err(Failure::file(earlier, "this is the run itself, no earlier one")
            .help("give the record of an earlier run with --against"));
    }
    let runs: Vec<Run> =
        args.runs.iter().map(|path| load_run(path, terminal)).collect::<Result<_, _>>()?;
    let told = args.runs.iter().zip(&runs);
    let earlier = args.against.as_ref().map(|path| load_run(path, terminal)).transpose()?;
    let told = told.map(|(path, run)| {
        let earlier = earlier.as_ref().filter(|earlier| earlier.has_asset_like(run, WINGS));
        Told { run, waveforms: waveforms(path, run), earlier }
    });
    let told: Vec<Told<'_>> = told.collect();
    if earlier.is_some() && told.iter().all(|told| told.earlier.is_none()) {
        return Err(Failure::usage("the earlier run is of another kind of asset")
            .help("give a run of the same asset, or of one like it"));
    }
    let page = waltron_report::html::html(&told, args.attempts, WINGS)
        .map_err(|e| Failure::trouble(e.to_string()))?;
    files::write(&args.output, page.as_bytes(), args.force)?;
    terminal.print(&format!("Report  {}\n", args.output.display()));
    Ok(Exit::Pass)
}

fn is_same(one: &Path, other: &Path) -> bool {
    match (one.canonicalize(), other.canonicalize()) {
        (Ok(one), Ok(other)) => one == other,
        _ => false,
    }
}

/// What was kept beside a record, drawn; or why it cannot be.
pub(super) fn waveforms(record: &Path, run: &Run) -> Vec<Block> {
    let drawn = |kept: &Kept| {
        let path = record.with_file_name(&kept.file);
        let Ok(bytes) = std::fs::read(&path) else {
            return Block::Note(format!("{} is not beside the record.", kept.file));
        };
        if !kept.is(&bytes) {
            let changed = "is not the file that was kept: its digest is another one.";
            return Block::Note(format!("{} {changed}", kept.file));
        }
        let chart = Recorded::load(&path, false, false).and_then(|recorded| {
            let end = recorded.data()?.len() as f64 / recorded.rate_hz()?;
            let title = format!("{} · {}", kept.test, kept.name);
            chart::of(&recorded, title, (0.0, end))
        });
        match chart {
            Ok(chart) => Block::Chart(chart),
            Err(_) => Block::Note(format!("{} cannot be read as a recording.", kept.file)),
        }
    };
    // What the asset's wing draws itself is not drawn twice.
    let is_drawn = |kept: &Kept| {
        let asset = run.asset(WINGS).ok();
        let draws = asset.and_then(|a| Some(WINGS.of(a.kind)?.draws_captures(a.kind)));
        draws.unwrap_or(false) && !kept.measured.is_empty()
    };
    run.kept.iter().filter(|kept| !is_drawn(kept)).map(drawn).collect()
}
