//! Running a sequence: a procedure whose next action the script decides.

use super::ast::{Ask, AskWanted, Ending, Guard, Script, SetValue, Statement, Step};
use super::build::{Built, build, measure, needed, time};
use super::code::{Code, LoopKind, Op, compile, then_off};
use super::condition::condition;
use super::context::Context;
use super::expectation::{ended, grade, likely_fault};
use super::scene::{Injection, Scene};
use crate::capability::{ParameterKind, ParameterValue};
use crate::document::Problem;
use crate::expression::{Expr, Type, Value, evaluate, quantity};
use crate::grading::{Grade, PointId, Values, Verdict};
use crate::name::Name;
use crate::observation::{Ended, Observation};
use crate::procedure::{Action, Answer, Planned, Procedure, Question, Wanted};
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
    Injection { built: Box<Built>, read: Option<(Name, Expr)> },
    Answer { name: Option<Name> },
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

    fn begin_loop(
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

    fn next_round(&mut self, done: usize) -> Result<(), Problem> {
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
            Statement::Capture { name } => {
                self.capture = Some(name.clone());
                Ok(())
            }
            _ => Ok(()),
        }
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

    /// Takes what an injection showed; while previewing, nothing was seen.
    fn take(
        &mut self,
        built: &Built,
        read: Option<(Name, Expr)>,
        seen: Option<&Observation>,
    ) -> Result<(), Problem> {
        let length =
            seen.map_or_else(|| built.program.longest().unwrap_or_default(), Observation::length);
        self.scene.elapsed += length;
        let swept =
            built.parts.iter().rev().find_map(|p| p.ramp.as_ref()).map(|ramp| {
                [ramp.from, ramp.to].map(|si| Quantity { si, dimension: ramp.dimension })
            });
        let injection =
            Injection { program: built.program.clone(), observation: seen.cloned(), swept };
        self.scene.state = match (built.program.finish, last_out(built, seen)) {
            (Finish::Keep, Some(out)) => out,
            _ => crate::stimulus::Stimulus::off(),
        };
        if let Some((name, value)) = read {
            self.take_reading(&name, &value, built, seen)?;
        } else {
            self.scene.last = Some(injection);
        }
        for part in &built.parts {
            let owners: Vec<&str> = match &part.label {
                Some(label) => vec![part.kind, label.as_str()],
                None => vec![part.kind],
            };
            let unknown = |kind: Type| Value::Unknown(kind);
            let (reached, lasted) = match seen {
                Some(o) => (
                    Value::Bool(part.reached(o)),
                    part.seen(o).map(|s| Value::from(Quantity::of(s.end - s.start))),
                ),
                None => (unknown(Type::Bool), Some(unknown(Type::Quantity(Dimension::TIME)))),
            };
            self.scene.result(&owners, "reached", reached);
            if let Some(lasted) = lasted {
                self.scene.result(&owners, "time", lasted);
            }
            if let Some(ramp) = &part.ramp {
                let (value, why) = match seen {
                    Some(o) => part.outcome(&built.program, o),
                    None => (None, None),
                };
                let value =
                    value.map_or_else(|| unknown(Type::Quantity(ramp.dimension)), Value::from);
                self.scene.result(&owners, "value", value);
                self.scene.excuse(&owners, why);
                let timing = self.scene.context.capability.timing_resolution;
                if let Some(resolution) = part.resolution(&built.program, timing) {
                    self.scene.result(&owners, "resolution", resolution.into());
                }
            }
        }
        let Some(observation) = seen else { return Ok(()) };
        self.after(built, observation)
    }

    /// Guards that fired, and conditions that did not come true.
    fn after(&mut self, built: &Built, observation: &Observation) -> Result<(), Problem> {
        let fired = observation.segments.iter().find_map(|s| match s.ended {
            Ended::Stop(index) if index < built.guards => Some(index),
            _ => None,
        });
        if let Some(index) = fired {
            self.scene.state = crate::stimulus::Stimulus::off();
            if let Some((_, handler)) = self.guards.get(index).cloned() {
                self.pc = handler;
                // The handler itself is not guarded.
                self.guards.clear();
                self.loops.clear();
            }
            return Ok(());
        }
        for part in &built.parts {
            let Some(ending) = &part.otherwise else { continue };
            if part.seen(observation).is_none() || part.reached(observation) || part.until.is_none()
            {
                continue;
            }
            let step = Step { what: Statement::Off, span: super::ast::Span(part.span.clone()) };
            let waited = part.seen(observation).map(|s| crate::quantity::text(s.end - s.start));
            let because =
                format!("waited {} in vain for {}", waited.unwrap_or_default(), part.awaited);
            self.finish(ending, &step, &because)?;
            if self.done {
                return Ok(());
            }
        }
        Ok(())
    }

    fn take_reading(
        &mut self,
        name: &Name,
        value: &Expr,
        built: &Built,
        seen: Option<&Observation>,
    ) -> Result<(), Problem> {
        let mut readings = HashMap::new();
        for probe in &built.program.reads {
            let read = match seen {
                None => Value::Unknown(Type::Quantity(probe.dimension)),
                Some(o) => match o.reading(probe) {
                    Some(si) => Value::from(Quantity { si, dimension: probe.dimension }),
                    // A guard that fired comes first.
                    None if o
                        .segments
                        .iter()
                        .any(|s| matches!(s.ended, Ended::Stop(i) if i < built.guards)) =>
                    {
                        return Ok(());
                    }
                    None => {
                        return Err(Problem::new(
                            value.span.clone(),
                            format!("`{probe}` could not be measured: there is no such signal"),
                        ));
                    }
                },
            };
            readings.insert(probe.to_string(), read);
        }
        self.scene.readings = Some(readings);
        let worth = evaluate(value, &self.scene);
        self.scene.readings = None;
        let worth = worth?;
        if let Value::Quantity(q) = &worth {
            self.scene.remember(name.as_str(), *q);
        }
        self.scene.let_value(name.as_str(), worth);
        Ok(())
    }

    /// Goes through the whole sequence as if every step took its longest and nothing was seen.
    fn preview(&self) -> Vec<Planned> {
        let context = Arc::clone(&self.scene.context);
        let mut machine = Self::start(Arc::clone(&self.code), context, true);
        let mut planned: Vec<Planned> = Vec::new();
        while planned.len() < MOST_PREVIEWED {
            match machine.next() {
                Action::Done => break,
                Action::Inject(program) => {
                    let longest = program.longest().unwrap_or_default();
                    let injection =
                        Injection { program: program.clone(), observation: None, swept: None };
                    let expected = likely_fault(&injection, &machine.scene).filter(|_| {
                        program.segments.iter().any(|s| s.stops.len() > 1 && s.name == "fault")
                    });
                    let fault =
                        Scene::fault_segment(&program).and_then(|i| program.segments[i].longest());
                    let likely = match (expected, fault) {
                        (Some(expected), Some(fault)) => longest - fault + expected,
                        _ => longest,
                    };
                    let place = machine.place();
                    planned.push(Planned { program, likely, place, ..nothing() });
                    machine.pass_over();
                }
                Action::Ask(question) => {
                    let unknown = match (&question.wanted, &machine.waiting) {
                        (Wanted::Quantity { exponents: [a, v, s, r, k], .. }, _) => {
                            Some(Type::Quantity(Dimension::new(*a, *v, *s, *r, *k)))
                        }
                        (Wanted::Choice(_) | Wanted::Text, _) => Some(Type::Text),
                        _ => None,
                    };
                    if let Some(Waiting::Answer { name: Some(name) }) = machine.waiting.take()
                        && let Some(kind) = unknown
                    {
                        machine.scene.let_value(name.as_str(), Value::Unknown(kind));
                    }
                }
                Action::Conclude(grades) => {
                    for grade in grades {
                        // Further points of the same injection need none of their own.
                        if planned.last().is_none_or(|last| !last.points.is_empty()) {
                            planned.push(nothing());
                        }
                        if let Some(last) = planned.last_mut() {
                            last.criterion = Some(grade.criterion);
                            last.stimulus = grade.stimulus;
                            last.expected = grade.expected;
                            last.limits = grade.limits;
                            last.points.push(grade.point);
                        }
                    }
                }
                Action::Tell(_) | Action::Set(..) | Action::Off => {}
            }
        }
        planned
    }

    /// The line of the injection that was handed out.
    fn place(&self) -> Option<String> {
        let Some(Waiting::Injection { built, .. }) = &self.waiting else { return None };
        let part = built.parts.first()?;
        Some(format!("line {}", self.scene.context.line(part.span.start)))
    }

    /// Goes on without having injected.
    fn pass_over(&mut self) {
        if let Some(Waiting::Injection { built, read }) = self.waiting.take()
            && let Err(problem) = self.take(&built, read, None)
        {
            let line = self.scene.context.line(problem.span.start);
            self.end_with(line, Verdict::Inconclusive, problem.message);
        }
    }
}

/// A planned entry that injects nothing.
fn nothing() -> Planned {
    Planned {
        points: Vec::new(),
        criterion: None,
        stimulus: Values::none(),
        expected: Values::none(),
        limits: Values::none(),
        program: crate::program::Program::default(),
        likely: seconds(0.0),
        place: None,
        not_tested: None,
    }
}

/// What was out when a program ended.
fn last_out(built: &Built, seen: Option<&Observation>) -> Option<crate::stimulus::Stimulus> {
    let segments = &built.program.segments;
    match seen {
        None => segments.last().map(|s| s.profile.last()),
        Some(o) => {
            let index = o.segments.len().checked_sub(1)?;
            let (segment, span) = (segments.get(index)?, o.segments.last()?);
            Some(match span.ended {
                Ended::Finished => segment.profile.last(),
                // A hair before the end, or the next level of a stair would count.
                _ => segment.profile.at((span.end - span.start - seconds(1e-9)).max(seconds(0.0))),
            })
        }
    }
}

/// The values of `from … to … by …`.
pub(super) fn range(
    from: &Expr,
    to: &Expr,
    by: &Expr,
    scene: &Scene,
) -> Result<Vec<Value>, Problem> {
    let first = match evaluate(from, scene)? {
        Value::Quantity(q) => q,
        Value::Unknown(Type::Quantity(dimension)) => Quantity { si: 1.0, dimension },
        other => {
            let message = format!("a loop runs over quantities, not {}", other.kind());
            return Err(Problem::new(from.span.clone(), message));
        }
    };
    let (last, step) = (needed(to, first.dimension, scene)?, needed(by, first.dimension, scene)?);
    if step == 0.0 {
        return Err(Problem::new(by.span.clone(), "a step of zero never arrives"));
    }
    if step < 0.0 && last > first.si {
        return Err(Problem::new(by.span.clone(), "the step goes down, but the loop goes up")
            .help("leave the sign out: the direction follows from the two ends"));
    }
    let count = ((last - first.si).abs() / step.abs() + 1e-9).floor();
    if count > 100_000.0 {
        return Err(Problem::new(by.span.clone(), format!("this loop has {count} rounds"))
            .help("take a larger step"));
    }
    let signed = if last < first.si { -step.abs() } else { step.abs() };
    let value = |k: u32| Value::from(Quantity { si: first.si + signed * f64::from(k), ..first });
    Ok((0..=count as u32).map(value).collect())
}

/// What a parameter is set to, checked against what it takes.
pub(super) fn parameter_value(
    name: &Name,
    value: &SetValue,
    at: &std::ops::Range<usize>,
    scene: &Scene,
) -> Result<ParameterValue, Problem> {
    let capability = &scene.context.capability;
    let Some(parameter) = capability.parameter(name.as_str()) else {
        let known = || capability.parameters.iter().map(|p| p.name.as_str());
        let near = crate::name::nearest(name.as_str(), known());
        let all = || match known().collect::<Vec<_>>() {
            none if none.is_empty() => "its file lists no [[parameter]]".to_owned(),
            some => format!("parameters are {}", some.join(", ")),
        };
        return Err(Problem::new(at.clone(), format!("the rig has no parameter `{name}`"))
            .did_you_mean(near, all));
    };
    match (parameter.kind, value) {
        (ParameterKind::Switch, SetValue::Switch(on)) => Ok(ParameterValue::Switch(*on)),
        (ParameterKind::Switch, SetValue::Value(expr)) => {
            Err(Problem::new(expr.span.clone(), format!("`{name}` is switched `on` or `off`")))
        }
        (ParameterKind::Quantity { dimension, .. }, SetValue::Switch(_)) => {
            Err(Problem::new(at.clone(), format!("`{name}` takes {dimension}, not a switch")))
        }
        (ParameterKind::Quantity { dimension, most }, SetValue::Value(expr)) => {
            let si = quantity(expr, dimension, scene)?.map(|q| q.si);
            let limit = Quantity { si: most, dimension };
            match si {
                Some(si) if si.abs() > most => {
                    let message = format!(
                        "{} is more than `{name}` may be set to, {limit}",
                        Quantity { si, dimension }
                    );
                    Err(Problem::new(expr.span.clone(), message))
                }
                other => Ok(ParameterValue::Si(other.unwrap_or(0.0))),
            }
        }
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

    fn answer(&mut self, answer: Answer) {
        if let Some(Waiting::Answer { name: Some(name) }) = self.waiting.take() {
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
