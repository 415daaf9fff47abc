//! Loops of a running sequence.

use super::super::code::LoopKind;
use super::super::scene::HAIR_S;
use super::super::values::range;
use super::*;

/// Most rounds of a loop that does not say how many: beyond it, it is taken to be caught.
const MOST_ROUNDS: u64 = 100_000;

/// Most rounds one after another in which no time passes.
const MOST_IDLE_ROUNDS: u64 = 1000;

impl Sequence {
    pub(super) fn begin_loop(
        &mut self,
        kind: &LoopKind,
        most: Option<&Expr>,
        otherwise: Option<&Ending>,
        step: &Arc<Step>,
    ) -> Result<(), Problem> {
        let number = |expr: &Expr, scene: &Scene| needed(expr, Dimension::NUMBER, scene);
        let state = match kind {
            LoopKind::List(name, list) => match evaluate(list, &self.scene)? {
                Value::List(items) => LoopState::Values(name.clone(), items.into()),
                Value::Missing(missing) => return Err(not_there(list, &missing)),
                other => LoopState::Values(name.clone(), VecDeque::from([other])),
            },
            LoopKind::Range(name, from, to, by) => {
                LoopState::Values(name.clone(), range(from, to, by, &self.scene)?.into())
            }
            LoopKind::Times(n) => LoopState::Times(number(n, &self.scene)?.max(0.0).round() as u64),
            LoopKind::For(t) => LoopState::For(self.scene.elapsed.1 + time(t, &self.scene)?.si()),
            LoopKind::While(c) => LoopState::While(c.clone()),
            LoopKind::Until(c) => LoopState::Until(c.clone(), false),
        };
        let most = match most {
            Some(expr) => number(expr, &self.scene)?.max(0.0).round() as u64,
            None => MOST_ROUNDS,
        };
        let counted = matches!(state, LoopState::Values(..) | LoopState::Times(_));
        self.loops.push(Loop {
            state,
            rounds: 0,
            most: if counted { u64::MAX } else { most },
            otherwise: otherwise.cloned().unwrap_or(Ending::GoOn),
            step: Arc::clone(step),
            begun: self.scene.elapsed.1,
            idle: 0,
        });
        Ok(())
    }

    pub(super) fn next_round(&mut self, done: usize) -> Result<(), Problem> {
        let Some(mut current) = self.loops.pop() else {
            self.pc = done;
            return Ok(());
        };
        let first = current.rounds == 0;
        let mut value = None;
        let go = match &mut current.state {
            LoopState::Values(_, values) => {
                value = values.pop_front();
                value.is_some()
            }
            LoopState::Times(n) => current.rounds < *n,
            LoopState::For(until) => self.scene.elapsed.1 < *until - HAIR_S,
            LoopState::While(c) => {
                let holds = self.truth(c);
                match holds {
                    Ok(holds) => holds,
                    Err(problem) => {
                        self.pc = done;
                        return Err(problem);
                    }
                }
            }
            LoopState::Until(_, over) => first || !*over,
        };
        if go && current.rounds >= current.most {
            let line = self.scene.context.line(current.step.span.0.start);
            let why = format!("line {line}: not over after {} rounds", current.rounds);
            self.pc = done;
            self.ready.push_back(Action::Tell(why.clone()));
            let step = Arc::clone(&current.step);
            return self.finish(&current.otherwise.clone(), &step, &why);
        }
        if !go {
            self.pc = done;
            return Ok(());
        }
        if self.scene.elapsed.1 > current.begun {
            current.idle = 0;
        }
        current.idle += 1;
        current.begun = self.scene.elapsed.1;
        let timed = matches!(current.state, LoopState::For(_));
        if timed && current.idle > MOST_IDLE_ROUNDS {
            let line = self.scene.context.line(current.step.span.0.start);
            let why = format!("line {line}: no time passes in this loop, it would never end");
            self.end_with(line, Verdict::Inconclusive, why);
            return Ok(());
        }
        current.rounds += 1;
        // A `for` loop's value is a name of its round.
        let is_round = !matches!(current.state, LoopState::Values(..));
        self.scene.names.enter(is_round);
        if let (LoopState::Values(name, _), Some(value)) = (&current.state, value) {
            self.scene.names.define(name.as_str(), value);
        }
        self.loops.push(current);
        Ok(())
    }

    /// The end of a round: what ends the loop is looked at before its names are gone.
    pub(super) fn end_round(&mut self, test: usize, done: usize) -> Result<(), Problem> {
        let condition = match self.loops.last().map(|l| &l.state) {
            Some(LoopState::Until(condition, _)) => Some(condition.clone()),
            _ => None,
        };
        let holds = condition.map(|c| self.truth(&c));
        self.scene.names.leave();
        self.pc = test;
        match holds {
            Some(Ok(holds)) => {
                if let Some(LoopState::Until(_, over)) = self.loops.last_mut().map(|l| &mut l.state)
                {
                    *over = holds;
                }
            }
            Some(Err(problem)) => {
                self.loops.pop();
                self.pc = done;
                return Err(problem);
            }
            None => {}
        }
        Ok(())
    }
}
