//! One line of a script.

use super::super::ast::{
    Ask, AskWanted, Ending, Expect, Fault, ForOver, Guard, Hold, OffWhen, Output, Pace, Playback,
    Ramp, RepeatKind, Requirement, SetValue, Setting, Side, Span, Statement, Until, Wait, Within,
};
use crate::document::Problem;
use crate::expression::{Cursor, Expr, ExprKind, Kind, RESERVED, Sign, Token, Type, Unary};
use crate::fault_loop::FaultLoop;
use crate::name::{Name, nearest};
use std::ops::Range;

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
    Repeat(RepeatKind, Option<Expr>),
    If(Option<Expr>),
    Play,
    Guard(Expr),
    Sequence(Name, Vec<(Name, Type)>),
    /// One that could not be read.
    Broken,
}

type Read<T> = Result<T, Problem>;

const WORDS: [&str; 23] = [
    "let", "hold", "ramp", "fault", "playback", "play", "wait", "off", "repeat", "for", "if",
    "else", "guard", "then", "ask", "tell", "read", "set", "expect", "capture", "stop", "fail",
    "call",
];

/// The block that a line begins, going by its first word alone.
pub(super) fn opened_by(text: &str, line: &[Token]) -> Option<Opening> {
    let first = line.first()?;
    match &text[first.span.clone()] {
        "for" | "repeat" | "play" | "sequence" => Some(Opening::Broken),
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
                let ending = ending(c)?;
                Line::Whole(Statement::Guard(Guard { condition, body: Vec::new(), ending }))
            } else {
                Line::Open(Opening::Guard(condition))
            }
        }
        "then" => Line::ThenEnding(ending(c)?),
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
fn new_name(c: &mut Cursor<'_>, wanted: &str) -> Read<(Name, Range<usize>)> {
    if let Some(word) = c.word()
        && RESERVED.contains(&word)
    {
        return Err(Problem::new(c.here(), format!("`{word}` is a word of the language"))
            .help("choose another name, or put it in backquotes"));
    }
    c.name(wanted)
}

/// `ia = 5 A @ -120 deg, v = balanced(57.7 V)`, or `off`.
fn output(c: &mut Cursor<'_>) -> Read<Output> {
    if c.eat_word("off") {
        let target = Name::from("off");
        let value = Expr { kind: ExprKind::Name("true".into()), span: c.here() };
        let settings = vec![Setting { target, at: Span(c.here()), value }];
        return Ok(Output { fault: None, settings });
    }
    let fault = if c.eat_word("fault") { Some(fault_loop(c)?) } else { loop_ahead(c)? };
    let mut settings = Vec::new();
    // `fault A-N with i = …` reads as one.
    if fault.is_some() && !c.eat_word("with") {
        return Ok(Output { fault, settings });
    }
    loop {
        let (target, at) = c.path("an output, such as `ia` or `v`")?;
        c.expect(Sign::Assign, &format!("after `{target}`"))?;
        settings.push(Setting { target, at: Span(at), value: c.value()? });
        // A comma may also stand before `at most`.
        let more = c.at_sign(Sign::Comma) && c.word_at(1) != Some("at");
        if !more {
            return Ok(Output { fault, settings });
        }
        c.refuse_decimal_comma()?;
        c.take();
    }
}

/// A loop such as `A-N`, if one stands here.
fn loop_ahead(c: &mut Cursor<'_>) -> Read<Option<FaultLoop>> {
    let mut ahead = c.clone();
    match (ahead.word(), {
        ahead.take();
        ahead.at_sign(Sign::Minus)
    }) {
        (Some("A" | "B" | "C" | "N"), true) => fault_loop(c).map(Some),
        _ => Ok(None),
    }
}

fn fault_loop(c: &mut Cursor<'_>) -> Read<FaultLoop> {
    let start = c.here().start;
    let mut text = String::new();
    let mut end = start;
    while let Some(word) = c.word() {
        text.push_str(word);
        end = c.here().end;
        c.take();
        if !c.eat(Sign::Minus) {
            break;
        }
        text.push('-');
    }
    FaultLoop::parse(&text).ok_or_else(|| {
        let all: Vec<&str> = FaultLoop::ALL.iter().map(|l| l.name()).collect();
        Problem::new(start..end.max(start), format!("`{text}` is no fault loop"))
            .help(format!("loops are {}", all.join(", ")))
    })
}

/// The clauses that may end any output step, in any order.
fn clause(c: &mut Cursor<'_>, until: &mut Until) -> Read<bool> {
    let here = c.here();
    if c.at_sign(Sign::Comma) && c.word_at(1) == Some("at") {
        c.take();
    }
    let Some(word) = c.word() else { return Ok(false) };
    let twice = |given: bool| -> Read<()> {
        if given {
            return Err(Problem::new(here.clone(), format!("`{word}` is there twice")));
        }
        Ok(())
    };
    match word {
        "for" => {
            twice(until.time.is_some())?;
            c.take();
            until.time = Some(c.value()?);
        }
        "until" => {
            twice(until.condition.is_some())?;
            c.take();
            until.condition = Some(c.expression()?);
        }
        "at" if c.word_at(1) == Some("most") => {
            twice(until.most.is_some())?;
            c.take();
            c.take();
            until.most = Some(c.value()?);
        }
        "else" => {
            twice(until.otherwise.is_some())?;
            c.take();
            until.otherwise = Some(ending(c)?);
        }
        "then" => {
            twice(until.off.is_some())?;
            c.take();
            c.expect_word("off", "after `then`")?;
            until.off = Some(OffWhen::Now);
            if c.word() == Some("at") && c.word_at(1) == Some("zero") {
                c.take();
                c.take();
                until.off = Some(OffWhen::Zero);
            }
        }
        "as" => {
            twice(until.label.is_some())?;
            c.take();
            // A stage called `fault` is one: `inception` is its begin.
            let is_fault = c.word() == Some("fault");
            let label = if is_fault { c.name("a label")? } else { new_name(c, "a label")? };
            until.label = Some(label.0);
        }
        _ => return Ok(false),
    }
    Ok(true)
}

fn ending(c: &mut Cursor<'_>) -> Read<Ending> {
    if c.eat_word("stop") {
        return Ok(Ending::Stop);
    }
    if c.eat_word("fail") {
        return Ok(Ending::Fail(c.expression()?));
    }
    if c.eat_word("go") {
        c.expect_word("on", "after `go`")?;
        return Ok(Ending::GoOn);
    }
    Err(c.unexpected("`stop`, `fail \"why\"` or `go on`"))
}

fn clauses(c: &mut Cursor<'_>) -> Read<Until> {
    let mut until = Until::default();
    while clause(c, &mut until)? {}
    Ok(until)
}

fn hold(c: &mut Cursor<'_>) -> Read<Hold> {
    // `hold for 2 s`: as it is.
    let bare = matches!(c.word(), Some("for" | "until"));
    let output = if bare { Output::default() } else { output(c)? };
    Ok(Hold { output, until: clauses(c)? })
}

fn ramp(c: &mut Cursor<'_>) -> Read<Ramp> {
    let (target, at) = c.path("what is ramped, such as `ia` or `f`")?;
    c.expect_word("from", "and the first value")?;
    let from = c.value()?;
    c.expect_word("to", "and the last value")?;
    let to = c.value()?;
    let (mut pace, mut with, mut until) = (None, None, Until::default());
    loop {
        match c.word() {
            Some("by") => {
                c.take();
                let by = c.value()?;
                c.expect_word("every", "and the time on each level")?;
                pace = Some(Pace::Stairs { by, every: c.value()?, resting: None });
            }
            Some("at") if c.word_at(1) != Some("most") => {
                c.take();
                pace = Some(Pace::Rate(c.value()?));
            }
            Some("over") => {
                c.take();
                pace = Some(Pace::Over(c.value()?));
            }
            Some("resting") => {
                let here = c.here();
                c.take();
                let rest = output(c)?;
                c.expect_word("for", "and how long it rests")?;
                let time = c.value()?;
                match &mut pace {
                    Some(Pace::Stairs { resting, .. }) => *resting = Some((rest, time)),
                    _ => {
                        return Err(Problem::new(
                            here,
                            "only a ramp in steps can rest between them",
                        )
                        .help("write `by … every …` before `resting`"));
                    }
                }
            }
            Some("with") => {
                c.take();
                with = Some(output(c)?);
            }
            _ if clause(c, &mut until)? => {}
            _ => break,
        }
    }
    let Some(pace) = pace else {
        return Err(c.unexpected("how it moves: `by … every …`, `at …` or `over …`"));
    };
    Ok(Ramp { target, at: Span(at), from, to, pace, with, until })
}

fn fault(c: &mut Cursor<'_>) -> Read<Fault> {
    let fault = loop_ahead(c)?;
    let mut step = Fault {
        output: Output { fault, settings: Vec::new() },
        before: None,
        afterwards: None,
        inception: None,
        offset: None,
        until: Until::default(),
    };
    loop {
        match c.word() {
            Some("with") => {
                c.take();
                step.output.settings = output(c)?.settings;
            }
            Some("after") => {
                c.take();
                c.eat_word("prefault");
                let before = output(c)?;
                c.expect_word("for", "and how long")?;
                step.before = Some((before, c.value()?));
            }
            Some("then") if c.word_at(1) != Some("off") => {
                c.take();
                c.eat_word("postfault");
                let afterwards = output(c)?;
                c.expect_word("for", "and how long")?;
                step.afterwards = Some((afterwards, c.value()?));
            }
            Some("inception") => {
                c.take();
                let random = c.eat_word("random");
                step.inception = Some(if random { None } else { Some(c.value()?) });
            }
            Some("offset") => {
                c.take();
                step.offset = Some(c.value()?);
            }
            _ if clause(c, &mut step.until)? => {}
            _ => break,
        }
    }
    Ok(step)
}

fn quoted(c: &mut Cursor<'_>, wanted: &str) -> Read<(String, Range<usize>)> {
    let span = c.here();
    match c.peek().map(|t| t.kind) {
        Some(Kind::Text) => {
            let text = c.take().map(|t| c.slice(t)).unwrap_or_default();
            Ok((text[1..text.len() - 1].to_owned(), span))
        }
        _ => Err(c.unexpected(wanted)),
    }
}

fn playback(c: &mut Cursor<'_>) -> Read<Playback> {
    let (file, at) = quoted(c, "a file's name in quotes")?;
    c.expect_word("with", "and the channels, as in `with ia = \"IL1\"`")?;
    let mut map = Vec::new();
    loop {
        let (channel, _) = c.name("an output, such as `ia`")?;
        c.expect(Sign::Assign, "after the channel")?;
        let (recorded, _) = quoted(c, "a recorded channel's name in quotes")?;
        let factor = if c.eat(Sign::Times) { Some(c.term()?) } else { None };
        map.push((channel, recorded, factor));
        if !(c.at_sign(Sign::Comma) && c.word_at(1) != Some("at")) {
            break;
        }
        c.take();
    }
    let mut step = Playback {
        file,
        at: Span(at),
        map,
        part: (None, None),
        times: None,
        until: Until::default(),
    };
    loop {
        match c.word() {
            Some("from") => {
                c.take();
                step.part.0 = Some(c.value()?);
            }
            Some("to") => {
                c.take();
                step.part.1 = Some(c.value()?);
            }
            Some("repeat") => {
                c.take();
                step.times = Some(c.value()?);
                c.expect_word("times", "after the count")?;
            }
            _ if clause(c, &mut step.until)? => {}
            _ => break,
        }
    }
    Ok(step)
}

fn wait(c: &mut Cursor<'_>) -> Read<Wait> {
    if matches!(c.word(), Some("for" | "until")) {
        return Ok(Wait { until: clauses(c)? });
    }
    let time = c.value()?;
    let mut until = clauses(c)?;
    until.time = Some(time);
    Ok(Wait { until })
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
    let mut most = None;
    if c.word() == Some("at") {
        c.take();
        c.expect_word("most", "after `at`")?;
        most = Some(c.value()?);
        c.expect_word("times", "after the count")?;
    }
    Ok(Line::Open(Opening::Repeat(kind, most)))
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
        return Ok(Ask { text: c.expression()?, wanted: AskWanted::Choice(name, choices) });
    }
    c.expect(Sign::Colon, "and the kind of answer, or `from` and the choices")?;
    let kind = declared_type(c)?;
    let text = c.expression()?;
    let default = if c.eat_word("default") { Some(c.value()?) } else { None };
    Ok(Ask { text, wanted: AskWanted::Value(name, kind, default) })
}

fn sequence(c: &mut Cursor<'_>) -> Read<Line> {
    let (name, _) = new_name(c, "a name for the sequence")?;
    let mut parameters = Vec::new();
    c.expect(Sign::Open, "and its parameters, if only `()`")?;
    while !c.eat(Sign::Close) {
        let (parameter, _) = new_name(c, "a parameter")?;
        c.expect(Sign::Colon, "and the parameter's kind, as in `level: current`")?;
        parameters.push((parameter, declared_type(c)?));
        if !c.eat(Sign::Comma) {
            c.expect(Sign::Close, "to close the bracket")?;
            break;
        }
    }
    Ok(Line::Open(Opening::Sequence(name, parameters)))
}

fn expect(c: &mut Cursor<'_>) -> Read<Expect> {
    let here = c.here();
    // `no trip` is how people say `not trip`.
    let what = if c.eat_word("no") {
        let contact = c.value()?;
        let span = here.start..contact.span.end;
        let kind = ExprKind::Unary(Unary::Not, Box::new(contact));
        Requirement::Holds(Expr { kind, span })
    } else {
        requirement(c)?
    };
    let label = if c.eat_word("as") { Some(c.expression()?) } else { None };
    Ok(Expect { what, label })
}

fn requirement(c: &mut Cursor<'_>) -> Read<Requirement> {
    let value = c.expression()?;
    match c.word() {
        Some("is") => {
            c.take();
            let expected = c.value()?;
            c.expect_word("within", "and the tolerance")?;
            Ok(Requirement::Is(value, expected, within(c)?))
        }
        Some("between") => {
            c.take();
            let low = c.value()?;
            c.expect_word("and", "and the upper limit")?;
            Ok(Requirement::Between(value, low, c.value()?))
        }
        Some("within") => {
            c.take();
            let band = c.here();
            c.expect_word("band", "after `within`, or `is … within …`")?;
            c.expect(Sign::Open, "and an element or a contact")?;
            let of = element_name(c)?;
            let multiple = if c.eat(Sign::Comma) { Some(c.value()?) } else { None };
            c.expect(Sign::Close, "to close the bracket")?;
            Ok(Requirement::Band(value, of, multiple, Span(band)))
        }
        _ => Ok(Requirement::Holds(value)),
    }
}

/// An element's id, which may look like a quantity (`51V`).
fn element_name(c: &mut Cursor<'_>) -> Read<Name> {
    match c.peek() {
        Some(token) if matches!(token.kind, Kind::Quantity(_) | Kind::Number(_)) => {
            let name = Name::from(c.slice(token));
            c.take();
            Ok(name)
        }
        _ => Ok(c.path("an element, such as `51P`")?.0),
    }
}

fn within(c: &mut Cursor<'_>) -> Read<Within> {
    if c.word() == Some("tolerance") {
        let at = c.here();
        c.take();
        c.expect(Sign::Open, "and an element")?;
        let element = element_name(c)?;
        c.expect(Sign::Close, "to close the bracket")?;
        return Ok(Within::Of(element, Span(at)));
    }
    if c.eat(Sign::Plus) {
        let above = side(c)?;
        c.expect(Sign::Over, "and the lower side, as in `+5 % / -0 %`")?;
        c.expect(Sign::Minus, "before the lower side")?;
        return Ok(Within::Sides(above, side(c)?));
    }
    Ok(Within::Both(side(c)?))
}

fn side(c: &mut Cursor<'_>) -> Read<Side> {
    // A quotient would swallow the `/` between two sides.
    let first = c.factor()?;
    if c.eat_word("or") {
        return Ok(Side::Larger(first, c.factor()?));
    }
    if c.eat(Sign::Plus) {
        return Ok(Side::Sum(first, c.factor()?));
    }
    Ok(Side::One(first))
}
