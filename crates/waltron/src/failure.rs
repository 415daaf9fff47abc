//! Errors as the user sees them: what, where, and the way out; as text or as JSON.

use crate::cli::Format;
use crate::exit::Exit;
use crate::terminal::Terminal;
use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use serde_json::{Value, json};
use std::path::Path;
use waltron_core::text::document::{DocumentError, Problem, Source};

/// Why a command could not do its work.
#[derive(Debug)]
pub(crate) struct Failure {
    exit: Exit,
    kind: &'static str,
    reports: Vec<Report>,
}

#[derive(Debug)]
struct Report {
    message: String,
    help: Option<String>,
    file: Option<String>,
    place: Option<(Source, std::ops::Range<usize>)>,
    /// A warning rather than an error.
    doubtful: bool,
}

/// Errors beyond this many say little more.
const MOST_SHOWN: usize = 20;

impl Failure {
    fn single(exit: Exit, kind: &'static str, message: impl Into<String>) -> Self {
        let report = Report {
            message: message.into(),
            help: None,
            file: None,
            place: None,
            doubtful: false,
        };
        Self { exit, kind, reports: vec![report] }
    }

    /// Arguments that make no sense.
    pub(crate) fn usage(message: impl Into<String>) -> Self {
        Self::single(Exit::Invalid, "usage", message)
    }

    /// A file that cannot be used as it is.
    pub(crate) fn file(path: &Path, message: impl Into<String>) -> Self {
        let mut failure = Self::single(Exit::Invalid, "file", message);
        failure.reports[0].file = Some(path.display().to_string());
        failure
    }

    /// A file that cannot be written, a rig that fails.
    pub(crate) fn trouble(message: impl Into<String>) -> Self {
        Self::single(Exit::Trouble, "trouble", message)
    }

    /// Problems of one file at their places.
    pub(crate) fn problems(source: &Source, problems: Vec<Problem>) -> Self {
        DocumentError::new(source, problems).into()
    }

    /// Something doubtful at its place, which keeps nothing from running.
    pub(crate) fn warning(source: &Source, problem: Problem) -> Self {
        let mut warning = Self::problems(source, vec![problem]);
        warning.reports.iter_mut().for_each(|r| r.doubtful = true);
        warning
    }

    /// The text as it is shown on stderr.
    pub(crate) fn render(&self, terminal: &Terminal) -> String {
        self.text(terminal.colours_errors())
    }

    /// Adds the way out.
    pub(crate) fn help(mut self, help: impl Into<String>) -> Self {
        if let Some(report) = self.reports.last_mut() {
            report.help = Some(help.into());
        }
        self
    }

    /// What is wrong, in one line.
    pub(crate) fn message(&self) -> String {
        let all: Vec<&str> = self.reports.iter().map(|r| r.message.as_str()).collect();
        all.join("; ")
    }

    /// The exit code.
    pub(crate) fn exit(&self) -> Exit {
        self.exit
    }

    /// Shows it: text on stderr, or JSON on stdout where JSON was asked for.
    pub(crate) fn show(&self, terminal: &Terminal, format: Format) {
        if format == Format::Json {
            terminal.print_json(self.json());
        } else {
            terminal.chat(&self.text(terminal.colours_errors()));
        }
    }

    fn json(&self) -> Value {
        let mut errors: Vec<Value> = self.reports.iter().map(|r| r.json(self.kind)).collect();
        match errors.len() {
            1 => json!({ "error": errors.remove(0) }),
            _ => json!({ "errors": errors }),
        }
    }

    fn text(&self, colours: bool) -> String {
        let renderer = if colours { Renderer::styled() } else { Renderer::plain() };
        let mut text = String::new();
        for report in self.reports.iter().take(MOST_SHOWN) {
            text.push_str(&report.render(&renderer));
            text.push_str("\n\n");
        }
        if let Some(more) = self.reports.len().checked_sub(MOST_SHOWN).filter(|n| *n > 0) {
            text.push_str(&format!("… and {more} more\n"));
        }
        while text.ends_with("\n\n") {
            text.pop();
        }
        text
    }
}

impl Report {
    fn json(&self, kind: &str) -> Value {
        let mut error = json!({ "kind": kind, "message": self.message });
        let mut add = |key: &str, value: Value| error[key] = value;
        if let Some(file) = &self.file {
            add("file", file.as_str().into());
        }
        if let Some((source, span)) = &self.place {
            let (line, column) = source.position(span.start);
            add("file", source.name.as_str().into());
            add("line", line.into());
            add("column", column.into());
        }
        if let Some(help) = &self.help {
            add("help", help.as_str().into());
        }
        error
    }

    fn render(&self, renderer: &Renderer) -> String {
        let message = match &self.file {
            Some(file) => format!("{file}: {}", self.message),
            None => self.message.clone(),
        };
        let level = if self.doubtful { Level::WARNING } else { Level::ERROR };
        let title = level.primary_title(message);
        let mut group = match &self.place {
            Some((source, span)) if !source.text.is_empty() => {
                // Only the line itself: a multi-line table as a marker says nothing.
                let end = source.text[span.start..span.end.max(span.start)]
                    .find('\n')
                    .map_or(span.end, |n| span.start + n);
                let marker = AnnotationKind::Primary.span(span.start..end.max(span.start));
                let snippet = Snippet::source(&*source.text).path(&*source.name).annotation(marker);
                title.element(snippet)
            }
            Some((source, _)) => {
                title.element(Level::NOTE.message(format!("{} is empty", source.name)))
            }
            None => Group::with_title(title),
        };
        if let Some(help) = &self.help {
            group = group.element(Level::HELP.message(help.as_str()));
        }
        renderer.render(&[group])
    }
}

impl std::fmt::Display for Failure {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let messages: Vec<&str> = self.reports.iter().map(|r| r.message.as_str()).collect();
        f.write_str(&messages.join("; "))
    }
}

impl std::error::Error for Failure {}

impl From<DocumentError> for Failure {
    fn from(error: DocumentError) -> Self {
        let reports = error.problems.into_iter().map(|problem| Report {
            message: problem.message,
            help: problem.help,
            file: None,
            place: Some((error.source_file.clone(), problem.span)),
            doubtful: false,
        });
        Self { exit: Exit::Invalid, kind: "file", reports: reports.collect() }
    }
}
