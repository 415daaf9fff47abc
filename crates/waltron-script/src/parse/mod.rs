//! From text to statements.
//!
//! A script is read line by line: a mistake spoils its own line only, so that all of a script's
//! mistakes show at once. Blocks are put together from lines that begin and lines that end them.

mod expect;
mod line;
mod output;

use super::ast::{Ending, Guard, Script, Sequence, Span, Statement, Step};
use line::{Line, Opening, read};
use std::ops::Range;
use waltron_core::text::document::{Problem, Problems};
use waltron_core::text::expression::{Cursor, Kind, Token, tokens};

/// Reads a script. What cannot be read is left out, with its problem noted.
pub(super) fn parse(text: &str, problems: &mut Problems) -> Script {
    let tokens = tokens(text);
    let mut builder = Builder::default();
    for line in lines(&tokens) {
        let (Some(first), Some(last)) = (line.first(), line.last()) else { continue };
        let span = first.span.start..last.span.end;
        let mut cursor = Cursor::new(text, line, span.end);
        match read(&mut cursor) {
            Ok(line) => builder.add(line, span, problems),
            Err(problem) => {
                problems.push(problem);
                // A broken opening line still opens its block, or its `end` would be blamed.
                if let Some(opening) = line::opened_by(text, line) {
                    builder.add(Line::Open(opening), span, problems);
                }
            }
        }
    }
    builder.finish(problems)
}

/// The tokens of each line that has any, without comments.
pub(super) fn lines(tokens: &[Token]) -> impl Iterator<Item = &[Token]> {
    tokens.split(|t| t.kind == Kind::Newline).filter_map(|line| {
        let end = line.iter().position(|t| t.kind == Kind::Comment).unwrap_or(line.len());
        (end > 0).then(|| &line[..end])
    })
}

/// A block whose end has not come yet.
struct Open {
    opening: Opening,
    span: Range<usize>,
    body: Vec<Step>,
    /// Branches of an `if` that are complete.
    branches: Vec<(Option<waltron_core::text::expression::Expr>, Vec<Step>)>,
}

/// Deepest nesting of blocks.
const DEEPEST: usize = 50;

#[derive(Default)]
struct Builder {
    script: Script,
    open: Vec<Open>,
    has_finally: bool,
    /// Blocks that are begun beyond the deepest one, which are told once and left out.
    beyond: usize,
}

impl Builder {
    fn push(&mut self, what: Statement, span: Range<usize>) {
        let step = Step { what, span: Span(span) };
        match self.open.last_mut() {
            Some(open) => open.body.push(step),
            None => self.script.body.push(step),
        }
    }

    fn add(&mut self, line: Line, span: Range<usize>, problems: &mut Problems) {
        match line {
            Line::Open(_) if self.open.len() >= DEEPEST => {
                if self.beyond == 0 {
                    let message = format!("blocks are nested more than {DEEPEST} deep");
                    let problem = Problem::new(span, message);
                    problems.push(problem.help("put a part of it into a `sequence`, and call it"));
                }
                self.beyond += 1;
            }
            Line::End | Line::ThenEnding(_) if self.beyond > 0 => self.beyond -= 1,
            _ if self.beyond > 0 => {}
            Line::Whole(what) => self.push(what, span),
            Line::Open(opening) => {
                if matches!(opening, Opening::Sequence(..)) && !self.open.is_empty() {
                    let message = "a sequence is defined at the top, not inside a block";
                    problems.push(Problem::new(span.clone(), message));
                }
                if matches!(opening, Opening::Finally) {
                    let message = match (self.open.is_empty(), self.has_finally) {
                        (false, _) => Some("`finally` stands at the top, not inside a block"),
                        (true, true) => Some("`finally` was there already"),
                        (true, false) => None,
                    };
                    self.has_finally = true;
                    if let Some(message) = message {
                        problems.push(Problem::new(span.clone(), message));
                    }
                }
                self.open.push(Open { opening, span, body: Vec::new(), branches: Vec::new() });
            }
            Line::Else(condition) => match self.open.last_mut() {
                Some(open) if matches!(open.opening, Opening::If(_)) => {
                    let finished = std::mem::replace(&mut open.opening, Opening::If(condition));
                    if let Opening::If(condition) = finished {
                        if condition.is_none() {
                            problems.push(Problem::new(span, "`else` was there already"));
                        }
                        open.branches.push((condition, std::mem::take(&mut open.body)));
                    }
                }
                _ => problems.push(Problem::new(span, "`else` without an `if` before it")),
            },
            Line::ThenEnding(ending) => match self.open.pop() {
                Some(Open { opening: Opening::Guard(condition), span, body, .. }) => {
                    self.push(Statement::Guard(Guard { condition, body, ending }), span);
                }
                other => {
                    self.open.extend(other);
                    let problem = Problem::new(span, "`then` without a `guard` before it");
                    problems.push(
                        problem.help("a guard's steps end with `then stop` or `then fail \"…\"`"),
                    );
                }
            },
            Line::End => match self.open.pop() {
                Some(Open { opening: Opening::Guard(condition), span: begun, body, .. }) => {
                    let problem = Problem::new(span, "a guard ends with `then stop`");
                    problems.push(problem.help("or with `then fail \"why\"`"));
                    let guard = Guard { condition, body, ending: Ending::Stop };
                    self.push(Statement::Guard(guard), begun);
                }
                Some(open) => self.close(open),
                None => problems.push(
                    Problem::new(span, "`end` without a block before it")
                        .help("`for`, `repeat`, `if`, `play` and `sequence` begin a block"),
                ),
            },
        }
    }

    fn close(&mut self, open: Open) {
        let Open { opening, span, body, mut branches } = open;
        let what = match opening {
            Opening::For(name, over) => Statement::For(super::ast::For { name, over, body }),
            Opening::Repeat(kind, most, otherwise) => {
                Statement::Repeat(super::ast::Repeat { kind, most, otherwise, body })
            }
            Opening::If(condition) => {
                branches.push((condition, body));
                Statement::If(branches)
            }
            Opening::Play => Statement::Play(body),
            Opening::Sequence(name, parameters) => {
                self.script.sequences.push(Sequence { name, parameters, body, span: Span(span) });
                return;
            }
            Opening::Finally => {
                self.script.finally.extend(body);
                return;
            }
            Opening::Guard(condition) => {
                Statement::Guard(Guard { condition, body, ending: Ending::Stop })
            }
            // The header was unreadable; its body was read for its own mistakes.
            Opening::Broken => Statement::If(vec![(None, body)]),
        };
        self.push(what, span);
    }

    fn finish(mut self, problems: &mut Problems) -> Script {
        while let Some(open) = self.open.pop() {
            let (what, ending) = match open.opening {
                Opening::Guard(_) => ("guard", "then stop"),
                _ => ("block", "end"),
            };
            problems.push(
                Problem::new(open.span.clone(), format!("this {what} has no `{ending}`"))
                    .help(format!("write `{ending}` on a line of its own where it is over")),
            );
            self.close(open);
        }
        self.script
    }
}
