//! Reading a record event by event, without holding the whole of it.

use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use waltron_core::record::{Line, kind_of};

/// Why a record cannot be read on.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EventError {
    /// The file cannot be read.
    #[error("{}: {source}", path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// What the system says.
        source: std::io::Error,
    },
    /// A line that is no event.
    #[error("line {line} is no event of a run record: {message}")]
    BadLine {
        /// Its number, from 1.
        line: usize,
        /// What the reader says.
        message: String,
    },
}

/// The events of a record, one after the other. A last line that was cut off ends it.
#[derive(Debug)]
pub struct Events {
    file: BufReader<File>,
    path: PathBuf,
    only: Option<&'static str>,
    number: usize,
    line: Vec<u8>,
}

impl Events {
    /// All events.
    ///
    /// # Errors
    /// A file that cannot be opened.
    pub fn open(path: &Path) -> Result<Self, EventError> {
        let io = |source| EventError::Io { path: path.to_owned(), source };
        let file = BufReader::new(File::open(path).map_err(io)?);
        Ok(Self { file, path: path.to_owned(), only: None, number: 0, line: Vec::new() })
    }

    /// The observations alone: what was put out and seen; other lines are passed over unread.
    ///
    /// # Errors
    /// As [`Events::open`].
    pub fn observations(path: &Path) -> Result<Self, EventError> {
        Ok(Self { only: Some("observed"), ..Self::open(path)? })
    }
}

impl Iterator for Events {
    type Item = Result<Line, EventError>;

    fn next(&mut self) -> Option<Self::Item> {
        loop {
            self.line.clear();
            match self.file.read_until(b'\n', &mut self.line) {
                Ok(0) => return None,
                Ok(_) => {}
                Err(source) => {
                    return Some(Err(EventError::Io { path: self.path.clone(), source }));
                }
            }
            self.number += 1;
            let whole = self.line.ends_with(b"\n");
            let text = self.line.trim_ascii_end();
            if self.only.is_some() && kind_of(text).as_deref() != self.only {
                continue;
            }
            return match Line::read(text) {
                Ok(line) => Some(Ok(line)),
                Err(_) if !whole => None,
                Err(error) => {
                    let message = error.to_string();
                    Some(Err(EventError::BadLine { line: self.number, message }))
                }
            };
        }
    }
}
