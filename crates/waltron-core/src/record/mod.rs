//! The run record: an append-only log of events, one JSON object a line (`*.run.jsonl`).
//!
//! It is the single source for reports, grading again, resuming and the archive. Observations are
//! never rewritten; a repeat or a re-grade appends. Each line carries the digest of the line
//! before it, so a change in the middle shows.

pub mod again;
mod chain;
mod event;
mod head;
mod kept;
mod progress;
mod resolved;
mod run;
mod tally;

pub use chain::{Chain, FORMAT, Line, ReadError, Reading, read};
pub use event::{
    Begun, Change, Continued, Event, FileCopy, GradedAgain, Most, Outcome, RunEnded, RunStarted,
};
pub use head::{first_break, kind_of};
pub use kept::{Kept, digest};
pub use progress::{Chosen, Progress};
pub use resolved::Resolved;
pub use run::Run;
pub use tally::Tally;
