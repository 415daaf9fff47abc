//! Running a sequence: a procedure whose next action the script decides.

mod loops;
mod outcome;
mod owed;
mod procedure;
mod steps;

use super::ast::{Ask, AskWanted, Ending, Guard, Script, Statement, Step};
use super::build::{Built, build, measure, needed, time};
use super::code::{Code, Op, compile, then_off};
use super::condition::condition;
use super::context::Context;
use super::expectation::{ended, grade, not_done, not_graded, verdict_of};
use super::labels::Labels;
use super::names::Depth;
use super::question::question;
use super::scene::{Injection, Last, Mode, Out, Scene};
use super::values::parameter_value;
use super::walk::{Foreseen, READ_S};
use owed::owed;
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use steps::Steps;
use waltron_core::grading::{PointId, Verdict};
use waltron_core::injection::measuring::Capture;
use waltron_core::injection::observation::{Ended, Observation};
use waltron_core::injection::program::{Condition, Finish};
use waltron_core::procedure::{Action, Owed, Wanted};
use waltron_core::quantity::{Dimension, Measure, Quantity, seconds};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{Expr, Type, Value, evaluate, not_there};
use waltron_core::text::name::Name;

/// A running sequence.
#[derive(Clone, Debug)]
pub struct Sequence {
    code: Arc<Code>,
    scene: Scene,
    pc: usize,
    loops: Vec<Loop>,
    guards: Vec<Watched>,
    calls: Vec<Frame>,
    /// Actions worked out but not handed out yet.
    ready: VecDeque<Action>,
    waiting: Option<Waiting>,
    capture: Option<Name>,
    shots: u64,
    labels: Labels,
    /// What it was seen to do when it was gone through before.
    foreseen: Arc<Foreseen>,
    done: bool,
    /// Why it ended before its last line.
    broken_off: Option<String>,
    steps: Steps,
    /// How far it has come with what is done however it ends.
    putting_back: PuttingBack,
    /// What that is, for whoever must do it where the sequence cannot any more.
    owed: Arc<[Owed]>,
}

/// How far a sequence has come with what is done however it ends.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum PuttingBack {
    /// Nothing was done yet that it would put back.
    #[default]
    NotDue,
    /// It is due once the sequence ends.
    Due,
    /// It is done at present.
    Begun,
    /// All of it is done.
    Done,
}

/// A guard that is on.
#[derive(Clone, Debug)]
struct Watched {
    guard: Arc<Guard>,
    handler: usize,
    /// The block that it stands in.
    depth: Depth,
    calls: usize,
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
    most: u64,
    /// What happens once it has gone round that often.
    otherwise: Ending,
    step: Arc<Step>,
    /// Time at which its present round began, in s.
    begun: f64,
    /// Rounds one after another in which no time passed.
    idle: u64,
}

#[derive(Clone, Debug)]
enum LoopState {
    Values(Name, VecDeque<Value>),
    Times(u64),
    /// Until this time, in s.
    For(f64),
    While(Expr),
    /// Until this holds, and whether it did after the last round.
    Until(Expr, bool),
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
        kind: Type,
        /// The least and the largest answer, which was confirmed with what follows from it.
        bounds: Option<[f64; 2]>,
    },
    /// Of an instrument or a program.
    Reply {
        name: Option<Name>,
        line: usize,
    },
}

/// Most instructions between two actions: a loop that does nothing must not hang.
const MOST_IDLE: u32 = 1_000_000;

impl Sequence {
    /// A sequence at its beginning, which was gone through before.
    pub(super) fn foreseen(
        script: &Script,
        context: Arc<Context>,
        foreseen: Arc<Foreseen>,
    ) -> Self {
        let owed = owed(script, &context);
        Self::start(Arc::new(compile(script)), context, foreseen, owed)
    }

    fn start(
        code: Arc<Code>,
        context: Arc<Context>,
        foreseen: Arc<Foreseen>,
        owed: Arc<[Owed]>,
    ) -> Self {
        Self {
            code,
            scene: Scene::new(context, Mode::Run),
            pc: 0,
            loops: Vec::new(),
            guards: Vec::new(),
            calls: Vec::new(),
            ready: VecDeque::new(),
            waiting: None,
            capture: None,
            shots: 0,
            labels: Labels::default(),
            foreseen,
            done: false,
            broken_off: None,
            steps: Steps::default(),
            putting_back: PuttingBack::default(),
            owed,
        }
    }

    /// The points that the lines right behind the present injection grade.
    fn graded_next(&self) -> Vec<String> {
        let mut found = Vec::new();
        for op in self.code.ops.iter().skip(self.pc) {
            let Op::Do(step) = op else { break };
            match &step.what {
                Statement::Expect(expect) => {
                    let owners = &self.foreseen.owners;
                    // A name that holds what is not known yet is left to the point itself.
                    found.extend(self.labels.ahead(expect, step, &self.scene, owners));
                }
                Statement::Tell(_) => {}
                _ => break,
            }
        }
        found
    }

    /// The point that stands for a line at which something went wrong.
    fn place(&mut self, offset: usize) -> PointId {
        let context = Arc::clone(&self.scene.context);
        self.labels.place(&context, offset)
    }

    /// What could not be done fails or proves nothing, is named, and the rest goes on.
    fn not_done(&mut self, problem: &Problem) {
        let line = self.scene.context.line(problem.span.start);
        let verdict = verdict_of(problem.fails);
        let point = self.place(problem.span.start);
        let reason = format!("line {line}: {}", problem.message);
        self.steps.failed(line);
        self.ready.push_back(Action::Conclude(vec![not_done(point, verdict, reason)]));
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
            if self.putting_back == PuttingBack::NotDue && self.code.finally.is_some() {
                self.putting_back = PuttingBack::Due;
            }
            if let Err(problem) = self.step() {
                self.not_done(&problem);
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
        let offset = self.scene.context.offset(line);
        let point = self.place(offset);
        self.broken_off = Some(format!("the sequence ended at line {line}: {reason}"));
        self.ready.push_back(Action::Off);
        self.ready.push_back(Action::Conclude(vec![ended(point, verdict, reason)]));
        self.end();
    }

    /// Comes to its end: what is left is what is done however it ends.
    fn end(&mut self) {
        match self.code.finally.filter(|_| self.putting_back == PuttingBack::Due) {
            Some(at) => self.pc = at,
            None => self.done = true,
        }
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
                let why = match evaluate(text, &self.scene) {
                    Ok(text) => text.to_string(),
                    Err(problem) => problem.message,
                };
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
        self.steps.came_to(op, &self.scene.context);
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
            Op::Branch { condition, otherwise, end } => match self.truth(condition) {
                Ok(true) => Ok(()),
                Ok(false) => {
                    self.pc = *otherwise;
                    Ok(())
                }
                // No branch is taken in silence.
                Err(problem) => {
                    self.pc = *end;
                    Err(problem)
                }
            },
            Op::Enter => {
                self.scene.names.enter(false);
                Ok(())
            }
            Op::Leave => {
                self.scene.names.leave();
                Ok(())
            }
            Op::LoopBegin { kind, most, otherwise, step, done } => {
                let begun = self.begin_loop(kind, most.as_ref(), otherwise.as_ref(), step);
                if begun.is_err() {
                    self.pc = *done;
                }
                begun
            }
            Op::LoopNext { done } => self.next_round(*done),
            Op::LoopAgain { test, done } => self.end_round(*test, *done),
            Op::GuardOn { guard, handler } => {
                self.guards.push(Watched {
                    guard: Arc::clone(guard),
                    handler: *handler,
                    depth: self.scene.names.depth(),
                    calls: self.calls.len(),
                });
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
                self.scene.names.call(frame);
                self.pc = *target;
                Ok(())
            }
            Op::Return => {
                self.scene.names.end_call();
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
            Op::Finally => {
                self.putting_back = PuttingBack::Begun;
                // Wherever it ended, nothing of that is there any more.
                self.scene = Scene::new(Arc::clone(&self.scene.context), Mode::Run);
                self.loops.clear();
                self.guards.clear();
                self.calls.clear();
                self.ready.push_back(Action::Off);
                Ok(())
            }
            Op::Done => {
                if self.putting_back == PuttingBack::Begun {
                    self.putting_back = PuttingBack::Done;
                }
                self.ready.push_back(Action::Off);
                self.done = true;
                Ok(())
            }
        }
    }

    /// Whether a condition holds.
    ///
    /// # Errors
    /// Where that cannot be told.
    fn truth(&self, condition: &Expr) -> Result<bool, Problem> {
        match evaluate(condition, &self.scene)? {
            Value::Bool(b) => Ok(b),
            Value::Missing(missing) => Err(not_there(condition, &missing)),
            other => {
                let message = format!("this is {}, but a condition is wanted here", other.kind());
                Err(Problem::new(condition.span.clone(), message))
            }
        }
    }

    fn statement(&mut self, step: &Step) -> Result<(), Problem> {
        match &step.what {
            Statement::Let { name, new, value } => {
                self.scene.stimuli.note_let(name.as_str(), value);
                // What cannot be worked out fails whatever needs it, as it would in place.
                let value = evaluate(value, &self.scene).unwrap_or_else(|problem| {
                    Value::missing(Type::Any, problem.fails, problem.message)
                });
                if *new || !self.scene.names.assign(name.as_str(), value.clone()) {
                    self.scene.names.define(name.as_str(), value);
                }
                Ok(())
            }
            Statement::Hold(_)
            | Statement::Ramp(_)
            | Statement::Fault(_)
            | Statement::Playback(_)
            | Statement::Wait(_) => self.inject(&[step], false),
            Statement::Off => {
                self.scene.out = Out::off();
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
                let owners = &self.foreseen.owners;
                let point = self.labels.known_point(expect, step, &self.scene, owners)?;
                let grade = grade(expect, &self.scene, point.clone())
                    .unwrap_or_else(|problem| not_graded(expect, &self.scene, point, &problem));
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
            .map(|w| condition(&w.guard.condition, &self.scene.context, &self.scene));
        conditions.collect()
    }

    fn inject(&mut self, steps: &[&Step], together: bool) -> Result<(), Problem> {
        let guards = self.guard_conditions();
        let built =
            guards.and_then(|guards| build(steps, together, &guards, &self.scene, self.shots));
        let built = match built {
            Ok(built) => built,
            Err(problem) => {
                self.lost(steps, &problem);
                let message = format!("not put out: {}", problem.message);
                return Err(Problem { message, ..problem });
            }
        };
        if built.program.segments.is_empty() {
            return Ok(());
        }
        self.hand_out(built, None);
        Ok(())
    }

    fn hand_out(&mut self, mut built: Built, read: Option<(Name, Expr)>) {
        self.shots += 1;
        built.program.capture = self.capture.take();
        if let Some(name) = &built.program.capture {
            // On a rig with meters what they see is kept, besides what was put out.
            let meters = &self.scene.context.capability.meters;
            let of = meters.iter().map(|m| m.meaning.clone()).collect();
            let longest = built.program.longest().unwrap_or_default();
            built.program.captures.extend(Capture::whole(name.clone(), of, longest));
        }
        self.ready.push_back(Action::Inject(built.program.clone().into()));
        self.waiting = Some(Waiting::Injection { built: Box::new(built), read });
    }

    fn ask(&mut self, ask: &Ask) -> Result<(), Problem> {
        let question = question(ask, &self.scene)?;
        let bounds = match &question.wanted {
            Wanted::Quantity { bounds, .. } => *bounds,
            _ => None,
        };
        let (name, kind) = match &ask.wanted {
            AskWanted::Confirm => (None, Type::Text),
            AskWanted::Choice(name, ..) => (Some(name.clone()), Type::Text),
            AskWanted::Value { name, kind: Type::Quantity(dimension), .. } => {
                (Some(name.clone()), Type::Quantity(*dimension))
            }
            AskWanted::Value { name, .. } => (Some(name.clone()), Type::Text),
        };
        self.ready.push_back(Action::Ask(question));
        self.waiting = Some(Waiting::Answer { name, kind, bounds });
        Ok(())
    }
}
