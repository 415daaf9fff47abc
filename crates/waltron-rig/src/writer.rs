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
        Ok(Self { file, path: path.to_owned(), chain: Chain::default(), durability })
    }

    /// Appends an event; returns once it is as safe as the durability asks.
    ///
    /// # Errors
    /// When the event cannot be written.
    pub fn append(&mut self, at: &str, event: &Event) -> Result<(), WriteError> {
        let mut line = self.chain.line(at, event)?;
        line.push('\n');
        let written = self.file.write_all(line.as_bytes()).and_then(|()| match self.durability {
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
