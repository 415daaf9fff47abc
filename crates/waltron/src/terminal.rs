//! The two output streams: results on stdout, chatter on stderr; colour decided once for each.

use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Style};
use serde_json::Value;
use std::borrow::Cow;
use std::io::{self, IsTerminal, Write};
use std::sync::OnceLock;

/// When to colour.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum Colour {
    /// On a terminal, unless `NO_COLOR` is set and not empty.
    #[default]
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// Where text goes.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Terminal {
    out: ColorChoice,
    err: ColorChoice,
    width: Option<usize>,
    err_is_terminal: bool,
}

pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
pub(crate) const DOUBTFUL: Style = AnsiColor::Yellow.on_default();
pub(crate) const STRONG: Style = Style::new().bold();
pub(crate) const FAINT: Style = Style::new().dimmed();

impl Terminal {
    /// Decides once what each stream gets.
    pub(crate) fn new(colour: Colour) -> Self {
        let refused = std::env::var_os("NO_COLOR").is_some_and(|v| !v.is_empty());
        let choose = |is_terminal: bool| match colour {
            Colour::Always => ColorChoice::AlwaysAnsi,
            Colour::Auto if is_terminal && !refused => ColorChoice::Always,
            _ => ColorChoice::Never,
        };
        let (out, err) = (io::stdout().is_terminal(), io::stderr().is_terminal());
        let width = terminal_size::terminal_size().map(|(w, _)| usize::from(w.0));
        Self { out: choose(out), err: choose(err), width, err_is_terminal: err }
    }

    /// Columns of the terminal; `None` where there is none.
    pub(crate) fn width(&self) -> Option<usize> {
        self.width
    }

    /// Whether chatter such as a progress bar makes sense.
    pub(crate) fn is_watched(&self) -> bool {
        self.err_is_terminal
    }

    /// Whether errors may be coloured.
    pub(crate) fn colours_errors(&self) -> bool {
        self.err != ColorChoice::Never
    }

    /// Results. A reader that went away is no error: the exit code still tells the verdict.
    pub(crate) fn print(&self, text: &str) {
        let mut out = AutoStream::new(io::stdout().lock(), self.out);
        note(out.write_all(tame(text).as_bytes()).and_then(|()| out.flush()));
    }

    /// Results for programs, as they are: there is no colour in them to strip.
    pub(crate) fn print_data(&self, text: &str) {
        let mut out = io::stdout().lock();
        note(out.write_all(text.as_bytes()).and_then(|()| out.flush()));
    }

    /// Results for programs, as JSON. What is unknown or empty is absent.
    pub(crate) fn print_json(&self, mut value: Value) {
        leave_out_absent(&mut value);
        self.print_data(&format!("{value}\n"));
    }

    /// Why results could not be written, where they could not.
    pub(crate) fn lost(&self) -> Option<&'static str> {
        LOST.get().map(String::as_str)
    }

    /// Chatter, warnings and errors.
    pub(crate) fn chat(&self, text: &str) {
        let _ = AutoStream::new(io::stderr().lock(), self.err).write_all(tame(text).as_bytes());
    }
}

/// Why results were lost, the first time.
static LOST: OnceLock<String> = OnceLock::new();

fn note(written: io::Result<()>) {
    if let Err(error) = written
        && error.kind() != io::ErrorKind::BrokenPipe
    {
        let _ = LOST.set(error.to_string());
    }
}

/// Takes out of objects what is null or an empty text.
fn leave_out_absent(value: &mut Value) {
    match value {
        Value::Object(entries) => {
            entries.retain(|_, v| !v.is_null() && v.as_str() != Some(""));
            entries.values_mut().for_each(leave_out_absent);
        }
        Value::Array(all) => all.iter_mut().for_each(leave_out_absent),
        _ => {}
    }
}

/// Text in a style; the stream strips it where it does not colour.
pub(crate) fn styled(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}

/// Text from a file, safe to show: control characters would command the terminal, and marks of
/// direction would show it in another order than it has.
pub(crate) fn plain(text: &str) -> String {
    text.chars().map(|c| if c.is_control() || turns(c) { '\u{fffd}' } else { c }).collect()
}

/// Whether a character changes the direction or the visibility of what is around it (Unicode
/// Standard Annex 9, 2).
fn turns(c: char) -> bool {
    matches!(c, '\u{61c}' | '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}')
}

/// The last look at what is shown: of commands to the terminal, colours and the clearing of a line
/// are left, whatever a text that came from a file held.
fn tame(text: &str) -> Cow<'_, str> {
    let harmless = |c: char| matches!(c, '\n' | '\r' | '\t') || !(c.is_control() || turns(c));
    if text.chars().all(harmless) {
        return Cow::Borrowed(text);
    }
    let mut tamed = String::with_capacity(text.len());
    for (at, c) in text.char_indices() {
        let own = || {
            let rest = text[at + 1..].strip_prefix('[')?;
            let end = rest.find(|c: char| !c.is_ascii_digit() && c != ';')?;
            matches!(rest.as_bytes()[end], b'm' | b'K').then_some(())
        };
        tamed.push(if harmless(c) || c == '\u{1b}' && own().is_some() { c } else { '\u{fffd}' });
    }
    Cow::Owned(tamed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_text_of_a_file_commands_the_terminal_or_turns_its_order() {
        assert_eq!(plain("a\u{1b}[2Jb\u{202e}c"), "a\u{fffd}[2Jb\u{fffd}c");
        let own = format!("\r\u{1b}[K{}\n", styled(GOOD, "pass"));
        assert_eq!(tame(&own), own, "what the program itself writes stays");
        for command in
            ["\u{1b}[2J", "\u{1b}]0;title\u{7}", "\u{1b}", "\u{1b}[", "\u{9b}2J", "\u{2066}x"]
        {
            let tamed = tame(command).into_owned();
            assert!(!tamed.contains(['\u{1b}', '\u{7}', '\u{9b}', '\u{2066}']), "{tamed:?}");
        }
    }
}
