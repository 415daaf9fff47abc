//! Statements laid out as a list of instructions with jumps, so that a sequence can stop at any
//! injection and go on when its outcome is known.

use super::ast::{
    Ending, For, ForOver, Guard, OffWhen, Repeat, RepeatKind, Script, Statement, Step,
};
use std::collections::HashMap;
use std::sync::Arc;
use waltron_core::text::expression::Expr;
use waltron_core::text::name::Name;

/// One instruction.
#[derive(Clone, Debug)]
pub(super) enum Op {
    /// A statement without blocks.
    Do(Arc<Step>),
    /// An output step that switches off at its end, since `off` or the script's end follows.
    DoThenOff(Arc<Step>),
    /// The steps of a `play` block.
    Play(Arc<Vec<Step>>, bool),
    /// Goes on at the target unless the condition holds.
    Branch {
        condition: Expr,
        otherwise: usize,
        /// Behind the whole `if`, for a condition that cannot be told.
        end: usize,
    },
    /// Begins a block, whose names are its own.
    Enter,
    /// Ends a block.
    Leave,
    /// Begins a loop.
    LoopBegin {
        kind: Box<LoopKind>,
        most: Option<Expr>,
        /// What happens once it has gone round that often.
        otherwise: Option<Ending>,
        step: Arc<Step>,
        done: usize,
    },
    /// Takes the next round, or goes on at the target.
    LoopNext {
        done: usize,
    },
    /// The end of a round: back to the loop's test.
    LoopAgain {
        test: usize,
        done: usize,
    },
    /// Watches a guard from here on.
    GuardOn {
        guard: Arc<Guard>,
        handler: usize,
    },
    /// Ends the watch of this many guards.
    GuardsOff(usize),
    Jump(usize),
    Call {
        name: Name,
        args: Vec<Expr>,
        target: usize,
    },
    Return,
    Finish(Ending, Arc<Step>),
    /// Begins what is done at the end, however it came.
    Finally,
    Done,
}

/// What a loop runs over.
#[derive(Clone, Debug)]
pub(super) enum LoopKind {
    List(Name, Expr),
    Range(Name, Expr, Expr, Expr),
    Times(Expr),
    For(Expr),
    While(Expr),
    Until(Expr),
}

/// A whole script as instructions.
#[derive(Clone, Debug)]
pub(super) struct Code {
    pub(super) ops: Vec<Op>,
    /// Parameters of each sub-sequence.
    pub(super) sequences: HashMap<Name, Vec<Name>>,
    /// Where what is done at the end begins, where something is.
    pub(super) finally: Option<usize>,
}

pub(super) fn compile(script: &Script) -> Code {
    let mut c = Compiler { ops: Vec::new(), calls: Vec::new() };
    c.block(&script.body, true);
    let finally = (!script.finally.is_empty()).then_some(c.ops.len());
    if finally.is_some() {
        c.ops.push(Op::Finally);
        c.block(&script.finally, true);
    }
    c.ops.push(Op::Done);
    let mut starts = HashMap::new();
    let mut sequences = HashMap::new();
    for sequence in &script.sequences {
        starts.insert(sequence.name.clone(), c.ops.len());
        sequences.insert(
            sequence.name.clone(),
            sequence.parameters.iter().map(|(n, _)| n.clone()).collect(),
        );
        c.block(&sequence.body, false);
        c.ops.push(Op::Return);
    }
    for (at, name) in std::mem::take(&mut c.calls) {
        if let (Some(start), Some(Op::Call { target, .. })) = (starts.get(&name), c.ops.get_mut(at))
        {
            *target = *start;
        }
    }
    Code { ops: c.ops, sequences, finally }
}

struct Compiler {
    ops: Vec<Op>,
    calls: Vec<(usize, Name)>,
}

impl Compiler {
    fn push(&mut self, op: Op) -> usize {
        self.ops.push(op);
        self.ops.len() - 1
    }

    /// `last`: nothing comes after this block.
    fn block(&mut self, steps: &[Step], last: bool) {
        let mut guards = 0;
        for (index, step) in steps.iter().enumerate() {
            let next = steps.get(index + 1);
            let then_off = next.map_or(last, |n| matches!(n.what, Statement::Off));
            self.step(step, then_off, last && next.is_none(), &mut guards);
        }
        if guards > 0 {
            self.push(Op::GuardsOff(guards));
        }
    }

    fn step(&mut self, step: &Step, then_off: bool, last: bool, guards: &mut usize) {
        let shared = || Arc::new(step.clone());
        match &step.what {
            Statement::Hold(_) | Statement::Ramp(_) | Statement::Playback(_) if then_off => {
                self.push(Op::DoThenOff(shared()));
            }
            Statement::Play(steps) => {
                self.push(Op::Play(Arc::new(steps.clone()), then_off));
            }
            Statement::If(branches) => self.branches(branches, last),
            Statement::For(For { name, over, body }) => {
                let kind = match over {
                    ForOver::List(list) => LoopKind::List(name.clone(), list.clone()),
                    ForOver::Range(a, b, c) => {
                        LoopKind::Range(name.clone(), a.clone(), b.clone(), c.clone())
                    }
                };
                self.repeated(kind, (None, None), body, shared());
            }
            Statement::Repeat(Repeat { kind, most, otherwise, body }) => {
                let kind = match kind {
                    RepeatKind::Times(n) => LoopKind::Times(n.clone()),
                    RepeatKind::For(t) => LoopKind::For(t.clone()),
                    RepeatKind::While(c) => LoopKind::While(c.clone()),
                    RepeatKind::Until(c) => LoopKind::Until(c.clone()),
                };
                self.repeated(kind, (most.clone(), otherwise.clone()), body, shared());
            }
            Statement::Guard(guard) => {
                *guards += 1;
                let on = self.push(Op::GuardOn { guard: Arc::new(guard.clone()), handler: 0 });
                let over = self.push(Op::Jump(0));
                let handler = self.ops.len();
                self.push(Op::Enter);
                self.block(&guard.body, false);
                self.push(Op::Leave);
                self.push(Op::Finish(guard.ending.clone(), shared()));
                let end = self.ops.len();
                self.ops[over] = Op::Jump(end);
                if let Op::GuardOn { handler: h, .. } = &mut self.ops[on] {
                    *h = handler;
                }
            }
            Statement::Stop(ending) => {
                self.push(Op::Finish(ending.clone(), shared()));
            }
            Statement::Call { name, args } => {
                let op = Op::Call { name: name.clone(), args: args.clone(), target: usize::MAX };
                let at = self.push(op);
                self.calls.push((at, name.clone()));
            }
            _ => {
                self.push(Op::Do(shared()));
            }
        }
    }

    fn branches(&mut self, branches: &[(Option<Expr>, Vec<Step>)], last: bool) {
        let (mut ends, mut tests) = (Vec::new(), Vec::new());
        for (condition, body) in branches {
            let test = condition
                .as_ref()
                .map(|c| self.push(Op::Branch { condition: c.clone(), otherwise: 0, end: 0 }));
            self.push(Op::Enter);
            self.block(body, last);
            self.push(Op::Leave);
            ends.push(self.push(Op::Jump(0)));
            let next = self.ops.len();
            if let Some(test) = test
                && let Some(Op::Branch { otherwise, .. }) = self.ops.get_mut(test)
            {
                *otherwise = next;
                tests.push(test);
            }
        }
        let after = self.ops.len();
        for at in ends {
            self.ops[at] = Op::Jump(after);
        }
        for at in tests {
            if let Op::Branch { end, .. } = &mut self.ops[at] {
                *end = after;
            }
        }
    }

    fn repeated(
        &mut self,
        kind: LoopKind,
        (most, otherwise): (Option<Expr>, Option<Ending>),
        body: &[Step],
        step: Arc<Step>,
    ) {
        let begin =
            self.push(Op::LoopBegin { kind: Box::new(kind), most, otherwise, step, done: 0 });
        let test = self.push(Op::LoopNext { done: 0 });
        self.block(body, false);
        let again = self.push(Op::LoopAgain { test, done: 0 });
        let after = self.ops.len();
        for at in [begin, test, again] {
            if let Op::LoopBegin { done, .. } | Op::LoopNext { done } | Op::LoopAgain { done, .. } =
                &mut self.ops[at]
            {
                *done = after;
            }
        }
    }
}

/// The step with its outputs switched off at its end.
pub(super) fn then_off(step: &Step) -> Step {
    let mut step = step.clone();
    let until = match &mut step.what {
        Statement::Hold(hold) => &mut hold.until,
        Statement::Ramp(ramp) => &mut ramp.until,
        Statement::Playback(playback) => &mut playback.until,
        _ => return step,
    };
    until.off.get_or_insert(OffWhen::Now);
    step
}
