//! Which lines of a sequence were done in its present attempt.

use super::super::code::Op;
use super::super::context::Context;
use std::collections::HashSet;

/// The lines that it came to, and those at which something could not be done.
#[derive(Clone, Debug, Default)]
pub(super) struct Steps {
    came_to: HashSet<usize>,
    failed: HashSet<usize>,
}

impl Steps {
    /// Notes the lines of an instruction that is done now.
    pub(super) fn came_to(&mut self, op: &Op, context: &Context) {
        let mut span = |start: usize, end: usize| {
            let lines = context.line(start)..=context.line(end.max(start + 1) - 1);
            self.came_to.extend(lines);
        };
        match op {
            Op::Do(step) | Op::DoThenOff(step) | Op::LoopBegin { step, .. } => {
                span(step.span.0.start, step.span.0.end);
            }
            Op::Play(steps, _) => {
                steps.iter().for_each(|step| span(step.span.0.start, step.span.0.end));
            }
            Op::Branch { condition, .. } => span(condition.span.start, condition.span.end),
            _ => {}
        }
    }

    /// Notes a line at which something could not be done.
    pub(super) fn failed(&mut self, line: usize) {
        self.failed.insert(line);
    }

    /// The lines that it came to and at which nothing went wrong.
    pub(super) fn done(&self) -> impl Iterator<Item = usize> {
        self.came_to.difference(&self.failed).copied()
    }
}
