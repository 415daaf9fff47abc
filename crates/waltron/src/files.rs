//! Files in and out: size limits and clear refusals on the way in, all or nothing on the way out.

use crate::failure::Failure;
use std::fs;
use std::io::{self, Write};
use std::path::Path;
use waltron_core::text::document::Source;

/// No file that a person wrote is larger; a larger one is another kind of file.
const LARGEST_TEXT: u64 = 8 << 20;

/// Reads a text file that a person wrote.
///
/// # Errors
/// A missing file, a folder, a file that is too large or no text.
pub(crate) fn read_source(path: &Path) -> Result<Source, Failure> {
    let meta = fs::metadata(path).map_err(|e| unreadable(path, &e))?;
    if meta.is_dir() {
        return Err(Failure::file(path, "this is a folder, a file is wanted"));
    }
    if meta.len() > LARGEST_TEXT {
        let (is, most) = (meta.len() >> 20, LARGEST_TEXT >> 20);
        let message = format!("{is} MiB is too large, files of this kind have at most {most} MiB");
        return Err(Failure::file(path, message).help("is this the right file?"));
    }
    let bytes = fs::read(path).map_err(|e| unreadable(path, &e))?;
    match String::from_utf8(bytes) {
        Ok(text) if text.contains('\0') => {
            Err(Failure::file(path, "this is no text file, it holds zero bytes"))
        }
        Ok(text) => {
            let mut source = Source::new(path.display().to_string(), text);
            // What it names and what is not there is told where it is named.
            for name in crate::wings::WINGS.beside(&source) {
                let text = fs::read_to_string(path.with_file_name(&name)).ok();
                source.beside.extend(text.map(|text| (name, text.into())));
            }
            Ok(source)
        }
        Err(error) => {
            let at = error.utf8_error().valid_up_to();
            let line = error.as_bytes()[..at].iter().filter(|b| **b == b'\n').count() + 1;
            let message = format!("this is no UTF-8 text (line {line})");
            Err(Failure::file(path, message).help("save the file as UTF-8"))
        }
    }
}

/// Reads a file's bytes, of any size.
///
/// # Errors
/// A missing file or a folder.
pub(crate) fn read_bytes(path: &Path) -> Result<Vec<u8>, Failure> {
    if path.is_dir() {
        return Err(Failure::file(path, "this is a folder, a file is wanted"));
    }
    fs::read(path).map_err(|e| unreadable(path, &e))
}

fn unreadable(path: &Path, error: &io::Error) -> Failure {
    match error.kind() {
        io::ErrorKind::NotFound => {
            let failure = Failure::file(path, "there is no such file");
            match similar(path) {
                Some(name) => failure.help(format!("did you mean `{name}`?")),
                None => failure,
            }
        }
        io::ErrorKind::PermissionDenied => Failure::file(path, "this file may not be read"),
        _ => Failure::file(path, format!("cannot be read: {error}")),
    }
}

/// A file in the same folder with a similar name.
fn similar(path: &Path) -> Option<String> {
    let wanted = path.file_name()?.to_str()?;
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let names: Vec<String> = fs::read_dir(folder)
        .ok()?
        .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
        .collect();
    waltron_core::text::name::nearest(wanted, names.iter().map(String::as_str)).map(str::to_owned)
}

/// Refuses a path that exists, unless told to write over it.
///
/// # Errors
/// An existing file, or a folder.
pub(crate) fn refuse_existing(path: &Path, force: bool) -> Result<(), Failure> {
    refuse_taken(path, force, "choose another name, or add --force")
}

/// Refuses a path that exists for a new record: a record is never written over.
///
/// # Errors
/// An existing file, or a folder.
pub(crate) fn refuse_record(path: &Path) -> Result<(), Failure> {
    refuse_taken(path, false, "choose another name; a run's record goes on by --resume or --redo")
}

fn refuse_taken(path: &Path, force: bool, help: &str) -> Result<(), Failure> {
    if path.is_dir() {
        return Err(Failure::file(path, "this is a folder, a file name is wanted"));
    }
    if path.exists() && !force {
        return Err(Failure::file(path, "this file exists and is not written over").help(help));
    }
    Ok(())
}

/// Removes a file that is written over by nothing.
///
/// # Errors
/// A file that cannot be removed.
pub(crate) fn remove(path: &Path) -> Result<(), Failure> {
    match fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => {
            Err(Failure::trouble(format!("cannot remove {}: {error}", path.display())))
        }
        _ => Ok(()),
    }
}

/// Writes a whole file or nothing: into a neighbour first, then renamed.
///
/// # Errors
/// An existing file without `force`, or a folder that cannot be written.
pub(crate) fn write(path: &Path, bytes: &[u8], force: bool) -> Result<(), Failure> {
    refuse_existing(path, force)?;
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let neighbour = path.with_file_name(format!(".{name}.{}.part", std::process::id()));
    let written = fs::File::create(&neighbour)
        .and_then(|mut file| file.write_all(bytes).and_then(|()| file.sync_all()))
        .and_then(|()| fs::rename(&neighbour, path));
    written.map_err(|error| {
        let _ = fs::remove_file(&neighbour);
        Failure::trouble(format!("cannot write {}: {error}", path.display()))
    })
}

/// A path as it is typed in a shell: in quotes where blanks and the like would part it.
pub(crate) fn for_shell(path: &Path) -> String {
    let text = path.display().to_string();
    let is_plain = |c: char| c.is_alphanumeric() || "/._-+:@%=,".contains(c);
    if !text.is_empty() && text.chars().all(is_plain) {
        return text;
    }
    format!("'{}'", text.replace('\'', r"'\''"))
}
