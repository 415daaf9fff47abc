//! What is wrong in a file, and where.

use std::ops::Range;
use std::sync::Arc;

/// A file's name and text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Source {
    /// The name shown in messages, usually the path as the user gave it.
    pub name: String,
    /// The whole text.
    pub text: Arc<str>,
    /// Files that it names, by the names that it gives them, as far as they could be read.
    pub beside: Vec<(String, Arc<str>)>,
}

impl Source {
    /// A source from its name and text.
    pub fn new(name: impl Into<String>, text: impl Into<Arc<str>>) -> Self {
        Self { name: name.into(), text: text.into(), beside: Vec::new() }
    }

    /// The text of a file that it names.
    pub fn beside(&self, name: &str) -> Option<&Arc<str>> {
        self.beside.iter().find(|(n, _)| n == name).map(|(_, text)| text)
    }

    /// Line and column, both from 1, of a byte offset; columns count characters.
    pub fn position(&self, offset: usize) -> (usize, usize) {
        let mut offset = offset.min(self.text.len());
        while !self.text.is_char_boundary(offset) {
            offset -= 1;
        }
        let before = &self.text[..offset];
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().map_or(0, |l| l.chars().count()) + 1;
        (line, column)
    }
}

/// One mistake with its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// Byte range in the text.
    pub span: Range<usize>,
    /// What is wrong, lower case, no final stop.
    pub message: String,
    /// The way out.
    pub help: Option<String>,
    /// Whether it is one because something that had to come did not: what needs it has failed.
    pub fails: bool,
}

impl Problem {
    /// A problem without help.
    pub fn new(span: Range<usize>, message: impl Into<String>) -> Self {
        Self { span, message: message.into(), help: None, fails: false }
    }

    /// A quantity that cannot be read, with its way out.
    pub fn quantity(span: Range<usize>, error: &crate::quantity::QuantityError) -> Self {
        Self { span, message: error.to_string(), help: error.help(), fails: false }
    }

    /// The problem of a text that stands `by` bytes further on in a file.
    #[must_use]
    pub fn moved(mut self, by: usize) -> Self {
        self.span = self.span.start + by..self.span.end + by;
        self
    }

    /// Adds the way out.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }

    /// Adds "did you mean" if a candidate is near.
    #[must_use]
    pub fn did_you_mean(self, nearest: Option<&str>, otherwise: impl FnOnce() -> String) -> Self {
        match nearest {
            Some(nearest) => self.help(format!("did you mean `{nearest}`?")),
            None => self.help(otherwise()),
        }
    }
}

/// A file that cannot be used, with everything that is wrong in it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{} in {}", count(.problems.len()), .source_file.name)]
pub struct DocumentError {
    /// The file.
    pub source_file: Source,
    /// At least one problem, in the order of their places.
    pub problems: Vec<Problem>,
}

impl DocumentError {
    /// An error from a file's problems.
    pub fn new(source: &Source, mut problems: Vec<Problem>) -> Self {
        problems.sort_by_key(|p| p.span.start);
        Self { source_file: source.clone(), problems }
    }
}

fn count(n: usize) -> String {
    if n == 1 { "1 problem".to_owned() } else { format!("{n} problems") }
}
