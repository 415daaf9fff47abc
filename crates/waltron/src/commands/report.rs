//! `waltron report`: the deliverable.

use super::load_run;
use crate::cli::Report as Args;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files;
use crate::terminal::Terminal;
use waltron_core::record::Run;

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
    let runs: Vec<Run> =
        args.runs.iter().map(|path| load_run(path, terminal)).collect::<Result<_, _>>()?;
    let page = waltron_report::html::html(&runs, args.attempts, crate::wings::WINGS)
        .map_err(|e| Failure::trouble(e.to_string()))?;
    files::write(&args.output, page.as_bytes(), args.force)?;
    terminal.print(&format!("Report  {}\n", args.output.display()));
    Ok(Exit::Pass)
}
