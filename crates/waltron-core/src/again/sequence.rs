//! A sequence played once more, with a record in the place of rig and attendant.

use crate::grading::Finding;
use crate::procedure::{Action, Answer, Procedure};
use crate::program::Program;
use crate::record::Event;
use crate::script::Loaded;
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
pub(super) fn replay(loaded: &Loaded, tape: &[Event]) -> Played {
    let mut sequence = loaded.procedure();
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
            Action::Tell(_) | Action::Set(..) | Action::Off => {}
            Action::Inject(program) => match next_observed(&mut tape) {
                Some((put_out, seen)) if is_same(put_out, &program) => {
                    injected += 1;
                    all.extend(sequence.observe(seen));
                }
                Some(_) => break DIFFERS.to_owned(),
                None => break "the record ends before it".to_owned(),
            },
            Action::Ask(_) => match next_answer(&mut tape) {
                Some(Answer::Skip(reason)) => break format!("skipped: {reason}"),
                Some(Answer::Stop) | None => break "the record ends before it".to_owned(),
                Some(answer) => sequence.answer(answer),
            },
            Action::Send { .. } | Action::Execute { .. } => match next_answer(&mut tape) {
                Some(answer) => sequence.answer(answer),
                None => break "the record ends before it".to_owned(),
            },
        }
    };
    Played { found: all, ended }
}

fn next_observed<'t>(
    tape: &mut std::slice::Iter<'t, Event>,
) -> Option<(&'t Program, &'t crate::observation::Observation)> {
    tape.find_map(|event| match event {
        Event::Observed { program, observation, .. } => Some((&**program, observation)),
        _ => None,
    })
}

fn next_answer(tape: &mut std::slice::Iter<'_, Event>) -> Option<Answer> {
    match tape.find(|event| !matches!(event, Event::Graded(_)))? {
        Event::Answered { answer }
        | Event::Sent { answer, .. }
        | Event::Executed { answer, .. } => Some(answer.clone()),
        // Something was put out where something was asked.
        _ => None,
    }
}

/// Whether two programs put the same out and end in the same way, but for the last digit of numbers.
fn is_same(a: &Program, b: &Program) -> bool {
    let bare = |program: &Program| {
        let plain = Program { capture: None, ..program.clone() };
        serde_json::to_value(plain).unwrap_or_default()
    };
    alike(&bare(a), &bare(b))
}

fn alike(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => match (a.as_f64(), b.as_f64()) {
            (Some(a), Some(b)) => (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1e-9),
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
