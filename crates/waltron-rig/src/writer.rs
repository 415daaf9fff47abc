//! Writing the run record: append-only, chained, on disk before the next injection.

use std::fs::{File, OpenOptions, TryLockError};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use waltron_core::record::{Chain, Event, Progress, ReadError, first_break};

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
    waiting: Vec<u8>,
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
    /// Another run holds the record.
    #[error("another run is writing {path} at this moment")]
    Busy {
        /// The file.
        path: PathBuf,
    },
    /// What is there is no record to go on with.
    #[error("{path}: {source}")]
    Unreadable {
        /// The file.
        path: PathBuf,
        /// Why.
        source: ReadError,
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
        lock(&file, path)?;
        let (path, chain) = (path.to_owned(), Chain::default());
        Ok(Self { file, path, chain, durability, waiting: Vec::new() })
    }

    /// Appends an event; returns once it is as safe as the durability asks.
    ///
    /// An observation goes out together with the event that follows it, which comes before the
    /// next injection.
    ///
    /// # Errors
    /// When the event cannot be written.
    pub fn append(&mut self, at: &str, event: &Event) -> Result<(), WriteError> {
        self.chain.line_to(&mut self.waiting, at, event)?;
        self.waiting.push(b'\n');
        // The end has nothing behind it that would vouch for it, but for a seal.
        if matches!(event, Event::RunEnded(_) | Event::GradedAgain(_) | Event::Noted { .. }) {
            self.chain.line_to(&mut self.waiting, at, &Event::Sealed {})?;
            self.waiting.push(b'\n');
        }
        if matches!(event, Event::Observed { .. }) { Ok(()) } else { self.flush() }
    }

    fn flush(&mut self) -> Result<(), WriteError> {
        let written = self.file.write_all(&self.waiting).and_then(|()| match self.durability {
            Durability::System => Ok(()),
            Durability::Disk => self.file.sync_data(),
        });
        // Its room is kept for the next ones; what was written in part is not written twice.
        self.waiting.clear();
        written.map_err(|source| WriteError::Io { path: self.path.clone(), source })
    }

    /// Where the record is.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

/// Two runs never write one record; the system lets go of the lock when a run dies.
fn lock(file: &File, path: &Path) -> Result<(), WriteError> {
    file.try_lock().map_err(|error| match error {
        TryLockError::WouldBlock => WriteError::Busy { path: path.to_owned() },
        TryLockError::Error(source) => WriteError::Io { path: path.to_owned(), source },
    })
}

/// A record that is there already, held and read, but not changed yet.
#[derive(Debug)]
pub struct Reopened {
    file: File,
    path: PathBuf,
    last_line: Vec<u8>,
    length: u64,
    /// How far it has come.
    pub progress: Progress,
}

impl Reopened {
    /// Opens a record to go on with it.
    ///
    /// # Errors
    /// A record that cannot be read, that is none, or that another run writes.
    pub fn open(path: &Path) -> Result<Self, WriteError> {
        let io = |source| WriteError::Io { path: path.to_owned(), source };
        let mut file = OpenOptions::new().read(true).append(true).open(path).map_err(io)?;
        lock(&file, path)?;
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).map_err(io)?;
        // A day's record is long; its chain is checked while the rest is read.
        let (read, broken_at) = std::thread::scope(|scope| {
            let chain = scope.spawn(|| first_break(&bytes));
            (Progress::read_unchecked(&bytes), chain.join())
        });
        let mut progress =
            read.map_err(|source| WriteError::Unreadable { path: path.to_owned(), source })?;
        progress.broken_at = broken_at.unwrap_or(Some(1));
        let last_line = bytes[progress.last_line..progress.whole_bytes].to_vec();
        Ok(Self { file, path: path.to_owned(), last_line, length: bytes.len() as u64, progress })
    }

    /// Bytes after the last whole line: the record was cut in a write.
    pub fn cut_bytes(&self) -> u64 {
        self.length.saturating_sub(self.progress.whole_bytes as u64 + 1)
    }

    /// Cuts a broken last line off, so that the next event follows the last whole one.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn go_on(self, durability: Durability) -> Result<(RecordWriter, Progress), WriteError> {
        let whole = self.progress.whole_bytes as u64;
        let io = |source| WriteError::Io { path: self.path.clone(), source };
        if self.length > whole + 1 {
            self.file.set_len(whole + 1).map_err(io)?;
        }
        let chain = Chain::after(self.progress.lines, &self.last_line);
        // The line break itself may be what is missing.
        let waiting = if self.length == whole { vec![b'\n'] } else { Vec::new() };
        let writer = RecordWriter { file: self.file, path: self.path, chain, durability, waiting };
        Ok((writer, self.progress))
    }
}

impl Drop for RecordWriter {
    fn drop(&mut self) {
        // What waits here was observed but not graded; there is nobody left to tell of an error.
        let _ = self.flush();
    }
}
