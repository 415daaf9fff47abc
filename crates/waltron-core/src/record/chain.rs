//! Lines of a record and the chain of digests between them.

use super::event::Event;
use crate::injection::program::Program;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// One line: an event with its number, time and the digest of the line before.
///
/// Written, it is one object: `n`, `at`, `prev`, `event` with the event's kind, and then what the event
/// holds. It is put together and taken apart here, since formats' own means for it keep every value of
/// a line twice.
#[derive(Clone, Debug, PartialEq)]
pub struct Line {
    /// Number of the line, from 1.
    pub n: u64,
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// Digest of the line before; empty on the first.
    pub prev: String,
    /// What happened.
    pub event: Event,
}

impl Line {
    /// Reads a line without its line break.
    ///
    /// # Errors
    /// What is no JSON, lacks a part, or is of a kind that is not known.
    pub fn read(text: &[u8]) -> Result<Self, serde_json::Error> {
        #[derive(Deserialize)]
        struct Front {
            n: u64,
            at: String,
            prev: String,
            event: String,
        }
        let Front { n, at, prev, event } = serde_json::from_slice(text)?;
        // `{"kind": line}` is the event by itself: what is not its own in the line it does not look at.
        let mut whole = Vec::with_capacity(text.len() + event.len() + 8);
        whole.push(b'{');
        serde_json::to_writer(&mut whole, &event)?;
        whole.push(b':');
        whole.extend_from_slice(text);
        whole.push(b'}');
        Ok(Self { n, at, prev, event: serde_json::from_slice(&whole)? })
    }
}

/// Makes lines, each chained to the one before.
#[derive(Clone, Debug, Default)]
pub struct Chain {
    n: u64,
    prev: String,
    /// The last event by itself; its room is used again.
    event: Vec<u8>,
    /// The last program with its JSON: a point that is injected again has the same.
    program: Option<(Arc<Program>, Vec<u8>)>,
}

/// Digest of a line's text without its line break: 128 bits of BLAKE3, as hex.
fn digest(line: &[u8]) -> String {
    String::from_utf8_lossy(&digest_of(line)).into_owned()
}

/// The same without a string.
pub(super) fn digest_of(line: &[u8]) -> [u8; 32] {
    let mut digits = [0; 32];
    digits.copy_from_slice(&blake3::hash(line).to_hex().as_bytes()[..32]);
    digits
}

impl Chain {
    /// Goes on after a record's last whole line: its number and its text without line break.
    pub fn after(n: u64, line: &[u8]) -> Self {
        Self { n, prev: digest(line), ..Self::default() }
    }

    /// The event as `{"kind":{…}}`, as it serialises.
    fn by_itself(&mut self, event: &Event) -> Result<(), serde_json::Error> {
        self.event.clear();
        let Event::Observed { test, points, program, observation, warm } = event else {
            return serde_json::to_writer(&mut self.event, event);
        };
        let known = self.program.take().filter(|(known, _)| Arc::ptr_eq(known, program));
        let (program, json) = match known {
            Some(known) => known,
            None => (Arc::clone(program), program.to_json()?),
        };
        let out = &mut self.event;
        out.extend_from_slice(b"{\"observed\":{\"test\":");
        serde_json::to_writer(&mut *out, test)?;
        if !points.is_empty() {
            out.extend_from_slice(b",\"points\":");
            serde_json::to_writer(&mut *out, points)?;
        }
        out.extend_from_slice(b",\"program\":");
        out.extend_from_slice(&json);
        out.extend_from_slice(b",\"observation\":");
        serde_json::to_writer(&mut *out, observation)?;
        if !warm.is_cold() {
            out.extend_from_slice(b",\"warm\":");
            serde_json::to_writer(&mut *out, warm)?;
        }
        out.extend_from_slice(b"}}");
        self.program = Some((program, json));
        Ok(())
    }

    /// The next line's text, without line break.
    ///
    /// # Errors
    /// Only if the event cannot be written as JSON, which plain data always can.
    pub fn line(&mut self, at: &str, event: &Event) -> Result<String, serde_json::Error> {
        let mut text = Vec::with_capacity(2048);
        self.line_to(&mut text, at, event)?;
        String::from_utf8(text).map_err(serde::ser::Error::custom)
    }

    /// The same, appended to other lines; nothing is where it fails.
    ///
    /// # Errors
    /// As [`Chain::line`].
    pub fn line_to(
        &mut self,
        text: &mut Vec<u8>,
        at: &str,
        event: &Event,
    ) -> Result<(), serde_json::Error> {
        #[derive(Serialize)]
        struct Front<'a> {
            n: u64,
            at: &'a str,
            prev: &'a str,
        }
        self.by_itself(event)?;
        let parts = self.event.split_first().and_then(|(_, rest)| {
            let colon = rest.iter().position(|b| *b == b':')?;
            let fields = rest[colon + 1..].strip_prefix(b"{")?.strip_suffix(b"}}")?;
            Some((&rest[..colon], fields))
        });
        let (kind, fields) = parts.ok_or_else(|| serde::ser::Error::custom("not an event"))?;
        let start = text.len();
        let front = Front { n: self.n + 1, at, prev: &self.prev };
        if let Err(error) = serde_json::to_writer(&mut *text, &front) {
            text.truncate(start);
            return Err(error);
        }
        text.pop();
        text.extend_from_slice(b",\"event\":");
        text.extend_from_slice(kind);
        if !fields.is_empty() {
            text.push(b',');
            text.extend_from_slice(fields);
        }
        text.push(b'}');
        self.n += 1;
        self.prev = digest(&text[start..]);
        Ok(())
    }
}

/// What a record's text holds.
#[derive(Clone, Debug, PartialEq)]
pub struct Reading {
    /// The whole lines, at least one.
    pub lines: Vec<Line>,
    /// Bytes after the last whole line that were left out: the record was cut in a write.
    pub cut_bytes: usize,
    /// Number of the first line whose digest of the line before is wrong: text was changed.
    pub broken_at: Option<usize>,
}

/// Why a record cannot be read.
#[derive(Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum ReadError {
    /// Not even the first event is whole.
    #[error("the record holds no whole event")]
    NothingWhole,
    /// A line before the last is no event.
    #[error("line {line} is no event of a run record: {message}")]
    BadLine {
        /// Its number, from 1.
        line: usize,
        /// What the reader says.
        message: String,
    },
    /// The record is of a format that this program does not know.
    #[error(
        "the record has format {found}, this program reads {FORMAT}: take the program that wrote it, or a newer one"
    )]
    Format {
        /// Its format.
        found: u64,
    },
    /// The first event does not start a run.
    #[error("the first line does not start a run; is this a run record?")]
    NoStart,
}

/// The format of records that this program writes and reads.
pub const FORMAT: u32 = 1;

/// Whether a record's first line tells a format that is known, before anything else of it is read.
///
/// # Errors
/// [`ReadError::Format`] where it is another one.
pub(super) fn known_format(first: &[u8]) -> Result<(), ReadError> {
    #[derive(serde::Deserialize)]
    struct Format {
        format: u64,
    }
    match serde_json::from_slice::<Format>(first) {
        Ok(Format { format }) if format != u64::from(FORMAT) => {
            Err(ReadError::Format { found: format })
        }
        // What tells none is told apart by its event.
        _ => Ok(()),
    }
}

/// Reads a record's bytes up to its last whole event.
///
/// # Errors
/// [`ReadError`]: nothing whole in it, damage before the end, or not a run record.
pub fn read(bytes: &[u8]) -> Result<Reading, ReadError> {
    known_format(bytes.split(|b| *b == b'\n').next().unwrap_or_default())?;
    let mut lines = Vec::new();
    let (mut cut_bytes, mut broken_at) = (0, None);
    let mut expected_prev = String::new();
    let mut rest = bytes;
    while !rest.is_empty() {
        let (line, next) = match rest.iter().position(|b| *b == b'\n') {
            Some(end) => (&rest[..end], &rest[end + 1..]),
            None => (rest, &[][..]),
        };
        let number = lines.len() + 1;
        match Line::read(line) {
            Ok(read) => {
                if broken_at.is_none() && read.prev != expected_prev {
                    broken_at = Some(number);
                }
                expected_prev = digest(line);
                lines.push(read);
            }
            Err(_) if next.is_empty() => cut_bytes = rest.len(),
            Err(error) => {
                return Err(ReadError::BadLine { line: number, message: error.to_string() });
            }
        }
        rest = next;
    }
    match lines.first() {
        None => Err(ReadError::NothingWhole),
        Some(Line { event: Event::RunStarted(_), .. }) => {
            Ok(Reading { lines, cut_bytes, broken_at })
        }
        Some(_) => Err(ReadError::NoStart),
    }
}
