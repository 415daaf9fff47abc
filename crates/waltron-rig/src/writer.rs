//! Writing the run record: append-only, chained, on disk before the next injection.

use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use waltron_core::record::{Chain, Event};

/// How far an event is carried before the run goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Durability {
    /// To the operating system: survives the program's death, not the machine's. For simulated
    /// runs, which can be had again.
    System,
    /// To the disk: survives a power failure. For everything that was really injected.
    Disk,
}

/// An open record.
#[derive(Debug)]
pub struct RecordWriter {
    file: File,
    path: PathBuf,
    chain: Chain,
    durability: Durability,
    /// Lines not written yet: an observation waits for the grades that follow from it.
    waiting: String,
}

/// Why a record cannot be written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum WriteError {
    /// The file cannot be made or written.
    #[error("cannot write the run record {path}: {source}")]
    Io {
        /// The file.
        path: PathBuf,
        /// What the system says.
        source: io::Error,
    },
    /// An event that is no valid JSON, such as a value that is not finite.
    #[error("an event cannot be written: {0}")]
    Event(#[from] serde_json::Error),
}

impl RecordWriter {
    /// Makes a new record.
    ///
    /// # Errors
    /// When the file exists or cannot be made; an existing record is never written over.
    pub fn create(path: &Path, durability: Durability) -> Result<Self, WriteError> {
        let file = OpenOptions::new()
            .append(true)
            .create_new(true)
            .open(path)
            .map_err(|source| WriteError::Io { path: path.to_owned(), source })?;
        let (path, chain) = (path.to_owned(), Chain::default());
        Ok(Self { file, path, chain, durability, waiting: String::new() })
    }

    /// Appends an event; returns once it is as safe as the durability asks.
    ///
    /// An observation goes out together with the event that follows it, which comes before the
    /// next injection.
    ///
    /// # Errors
    /// When the event cannot be written.
    pub fn append(&mut self, at: &str, event: &Event) -> Result<(), WriteError> {
        self.waiting.push_str(&self.chain.line(at, event)?);
        self.waiting.push('\n');
        if matches!(event, Event::Observed { .. }) { Ok(()) } else { self.flush() }
    }

    fn flush(&mut self) -> Result<(), WriteError> {
        let lines = std::mem::take(&mut self.waiting);
        let written = self.file.write_all(lines.as_bytes()).and_then(|()| match self.durability {
            Durability::System => Ok(()),
            Durability::Disk => self.file.sync_data(),
        });
        written.map_err(|source| WriteError::Io { path: self.path.clone(), source })
    }

    /// Where the record is.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

impl Drop for RecordWriter {
    fn drop(&mut self) {
        // What waits here was observed but not graded; there is nobody left to tell of an error.
        let _ = self.flush();
    }
}
