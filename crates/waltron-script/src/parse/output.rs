//! Steps that put something out, and the clauses that end them.

use super::super::ast::{
    Ending, Fault, Hold, LoopOf, OffWhen, Output, Pace, Playback, Ramp, Setting, Span, Until, Wait,
};
use super::line::{Read, new_name};
use std::ops::Range;
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{Cursor, Expr, ExprKind, Kind, RESERVED, Sign};
use waltron_core::text::name::Name;

/// `ia = 5 A @ -120 deg, v = balanced(57.7 V)`, or `off`.
pub(super) fn output(c: &mut Cursor<'_>) -> Read<Output> {
    if c.eat_word("off") {
        let target = Name::from("off");
        let value = Expr { kind: ExprKind::Name("true".into()), span: c.here() };
        let settings = vec![Setting { target, at: Span(c.here()), value }];
        return Ok(Output { fault: None, settings });
    }
    let fault = if c.eat_word("fault") {
        match loop_behind_fault(c)? {
            Some(found) => Some(found),
            None => return Err(c.unexpected("a fault loop, such as `A-N`, or the name of one")),
        }
    } else {
        loop_ahead(c)?
    };
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
fn loop_ahead(c: &mut Cursor<'_>) -> Read<Option<LoopOf>> {
    match c.at_loop() {
        true => Ok(Some(LoopOf::This(c.fault_loop()?))),
        false => Ok(None),
    }
}

/// The loop behind `fault`: as it is written, or the name of one.
fn loop_behind_fault(c: &mut Cursor<'_>) -> Read<Option<LoopOf>> {
    let names = |word: &str| !RESERVED.contains(&word) && !matches!(word, "A" | "B" | "C" | "N");
    if c.peek().is_some_and(|t| t.kind == Kind::Quoted) || c.word().is_some_and(names) {
        let (name, span) = c.name("a loop")?;
        return Ok(Some(LoopOf::Named(name, Span(span))));
    }
    match c.word() {
        // What begins like a loop was meant as one.
        Some("A" | "B" | "C" | "N") => Ok(Some(LoopOf::This(c.fault_loop()?))),
        _ => Ok(None),
    }
}

/// Refuses a part of a statement that was given before: the last one would silently hold.
fn once(c: &Cursor<'_>, what: &str, given: bool) -> Read<()> {
    match given {
        true => Err(Problem::new(c.here(), format!("{what} is there twice"))),
        false => Ok(()),
    }
}

/// The clauses that may end any output step, in any order.
pub(super) fn clause(c: &mut Cursor<'_>, until: &mut Until) -> Read<bool> {
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

pub(super) fn clauses(c: &mut Cursor<'_>) -> Read<Until> {
    let mut until = Until::default();
    while clause(c, &mut until)? {}
    Ok(until)
}

pub(super) fn ending(c: &mut Cursor<'_>) -> Read<Ending> {
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

pub(super) fn hold(c: &mut Cursor<'_>) -> Read<Hold> {
    // `hold for 2 s`: as it is.
    let bare = matches!(c.word(), Some("for" | "until"));
    let output = if bare { Output::default() } else { output(c)? };
    Ok(Hold { output, until: clauses(c)? })
}

/// What is said of two ways in which a ramp moves.
const MOVES: &str = "how it moves";

pub(super) fn ramp(c: &mut Cursor<'_>) -> Read<Ramp> {
    let (target, at) = c.path("what is ramped, such as `ia` or `f`")?;
    c.expect_word("from", "and the first value")?;
    let from = c.value()?;
    c.expect_word("to", "and the last value")?;
    let to = c.value()?;
    let (mut pace, mut with, mut until) = (None, None, Until::default());
    loop {
        match c.word() {
            Some("by") => {
                once(c, MOVES, pace.is_some())?;
                c.take();
                let by = c.value()?;
                c.expect_word("every", "and the time on each level")?;
                pace = Some(Pace::Stairs { by, every: c.value()?, resting: None });
            }
            Some("at") if c.word_at(1) != Some("most") => {
                once(c, MOVES, pace.is_some())?;
                c.take();
                pace = Some(Pace::Rate(c.value()?));
            }
            Some("over") => {
                once(c, MOVES, pace.is_some())?;
                c.take();
                pace = Some(Pace::Over(c.value()?));
            }
            Some("resting") => {
                let here = c.here();
                let rests = matches!(pace, Some(Pace::Stairs { resting: Some(_), .. }));
                once(c, "`resting`", rests)?;
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
                once(c, "`with`", with.is_some())?;
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

pub(super) fn fault(c: &mut Cursor<'_>) -> Read<Fault> {
    let fault = loop_behind_fault(c)?;
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
                once(c, "`with`", !step.output.settings.is_empty())?;
                c.take();
                step.output.settings = output(c)?.settings;
            }
            Some("after") => {
                once(c, "what is before the fault", step.before.is_some())?;
                c.take();
                c.eat_word("prefault");
                let before = output(c)?;
                c.expect_word("for", "and how long")?;
                step.before = Some((before, c.value()?));
            }
            Some("then") if c.word_at(1) != Some("off") => {
                once(c, "what is after the fault", step.afterwards.is_some())?;
                c.take();
                c.eat_word("postfault");
                let afterwards = output(c)?;
                c.expect_word("for", "and how long")?;
                step.afterwards = Some((afterwards, c.value()?));
            }
            Some("inception") => {
                once(c, "`inception`", step.inception.is_some())?;
                c.take();
                let random = c.eat_word("random");
                step.inception = Some(if random { None } else { Some(c.value()?) });
            }
            Some("offset") => {
                once(c, "`offset`", step.offset.is_some())?;
                c.take();
                step.offset = Some(c.value()?);
            }
            _ if clause(c, &mut step.until)? => {}
            _ => break,
        }
    }
    Ok(step)
}

pub(super) fn quoted(c: &mut Cursor<'_>, wanted: &str) -> Read<(String, Range<usize>)> {
    let span = c.here();
    match c.peek().map(|t| t.kind) {
        Some(Kind::Text) => {
            let text = c.take().map(|t| c.slice(t)).unwrap_or_default();
            Ok((text[1..text.len() - 1].to_owned(), span))
        }
        _ => Err(c.unexpected(wanted)),
    }
}

pub(super) fn playback(c: &mut Cursor<'_>) -> Read<Playback> {
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
                once(c, "`from`", step.part.0.is_some())?;
                c.take();
                step.part.0 = Some(c.value()?);
            }
            Some("to") => {
                once(c, "`to`", step.part.1.is_some())?;
                c.take();
                step.part.1 = Some(c.value()?);
            }
            Some("repeat") => {
                once(c, "`repeat`", step.times.is_some())?;
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

pub(super) fn wait(c: &mut Cursor<'_>) -> Read<Wait> {
    if matches!(c.word(), Some("for" | "until")) {
        return Ok(Wait { until: clauses(c)? });
    }
    let time = c.value()?;
    let mut until = Until { time: Some(time), ..Until::default() };
    while clause(c, &mut until)? {}
    Ok(Wait { until })
}
