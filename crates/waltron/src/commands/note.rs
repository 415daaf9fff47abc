//! `waltron note`: something to be added to a record.

use crate::cli::Note as Args;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files::for_shell;
use crate::terminal::Terminal;
use waltron_core::record::Event;
use waltron_rig::writer::{Durability, WriteError};

/// Appends a note.
///
/// # Errors
/// A record that is not there, is being written or was changed; nothing to say.
pub(crate) fn note(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let text = args.text.trim();
    if text.is_empty() {
        return Err(Failure::usage("there is nothing to note"));
    }
    let reopened = super::grade::reopened(&args.record)?;
    let trouble = |error: WriteError| Failure::trouble(error.to_string());
    let (mut writer, _) = reopened.go_on(Durability::Disk).map_err(trouble)?;
    let mut clock = super::run::clock()?;
    let by = args.by.clone().filter(|by| !by.trim().is_empty());
    let event = Event::Noted { text: text.to_owned(), by };
    writer.append(&clock.now(), &event).map_err(trouble)?;
    drop(writer);
    let record = for_shell(&args.record);
    let page = for_shell(&args.record.with_extension("").with_extension("html"));
    terminal.print(&format!("Noted   in {record}\nNext    waltron report {record} -o {page}\n"));
    Ok(Exit::Pass)
}
