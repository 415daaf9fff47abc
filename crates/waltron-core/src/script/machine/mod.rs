//! Running a sequence: a procedure whose next action the script decides.

mod loops;
mod outcome;
mod preview;

use super::ast::{Ask, AskWanted, Ending, Guard, Script, Statement, Step};
use super::build::{Built, build, measure, needed, time};
use super::code::{Code, Op, compile, then_off};
use super::condition::condition;
use super::context::Context;
use super::expectation::{ended, grade};
use super::scene::{Injection, Scene};
use super::values::parameter_value;
use crate::document::Problem;
use crate::expression::{Expr, Type, Value, evaluate, quantity};
use crate::grading::{Grade, PointId, Values, Verdict};
use crate::name::Name;
use crate::observation::{Ended, Observation};
use crate::procedure::{Action, Answer, Planned, PlannedPoint, Procedure, Question, Wanted};
use crate::program::{Condition, Finish};
use crate::quantity::{Dimension, Quantity, Time, seconds};
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

/// A running sequence.
#[derive(Clone, Debug)]
pub struct Sequence {
    code: Arc<Code>,
    scene: Scene,
    pc: usize,
    loops: Vec<Loop>,
    guards: Vec<(Arc<Guard>, usize)>,
    calls: Vec<Frame>,
    /// Actions worked out but not handed out yet.
    ready: VecDeque<Action>,
    waiting: Option<Waiting>,
    capture: Option<Name>,
    shots: u64,
    points: HashMap<String, u32>,
    /// Branches whose condition was not known while previewing.
    undecided: Vec<usize>,
    done: bool,
    /// Why it ended before its last line.
    broken_off: Option<String>,
}

#[derive(Clone, Debug)]
struct Frame {
    back: usize,
    loops: usize,
    guards: usize,
}

#[derive(Clone, Debug)]
struct Loop {
    state: LoopState,
    rounds: u64,
    most: Option<u64>,
    step: Arc<Step>,
}

#[derive(Clone, Debug)]
enum LoopState {
    Values(Name, VecDeque<Value>),
    Times(u64),
    For(Time),
    While(Expr),
    Until(Expr),
}

/// What the last action was for.
#[derive(Clone, Debug)]
enum Waiting {
    Injection {
        built: Box<Built>,
        read: Option<(Name, Expr)>,
    },
    Answer {
        name: Option<Name>,
    },
    /// Of an instrument or a program.
    Reply {
        name: Option<Name>,
        line: usize,
    },
}

/// Most instructions between two actions: a loop that does nothing must not hang.
const MOST_IDLE: u32 = 1_000_000;

/// Most injections that a preview goes through.
const MOST_PREVIEWED: usize = 20_000;

/// Time that a reading takes if it is not said.
const READ_S: f64 = 0.2;

impl Sequence {
    /// A sequence at its beginning.
    pub fn new(script: &Script, context: Arc<Context>) -> Self {
        Self::start(Arc::new(compile(script)), context, false)
    }

    fn start(code: Arc<Code>, context: Arc<Context>, preview: bool) -> Self {
        Self {
            code,
            scene: Scene::new(context, preview),
            pc: 0,
            loops: Vec::new(),
            guards: Vec::new(),
            calls: Vec::new(),
            ready: VecDeque::new(),
            waiting: None,
            capture: None,
            shots: 0,
            points: HashMap::new(),
            undecided: Vec::new(),
            done: false,
            broken_off: None,
        }
    }

    fn point(&mut self, label: &str) -> PointId {
        let test = self.scene.context.test.clone();
        let base = format!("{test}/{label}");
        let count = self.points.entry(base.clone()).or_insert(0);
        *count += 1;
        let id = if *count == 1 { base } else { format!("{base}#{count}") };
        PointId { id, test, element: None, fault_loop: None }
    }

    /// Runs instructions until there is something to do outside.
    fn run(&mut self) -> Action {
        for _ in 0..MOST_IDLE {
            if let Some(action) = self.ready.pop_front() {
                return action;
            }
            if self.done {
                return Action::Done;
            }
            if let Err(problem) = self.step() {
                let line = self.scene.context.line(problem.span.start);
                self.end_with(
                    line,
                    Verdict::Inconclusive,
                    format!("line {line}: {}", problem.message),
                );
            }
        }
        let offset = self.loops.last().map_or(0, |l| l.step.span.0.start);
        let line = self.scene.context.line(offset);
        let why = format!("line {line}: the loop goes on and on without doing anything");
        self.end_with(line, Verdict::Inconclusive, why);
        self.ready.pop_front().unwrap_or(Action::Done)
    }

    /// Ends the sequence with a grade that says why.
    fn end_with(&mut self, line: usize, verdict: Verdict, reason: String) {
        let point = self.point(&format!("line {line}"));
        self.broken_off = Some(format!("the sequence ended at line {line}: {reason}"));
        self.ready.push_back(Action::Off);
        self.ready.push_back(Action::Conclude(vec![ended(point, verdict, reason)]));
        self.done = true;
    }

    fn finish(&mut self, ending: &Ending, step: &Step, because: &str) -> Result<(), Problem> {
        let line = self.scene.context.line(step.span.0.start);
        match ending {
            Ending::GoOn => {}
            Ending::Stop => {
                let reason = if because.is_empty() {
                    format!("the sequence stops at line {line}")
                } else {
                    because.to_owned()
                };
                self.end_with(line, Verdict::Inconclusive, reason);
            }
            Ending::Fail(text) => {
                let why = evaluate(text, &self.scene)?.to_string();
                self.end_with(line, Verdict::Fail, why);
            }
        }
        Ok(())
    }

    fn step(&mut self) -> Result<(), Problem> {
        let code = Arc::clone(&self.code);
        let Some(op) = code.ops.get(self.pc) else {
            self.done = true;
            return Ok(());
        };
        self.pc += 1;
        match op {
            Op::Do(step) => self.statement(step),
            Op::DoThenOff(step) => self.inject(&[&then_off(step)], false),
            Op::Play(steps, off) => {
                let mut all: Vec<Step> = steps.as_ref().clone();
                if let Some(last) = all.last_mut().filter(|_| *off) {
                    *last = then_off(last);
                }
                self.inject(&all.iter().collect::<Vec<_>>(), true)
            }
            Op::Branch { condition, otherwise, id } => {
                match self.truth(condition)? {
                    Some(false) => self.pc = *otherwise,
                    None => self.undecided.push(*id),
                    Some(true) => {}
                }
                Ok(())
            }
            Op::EndBranch { target, id } => {
                // Where the condition was not known, a preview goes through every branch.
                if self.undecided.last() == Some(id) {
                    self.undecided.pop();
                } else {
                    self.pc = *target;
                }
                Ok(())
            }
            Op::LoopBegin { kind, most, step } => self.begin_loop(kind, most.as_ref(), step),
            Op::LoopNext { done } => self.next_round(*done),
            Op::LoopAgain { test } => {
                self.pc = *test;
                Ok(())
            }
            Op::GuardOn { guard, handler } => {
                self.guards.push((Arc::clone(guard), *handler));
                Ok(())
            }
            Op::GuardsOff(count) => {
                let left = self.guards.len().saturating_sub(*count);
                self.guards.truncate(left);
                Ok(())
            }
            Op::Jump(target) => {
                self.pc = *target;
                Ok(())
            }
            Op::Call { name, args, target } => {
                let parameters = code.sequences.get(name).cloned().unwrap_or_default();
                let mut frame = HashMap::new();
                for (parameter, arg) in parameters.iter().zip(args) {
                    frame.insert(parameter.to_string(), evaluate(arg, &self.scene)?);
                }
                let (loops, guards) = (self.loops.len(), self.guards.len());
                self.calls.push(Frame { back: self.pc, loops, guards });
                self.scene.enter(frame);
                self.pc = *target;
                Ok(())
            }
            Op::Return => {
                self.scene.leave();
                if let Some(frame) = self.calls.pop() {
                    self.pc = frame.back;
                    self.loops.truncate(frame.loops);
                    self.guards.truncate(frame.guards);
                } else {
                    self.done = true;
                }
                Ok(())
            }
            Op::Finish(ending, step) => {
                let because = match &step.what {
                    Statement::Guard(guard) => {
                        let text = self.scene.context.text.get(guard.condition.span.clone());
                        format!("the guard `{}` stopped it", text.unwrap_or_default())
                    }
                    _ => String::new(),
                };
                self.finish(ending, step, &because)
            }
            Op::Done => {
                self.ready.push_back(Action::Off);
                self.done = true;
                Ok(())
            }
        }
    }

    /// Whether a condition holds; `None` where that is not known yet.
    fn truth(&self, condition: &Expr) -> Result<Option<bool>, Problem> {
        match evaluate(condition, &self.scene)? {
            Value::Bool(b) => Ok(Some(b)),
            Value::Unknown(Type::Bool | Type::Any) if self.scene.preview => Ok(None),
            Value::Unknown(Type::Bool) => Ok(Some(false)),
            other => {
                let message = format!("this is {}, but a condition is wanted here", other.kind());
                Err(Problem::new(condition.span.clone(), message))
            }
        }
    }

    fn statement(&mut self, step: &Step) -> Result<(), Problem> {
        match &step.what {
            Statement::Let { name, value, .. } => {
                let value = evaluate(value, &self.scene)?;
                self.scene.let_value(name.as_str(), value);
                Ok(())
            }
            Statement::Hold(_)
            | Statement::Ramp(_)
            | Statement::Fault(_)
            | Statement::Playback(_)
            | Statement::Wait(_) => self.inject(&[step], false),
            Statement::Off => {
                self.scene.state = crate::stimulus::Stimulus::off();
                self.ready.push_back(Action::Off);
                Ok(())
            }
            Statement::Tell(text) => {
                let text = evaluate(text, &self.scene)?.to_string();
                self.ready.push_back(Action::Tell(text));
                Ok(())
            }
            Statement::Ask(ask) => self.ask(ask),
            Statement::Set { parameter, value, at } => {
                let value = parameter_value(parameter, value, &at.0, &self.scene)?;
                self.ready.push_back(Action::Set(parameter.clone(), value));
                Ok(())
            }
            Statement::Read { name, value, over } => {
                let length = match over {
                    Some(expr) => time(expr, &self.scene)?,
                    None => seconds(READ_S),
                };
                let probes = self.scene.context.probes(value)?;
                let guards = self.guard_conditions()?;
                let built = measure(length, probes, &guards, &self.scene);
                self.hand_out(built, Some((name.clone(), value.clone())));
                Ok(())
            }
            Statement::Expect(expect) => {
                let label = match &expect.label {
                    Some(label) => evaluate(label, &self.scene)?.to_string(),
                    None => format!("line {}", self.scene.context.line(step.span.0.start)),
                };
                let point = self.point(&label);
                let grade = grade(expect, &self.scene, point)?;
                self.ready.push_back(Action::Conclude(vec![grade]));
                Ok(())
            }
            Statement::Send { text, to, name, .. } => {
                let text = evaluate(text, &self.scene)?.to_string();
                let send = Action::Send { to: to.clone(), text, answers: name.is_some() };
                self.ready.push_back(send);
                self.await_reply(name, step);
                Ok(())
            }
            Statement::Execute { program, args, most, name } => {
                let program = evaluate(program, &self.scene)?.to_string();
                let args = args.iter().map(|a| Ok(evaluate(a, &self.scene)?.to_string()));
                let args = args.collect::<Result<Vec<String>, Problem>>()?;
                let most = time(most, &self.scene)?;
                self.ready.push_back(Action::Execute { program, args, most });
                self.await_reply(name, step);
                Ok(())
            }
            Statement::Capture { name } => {
                self.capture = Some(name.clone());
                Ok(())
            }
            _ => Ok(()),
        }
    }

    fn await_reply(&mut self, name: &Option<Name>, step: &Step) {
        let line = self.scene.context.line(step.span.0.start);
        self.waiting = Some(Waiting::Reply { name: name.clone(), line });
    }

    fn guard_conditions(&self) -> Result<Vec<Condition>, Problem> {
        let conditions = self
            .guards
            .iter()
            .map(|(guard, _)| condition(&guard.condition, &self.scene.context, &self.scene));
        conditions.collect()
    }

    fn inject(&mut self, steps: &[&Step], together: bool) -> Result<(), Problem> {
        let guards = self.guard_conditions()?;
        let built = build(steps, together, &guards, &self.scene, self.shots)?;
        if built.program.segments.is_empty() {
            return Ok(());
        }
        self.hand_out(built, None);
        Ok(())
    }

    fn hand_out(&mut self, mut built: Built, read: Option<(Name, Expr)>) {
        self.shots += 1;
        built.program.capture = self.capture.take();
        self.ready.push_back(Action::Inject(built.program.clone()));
        self.waiting = Some(Waiting::Injection { built: Box::new(built), read });
    }

    fn ask(&mut self, ask: &Ask) -> Result<(), Problem> {
        let text = evaluate(&ask.text, &self.scene)?.to_string();
        let (name, wanted) = match &ask.wanted {
            AskWanted::Confirm => (None, Wanted::Confirmation),
            AskWanted::Choice(name, choices) => {
                let choices = match evaluate(choices, &self.scene)? {
                    Value::List(items) => items.iter().map(ToString::to_string).collect(),
                    other => vec![other.to_string()],
                };
                (Some(name.clone()), Wanted::Choice(choices))
            }
            AskWanted::Value(name, Type::Quantity(dimension), default) => {
                let default_si = match default {
                    Some(expr) => quantity(expr, *dimension, &self.scene)?.map(|q| q.si),
                    None => None,
                };
                let (kind, exponents) = (dimension.to_string(), dimension.exponents());
                (Some(name.clone()), Wanted::Quantity { kind, exponents, default_si })
            }
            AskWanted::Value(name, ..) => (Some(name.clone()), Wanted::Text),
        };
        self.ready.push_back(Action::Ask(Question { text, wanted }));
        self.waiting = Some(Waiting::Answer { name });
        Ok(())
    }
}

impl Procedure for Sequence {
    fn script(&self) -> String {
        self.scene.context.text.to_string()
    }

    fn planned(&self) -> Vec<Planned> {
        self.preview()
    }

    fn next(&mut self) -> Action {
        // What was handed out and not answered is asked for again.
        match &self.waiting {
            Some(Waiting::Injection { built, .. }) if self.ready.is_empty() => {
                Action::Inject(built.program.clone())
            }
            _ => self.run(),
        }
    }

    fn observe(&mut self, observation: &Observation) -> Vec<Grade> {
        if let Some(Waiting::Injection { built, read }) = self.waiting.take() {
            // Nothing was put out: it was refused, and nothing that follows would make sense.
            if observation.segments.is_empty() {
                let line = built.parts.first().map_or(0, |p| self.scene.context.line(p.span.start));
                let point = self.point(&format!("line {line}"));
                self.ready.clear();
                self.ready.push_back(Action::Off);
                self.done = true;
                self.broken_off = Some(format!("line {line} was not put out"));
                return vec![ended(point, Verdict::NotTested, "it was not put out".to_owned())];
            }
            if let Err(problem) = self.take(&built, read, Some(observation)) {
                let line = self.scene.context.line(problem.span.start);
                self.end_with(
                    line,
                    Verdict::Inconclusive,
                    format!("line {line}: {}", problem.message),
                );
            }
        }
        Vec::new()
    }

    fn injection(&self) -> crate::procedure::Injection {
        crate::procedure::Injection { point: None, part: self.shots.to_string() }
    }

    fn broken_off(&self) -> Option<String> {
        self.broken_off.clone()
    }

    fn stands_alone(&self) -> bool {
        false
    }

    fn retain(&mut self, _wanted: &dyn Fn(&PointId) -> bool) {}

    fn repeat(&mut self) {
        *self = Self::start(Arc::clone(&self.code), Arc::clone(&self.scene.context), false);
    }

    fn answer(&mut self, answer: Answer) {
        let waiting = self.waiting.take();
        if let Some(Waiting::Reply { name, line }) = waiting {
            match (answer, name) {
                (Answer::Failed(why), _) => {
                    self.end_with(line, Verdict::Inconclusive, format!("line {line}: {why}"));
                }
                (Answer::Text(text), Some(name)) => {
                    self.scene.let_value(name.as_str(), Value::Text(text));
                }
                _ => {}
            }
            return;
        }
        if let Some(Waiting::Answer { name: Some(name) }) = waiting {
            let value = match answer {
                Answer::Text(text) => Value::Text(text),
                Answer::Si(si) => {
                    Value::from(Quantity { si, dimension: self.asked_dimension(&name) })
                }
                _ => return,
            };
            self.scene.let_value(name.as_str(), value);
        }
    }
}

impl Sequence {
    /// The dimension that the last question asked for.
    fn asked_dimension(&self, name: &Name) -> Dimension {
        let asked = self.code.ops[..self.pc].iter().rev().find_map(|op| match op {
            Op::Do(step) => match &step.what {
                Statement::Ask(Ask {
                    wanted: AskWanted::Value(n, Type::Quantity(d), _), ..
                }) if n == name => Some(*d),
                _ => None,
            },
            _ => None,
        });
        asked.unwrap_or(Dimension::NUMBER)
    }
}
