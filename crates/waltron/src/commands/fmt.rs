//! `waltron fmt`: sequences in the one common layout.

use crate::cli::Fmt as Args;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files::write;
use crate::kind::{Kind, read_as};
use crate::terminal::Terminal;
use std::io::Read;
use std::path::Path;
use waltron_core::text::document::Source;

/// Lays files out; none is touched if one of them cannot be read.
///
/// # Errors
/// Every mistake of grammar in the first file that has any.
pub(crate) fn fmt(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let mut changed: Vec<(&Path, String)> = Vec::new();
    for path in &args.files {
        let from_stdin = path.as_os_str() == "-";
        let source = if from_stdin { stdin()? } else { read_as(Kind::Sequence, path)? };
        waltron_script::parse(&source)?;
        let laid_out = waltron_script::format(&source.text);
        if from_stdin {
            terminal.print_data(&laid_out);
        } else if laid_out != *source.text {
            changed.push((path, laid_out));
        }
    }
    for (path, text) in &changed {
        if args.check {
            terminal.print(&format!("{} is laid out differently\n", path.display()));
        } else {
            write(path, text.as_bytes(), true)?;
            terminal.chat(&format!("{} laid out\n", path.display()));
        }
    }
    Ok(if args.check && !changed.is_empty() { Exit::Fail } else { Exit::Pass })
}

fn stdin() -> Result<Source, Failure> {
    let mut text = String::new();
    std::io::stdin()
        .lock()
        .read_to_string(&mut text)
        .map_err(|e| Failure::trouble(format!("cannot read stdin: {e}")))?;
    Ok(Source::new("stdin", text))
}
