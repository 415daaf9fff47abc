//! `waltron man`: manual pages.

use crate::cli::Args;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::terminal::Terminal;
use clap::CommandFactory;
use std::path::Path;

/// Prints the main page, or writes a page for every command.
///
/// # Errors
/// A folder that cannot be written.
pub(crate) fn man(dir: Option<&Path>, terminal: &Terminal) -> Result<Exit, Failure> {
    let command = Args::command();
    let Some(dir) = dir else {
        terminal.print(&String::from_utf8_lossy(&page(command)?));
        return Ok(Exit::Pass);
    };
    std::fs::create_dir_all(dir)
        .map_err(|e| Failure::trouble(format!("cannot make {}: {e}", dir.display())))?;
    clap_mangen::generate_to(command, dir)
        .map_err(|e| Failure::trouble(format!("cannot write into {}: {e}", dir.display())))?;
    terminal.print(&format!("Manual  {}\n", dir.display()));
    Ok(Exit::Pass)
}

fn page(command: clap::Command) -> Result<Vec<u8>, Failure> {
    let mut text = Vec::new();
    clap_mangen::Man::new(command)
        .render(&mut text)
        .map_err(|e| Failure::trouble(format!("cannot render the manual: {e}")))?;
    Ok(text)
}
