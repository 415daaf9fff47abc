//! A sequence played once more, with a record in the place of rig and attendant.

use crate::grading::Finding;
use crate::injection::capability::ParameterValue;
use crate::injection::program::Program;
use crate::procedure::{Action, Answer, Procedure, Question};
use crate::record::Event;
use serde_json::Value;
use std::collections::HashMap;

/// What came of it.
pub(super) struct Played {
    /// What it found of its points.
    pub(super) found: Vec<Finding>,
    /// Why it came no further, or that it came to its end.
    pub(super) ended: String,
}

/// Why what follows is not graded.
const DIFFERS: &str = "by these settings something else would be put out";

/// Why what the record does not hold is not graded.
const ENDS: &str = "the record ends before it";

/// How many injections had been put out before each point was graded.
fn courses(tape: &[Event]) -> HashMap<String, usize> {
    let (mut all, mut injected) = (HashMap::new(), 0);
    for event in tape {
        match event {
            Event::Observed { .. } => injected += 1,
            Event::Graded(grade) => {
                all.insert(grade.point.id.clone(), injected);
            }
            _ => {}
        }
    }
    all
}

/// Plays a sequence with what its record holds, as far as it puts out what was put out.
pub(super) fn replay(mut sequence: Box<dyn Procedure>, tape: &[Event]) -> Played {
    let courses = courses(tape);
    let mut injected = 0;
    let mut all: Vec<Finding> = Vec::new();
    let mut tape = tape.iter();
    let ended = loop {
        match sequence.next() {
            Action::Done => break "the sequence does not come to this point".to_owned(),
            // On another course than the record's, what was seen is not what is asked for.
            Action::Conclude(found)
                if !found.iter().all(|f| courses.get(&f.point.id) == Some(&injected)) =>
            {
                break DIFFERS.to_owned();
            }
            Action::Conclude(found) => all.extend(found),
            Action::Tell(_) | Action::Off | Action::Earth(_) => {}
            Action::Set(parameter, value) => match next(&mut tape) {
                Some(Event::Set { parameter: name, value: was })
                    if *name == parameter && is_near(*was, value) => {}
                Some(_) => break DIFFERS.to_owned(),
                None => break ENDS.to_owned(),
            },
            Action::Inject(program) => match next(&mut tape) {
                Some(Event::Observed { program: put_out, observation, .. })
                    if is_same(put_out, &program) =>
                {
                    injected += 1;
                    all.extend(sequence.observe(observation));
                }
                Some(_) => break DIFFERS.to_owned(),
                None => break ENDS.to_owned(),
            },
            Action::Ask(question) => match answered(&mut tape, &question) {
                Some(Answer::Skip(reason)) => break format!("skipped: {reason}"),
                Some(Answer::Stop) => break ENDS.to_owned(),
                None => break "by these settings something else would be asked".to_owned(),
                Some(answer) => sequence.answer(answer),
            },
            Action::Send { to, text, .. } => match next(&mut tape) {
                Some(Event::Sent { to: whom, text: what, answer })
                    if *whom == to && *what == text =>
                {
                    sequence.answer(answer.clone());
                }
                Some(_) => break DIFFERS.to_owned(),
                None => break ENDS.to_owned(),
            },
            Action::Execute { program, args, .. } => match next(&mut tape) {
                Some(Event::Executed { command, answer })
                    if command.iter().eq(std::iter::once(&program).chain(&args)) =>
                {
                    sequence.answer(answer.clone());
                }
                Some(_) => break DIFFERS.to_owned(),
                None => break ENDS.to_owned(),
            },
        }
    };
    Played { found: all, ended }
}

/// What happened next. Questions stand for themselves only where they are asked, see [`answered`].
fn next<'t>(tape: &mut std::slice::Iter<'t, Event>) -> Option<&'t Event> {
    tape.find(|event| !is_question(event))
}

/// The answer to a question, which may stand behind others: those of the run itself, before it put
/// anything out.
fn answered(tape: &mut std::slice::Iter<'_, Event>, question: &Question) -> Option<Answer> {
    let mut ahead = tape.clone();
    let asked = |event: &Event| matches!(event, Event::Asked(asked) if asked.text == question.text);
    ahead.find(|event| !is_question(event) || asked(event)).filter(|event| asked(event))?;
    let Some(Event::Answered { answer }) = ahead.next() else { return None };
    *tape = ahead;
    Some(answer.clone())
}

/// Whether an event belongs to questions, or tells a grade only.
fn is_question(event: &Event) -> bool {
    matches!(event, Event::Asked(_) | Event::Answered { .. } | Event::Graded(_))
}

fn is_near(a: ParameterValue, b: ParameterValue) -> bool {
    match (a, b) {
        (ParameterValue::Si(a), ParameterValue::Si(b)) => near(a, b),
        (a, b) => a == b,
    }
}

/// The same but for the last digit.
fn near(a: f64, b: f64) -> bool {
    (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1e-9)
}

/// Whether two programs put the same out and end in the same way, but for the last digit of numbers.
fn is_same(a: &Program, b: &Program) -> bool {
    let bare = |program: &Program| {
        let plain = Program { capture: None, captures: Vec::new(), ..program.clone() };
        plain.to_value()
    };
    alike(&bare(a), &bare(b))
}

fn alike(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => match (a.as_f64(), b.as_f64()) {
            (Some(a), Some(b)) => near(a, b),
            _ => a == b,
        },
        (Value::Array(a), Value::Array(b)) => {
            a.len() == b.len() && a.iter().zip(b).all(|(a, b)| alike(a, b))
        }
        (Value::Object(a), Value::Object(b)) => {
            a.len() == b.len() && a.iter().all(|(k, v)| b.get(k).is_some_and(|w| alike(v, w)))
        }
        (a, b) => a == b,
    }
}
