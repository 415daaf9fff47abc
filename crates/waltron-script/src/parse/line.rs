//! One line of a script.

use super::super::ast::{
    Ask, AskWanted, Ending, ForOver, Guard, RepeatKind, SetValue, Span, Statement,
};
use super::expect::expect;
use super::output::{ending, fault, hold, playback, ramp, wait};
use std::ops::Range;
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{Cursor, Expr, ExprKind, Kind, RESERVED, Sign, Token, Type};
use waltron_core::text::name::{Name, nearest};

/// What a line is.
#[allow(clippy::large_enum_variant, reason = "there is one at a time")]
pub(super) enum Line {
    /// A statement.
    Whole(Statement),
    /// The first line of a block.
    Open(Opening),
    /// `else`, `else if …`.
    Else(Option<Expr>),
    /// `then stop`, `then fail "…"`.
    ThenEnding(Ending),
    /// `end`.
    End,
}

/// The first line of a block.
pub(super) enum Opening {
    For(Name, ForOver),
    Repeat(RepeatKind, Option<Expr>, Option<Ending>),
    If(Option<Expr>),
    Play,
    Guard(Expr),
    Sequence(Name, Vec<(Name, Type)>),
    Finally,
    /// One that could not be read.
    Broken,
}

pub(super) type Read<T> = Result<T, Problem>;

const WORDS: [&str; 26] = [
    "let", "hold", "ramp", "fault", "playback", "play", "wait", "off", "repeat", "for", "if",
    "else", "guard", "then", "ask", "tell", "read", "set", "expect", "capture", "stop", "fail",
    "call", "send", "run", "finally",
];

/// The block that a line begins, going by its first word alone.
pub(super) fn opened_by(text: &str, line: &[Token]) -> Option<Opening> {
    let first = line.first()?;
    match &text[first.span.clone()] {
        "for" | "repeat" | "play" | "sequence" | "finally" => Some(Opening::Broken),
        "if" => Some(Opening::If(Some(Expr {
            kind: ExprKind::Name("true".into()),
            span: first.span.clone(),
        }))),
        "guard" => {
            let closed = line.iter().any(|t| &text[t.span.clone()] == "then");
            let condition = Expr { kind: ExprKind::Name("false".into()), span: first.span.clone() };
            (!closed).then_some(Opening::Guard(condition))
        }
        _ => None,
    }
}

/// Reads a line.
pub(super) fn read(c: &mut Cursor<'_>) -> Read<Line> {
    let start = c.here();
    // A name in backquotes is never a word of the language.
    if c.peek().is_some_and(|t| t.kind == Kind::Quoted) {
        return assignment(c, "", start);
    }
    let Some(word) = c.word() else {
        return Err(c.unexpected("a step such as `hold` or `expect`"));
    };
    // `load = 2 A`: a new value for a name.
    if !RESERVED.contains(&word) {
        return assignment(c, word, start);
    }
    c.take();
    let line = match word {
        "let" => {
            let (name, _) = new_name(c, "a name")?;
            c.expect(Sign::Assign, "after the name")?;
            Line::Whole(Statement::Let { name, new: true, value: c.expression()? })
        }
        "hold" => Line::Whole(Statement::Hold(hold(c)?)),
        "ramp" => Line::Whole(Statement::Ramp(ramp(c)?)),
        "fault" => Line::Whole(Statement::Fault(fault(c)?)),
        "playback" => Line::Whole(Statement::Playback(playback(c)?)),
        "play" => Line::Open(Opening::Play),
        "finally" => Line::Open(Opening::Finally),
        "wait" => Line::Whole(Statement::Wait(wait(c)?)),
        "off" => Line::Whole(Statement::Off),
        "repeat" => repeat(c)?,
        "for" => for_loop(c)?,
        "if" => Line::Open(Opening::If(Some(c.expression()?))),
        "else" => {
            let condition = if c.eat_word("if") { Some(c.expression()?) } else { None };
            Line::Else(condition)
        }
        "end" => Line::End,
        "guard" => {
            let condition = c.expression()?;
            if c.eat_word("then") {
                let ending = guard_ending(c)?;
                Line::Whole(Statement::Guard(Guard { condition, body: Vec::new(), ending }))
            } else {
                Line::Open(Opening::Guard(condition))
            }
        }
        "then" => Line::ThenEnding(guard_ending(c)?),
        "ask" => Line::Whole(Statement::Ask(ask(c)?)),
        "tell" => Line::Whole(Statement::Tell(c.expression()?)),
        "read" => {
            let (name, _) = new_name(c, "a name for the value")?;
            c.expect(Sign::Assign, "after the name")?;
            let value = c.value()?;
            let over = if c.eat_word("over") { Some(c.value()?) } else { None };
            Line::Whole(Statement::Read { name, value, over })
        }
        "set" => {
            let (parameter, at) = c.path("a parameter such as `supply.output`")?;
            c.expect(Sign::Assign, "after the parameter")?;
            let value = match c.word() {
                Some(on @ ("on" | "off")) => {
                    c.take();
                    SetValue::Switch(on == "on")
                }
                _ => SetValue::Value(c.value()?),
            };
            Line::Whole(Statement::Set { parameter, at: Span(at), value })
        }
        "send" => {
            let text = c.expression()?;
            c.expect_word("to", "and the instrument")?;
            let (to, at) = c.name("an instrument")?;
            let name =
                if c.eat_word("as") { Some(new_name(c, "a name for the answer")?.0) } else { None };
            Line::Whole(Statement::Send { text, to, at: Span(at), name })
        }
        "run" => execute(c)?,
        "expect" => Line::Whole(Statement::Expect(expect(c)?)),
        "capture" => {
            let (name, _) = c.name("a name for the waveforms")?;
            Line::Whole(Statement::Capture { name })
        }
        "stop" => Line::Whole(Statement::Stop(Ending::Stop)),
        "fail" => Line::Whole(Statement::Stop(Ending::Fail(c.expression()?))),
        "call" => {
            let (name, _) = c.name("a sequence's name")?;
            c.expect(Sign::Open, "before its arguments")?;
            let mut args = Vec::new();
            while !c.eat(Sign::Close) {
                args.push(c.expression()?);
                if !c.eat(Sign::Comma) {
                    c.expect(Sign::Close, "to close the bracket")?;
                    break;
                }
            }
            Line::Whole(Statement::Call { name, args })
        }
        "sequence" => sequence(c)?,
        other => {
            return Err(Problem::new(start, format!("no step begins with `{other}`"))
                .help(format!("steps are {}", WORDS.join(", "))));
        }
    };
    c.end("on this line")?;
    Ok(line)
}

/// How a guard ends: what it stopped cannot go on as if nothing had been.
fn guard_ending(c: &mut Cursor<'_>) -> Read<Ending> {
    let here = c.here();
    match ending(c)? {
        Ending::GoOn => Err(Problem::new(here, "a guard ends the sequence, it cannot go on")
            .help("write `then stop` or `then fail \"why\"`; to go on, use `until … else go on` in the step")),
        ending => Ok(ending),
    }
}

/// `run "PROGRAM" "ARGUMENT" …, at most TIME [as NAME]`.
fn execute(c: &mut Cursor<'_>) -> Read<Line> {
    let program = c.value()?;
    let mut args = Vec::new();
    while c.peek().is_some() && !c.at_sign(Sign::Comma) && c.word() != Some("at") {
        args.push(c.value()?);
    }
    c.eat(Sign::Comma);
    c.expect_word("at", "most, and how long the program may take")?;
    c.expect_word("most", "after `at`")?;
    let most = c.value()?;
    let name = if c.eat_word("as") { Some(new_name(c, "a name for the output")?.0) } else { None };
    Ok(Line::Whole(Statement::Execute { program, args, most, name }))
}

fn assignment(c: &mut Cursor<'_>, word: &str, start: Range<usize>) -> Read<Line> {
    let is_assignment = {
        let mut ahead = c.clone();
        ahead.take();
        ahead.at_sign(Sign::Assign)
    };
    if !is_assignment {
        return Err(Problem::new(start, format!("`{word}` is no step"))
            .did_you_mean(nearest(word, WORDS), || format!("steps are {}", WORDS.join(", "))));
    }
    let (name, _) = c.name("a name")?;
    c.take();
    let value = c.expression()?;
    c.end("after the value")?;
    Ok(Line::Whole(Statement::Let { name, new: false, value }))
}

/// A name that is being defined.
pub(super) fn new_name(c: &mut Cursor<'_>, wanted: &str) -> Read<(Name, Range<usize>)> {
    if let Some(word) = c.word()
        && RESERVED.contains(&word)
    {
        return Err(Problem::new(c.here(), format!("`{word}` is a word of the language"))
            .help("choose another name, or put it in backquotes"));
    }
    c.name(wanted)
}

fn repeat(c: &mut Cursor<'_>) -> Read<Line> {
    let kind = match c.word() {
        Some("for") => {
            c.take();
            RepeatKind::For(c.value()?)
        }
        Some("while") => {
            c.take();
            RepeatKind::While(c.expression()?)
        }
        Some("until") => {
            c.take();
            RepeatKind::Until(c.expression()?)
        }
        _ => {
            let count = c.value()?;
            c.expect_word("times", "after the count")?;
            RepeatKind::Times(count)
        }
    };
    c.eat(Sign::Comma);
    let (mut most, mut otherwise) = (None, None);
    if c.word() == Some("at") {
        c.take();
        c.expect_word("most", "after `at`")?;
        most = Some(c.value()?);
        c.expect_word("times", "after the count")?;
        if c.eat_word("else") {
            otherwise = Some(ending(c)?);
        }
    }
    Ok(Line::Open(Opening::Repeat(kind, most, otherwise)))
}

fn for_loop(c: &mut Cursor<'_>) -> Read<Line> {
    let (name, _) = new_name(c, "a name")?;
    if c.eat_word("in") {
        return Ok(Line::Open(Opening::For(name, ForOver::List(c.value()?))));
    }
    c.expect_word("from", "or `in`, and what it runs over")?;
    let from = c.value()?;
    c.expect_word("to", "and the last value")?;
    let to = c.value()?;
    c.expect_word("by", "and the step")?;
    let by = c.value()?;
    Ok(Line::Open(Opening::For(name, ForOver::Range(from, to, by))))
}

fn declared_type(c: &mut Cursor<'_>) -> Read<Type> {
    let here = c.here();
    let words = || Type::DECLARED.iter().map(|(w, _)| *w);
    let (word, _) = c.name("a kind of value, such as `current`")?;
    Type::declared(word.as_str()).ok_or_else(|| {
        Problem::new(here, format!("`{word}` is no kind of value"))
            .did_you_mean(nearest(word.as_str(), words()), || {
                format!("kinds are {}", words().collect::<Vec<_>>().join(", "))
            })
    })
}

fn ask(c: &mut Cursor<'_>) -> Read<Ask> {
    if c.peek().is_some_and(|t| t.kind == Kind::Text) {
        return Ok(Ask { text: c.expression()?, wanted: AskWanted::Confirm });
    }
    let (name, _) = new_name(c, "a question in quotes, or a name for the answer")?;
    if c.eat_word("from") {
        let choices = c.value()?;
        let text = c.expression()?;
        let default = if c.eat_word("default") { Some(c.value()?) } else { None };
        return Ok(Ask { text, wanted: AskWanted::Choice(name, choices, default) });
    }
    c.expect(Sign::Colon, "and the kind of answer, or `from` and the choices")?;
    let kind = declared_type(c)?;
    let text = c.expression()?;
    let (mut default, mut between) = (None, None);
    loop {
        if default.is_none() && c.eat_word("default") {
            default = Some(c.value()?);
        } else if between.is_none() && c.eat_word("from") {
            let low = c.value()?;
            c.expect_word("to", "and the largest answer")?;
            between = Some((low, c.value()?));
        } else {
            return Ok(Ask { text, wanted: AskWanted::Value { name, kind, default, between } });
        }
    }
}

fn sequence(c: &mut Cursor<'_>) -> Read<Line> {
    let (name, _) = new_name(c, "a name for the sequence")?;
    let mut parameters = Vec::new();
    c.expect(Sign::Open, "and its parameters, if only `()`")?;
    while !c.eat(Sign::Close) {
        let (parameter, _) = new_name(c, "a parameter")?;
        c.expect(Sign::Colon, "and the parameter's kind, as in `level: current`")?;
        let kind = if c.eat_word("loop") { Type::Loop } else { declared_type(c)? };
        parameters.push((parameter, kind));
        if !c.eat(Sign::Comma) {
            c.expect(Sign::Close, "to close the bracket")?;
            break;
        }
    }
    Ok(Line::Open(Opening::Sequence(name, parameters)))
}
