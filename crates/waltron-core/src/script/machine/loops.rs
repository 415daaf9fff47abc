//! Loops of a running sequence.

use super::super::code::LoopKind;
use super::super::values::range;
use super::*;

impl Sequence {
    pub(super) fn begin_loop(
        &mut self,
        kind: &LoopKind,
        most: Option<&Expr>,
        step: &Arc<Step>,
    ) -> Result<(), Problem> {
        let number = |expr: &Expr, scene: &Scene| needed(expr, Dimension::NUMBER, scene);
        let state = match kind {
            LoopKind::List(name, list) => match evaluate(list, &self.scene)? {
                Value::List(items) => LoopState::Values(name.clone(), items.into()),
                other => LoopState::Values(name.clone(), VecDeque::from([other])),
            },
            LoopKind::Range(name, from, to, by) => {
                LoopState::Values(name.clone(), range(from, to, by, &self.scene)?.into())
            }
            LoopKind::Times(n) => LoopState::Times(number(n, &self.scene)?.max(0.0).round() as u64),
            LoopKind::For(t) => LoopState::For(self.scene.elapsed + time(t, &self.scene)?),
            LoopKind::While(c) => LoopState::While(c.clone()),
            LoopKind::Until(c) => LoopState::Until(c.clone()),
        };
        let most = match most {
            Some(expr) => Some(number(expr, &self.scene)?.max(0.0).round() as u64),
            None => None,
        };
        self.loops.push(Loop { state, rounds: 0, most, step: Arc::clone(step) });
        Ok(())
    }

    pub(super) fn next_round(&mut self, done: usize) -> Result<(), Problem> {
        let Some(mut current) = self.loops.pop() else {
            self.pc = done;
            return Ok(());
        };
        let first = current.rounds == 0;
        let preview = self.scene.preview;
        // An unknown condition is gone through once.
        let go = match &mut current.state {
            LoopState::Values(name, values) => match values.pop_front() {
                Some(value) => {
                    self.scene.let_value(name.as_str(), value);
                    true
                }
                None => false,
            },
            LoopState::Times(n) => current.rounds < *n,
            LoopState::For(until) => {
                self.scene.elapsed < *until && !(preview && current.rounds > 1000)
            }
            LoopState::While(c) => self.truth(c)?.unwrap_or(first),
            LoopState::Until(c) => first || !self.truth(c)?.unwrap_or(true),
        };
        if go && current.most.is_some_and(|most| current.rounds >= most) {
            let line = self.scene.context.line(current.step.span.0.start);
            let rounds = current.rounds;
            self.end_with(
                line,
                Verdict::Inconclusive,
                format!("line {line}: not over after {rounds} rounds"),
            );
            return Ok(());
        }
        if go {
            current.rounds += 1;
            self.loops.push(current);
        } else {
            self.pc = done;
        }
        Ok(())
    }
}
