//! Finding every mistake of a script before anything runs.
//!
//! The script is gone through once, every block in order, with the evaluator and the builders that
//! running it uses; what is measured has its type but no value.

mod shape;
mod warnings;

pub(super) use shape::blocks;
use shape::{reassigned, recursion};
pub(super) use warnings::warnings;

use super::ast::{
    Ask, AskWanted, Ending, Expect, ForOver, RepeatKind, Script, Sequence, Statement, Step,
};
use super::build::{build, time};
use super::condition::condition;
use super::context::Context;
use super::expectation::grade;
use super::scene::{Injection, Last, Mode, Out, Scene};
use super::values::{parameter_value, range};
use std::collections::HashMap;
use std::sync::Arc;
use waltron_core::grading::PointId;
use waltron_core::injection::program::Condition;
use waltron_core::injection::stimulus::{Drive, PHASE_CURRENTS, PHASE_VOLTAGES, Stimulus};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Dimension, Measure, counted};
use waltron_core::text::document::{Problem, Problems};
use waltron_core::text::expression::{Expr, Names as _, RESERVED, Type, Value, evaluate, quantity};
use waltron_core::text::name::{Name, nearest};

/// Notes every mistake of a script.
pub(super) fn check(script: &Script, context: &Arc<Context>, problems: &mut Problems) {
    let mut checker = Checker {
        everything: everything_on(context),
        script,
        context,
        problems,
        reassigned: reassigned(script),
        yields: HashMap::new(),
    };
    if !recursion(script, checker.problems) {
        return;
    }
    checker.find_yields();
    let mut names: Vec<&Name> = Vec::new();
    for sequence in &script.sequences {
        if names.contains(&&sequence.name) {
            let message = format!("sequence `{}` is there twice", sequence.name);
            checker.problems.push(Problem::new(sequence.span.0.clone(), message));
        }
        names.push(&sequence.name);
        checker.sequence(sequence);
    }
    let mut scene = Scene::new(Arc::clone(context), Mode::Kinds);
    checker.block(&script.body, &mut scene);
    // Wherever the sequence ended: what it named before may not be there.
    let mut scene = Scene::new(Arc::clone(context), Mode::Kinds);
    checker.only_puts_back(&script.finally);
    checker.block(&script.finally, &mut scene);
}

/// A wave on every phase channel that the rig has.
fn everything_on(context: &Context) -> Stimulus {
    fn on<Q: Measure>(channels: [&str; 3], context: &Context) -> Vec<Drive<Q>> {
        let there = |id: &&str| context.capability.channel_dimension(id).is_some();
        let phasor = Phasor::new(Q::from_si(1.0), Default::default());
        let frequency = context.nominal();
        let drive = |id: &str| Drive::sine(id.into(), phasor, frequency);
        channels.into_iter().filter(there).map(drive).collect()
    }
    Stimulus { currents: on(PHASE_CURRENTS, context), voltages: on(PHASE_VOLTAGES, context) }
}

struct Checker<'a> {
    everything: Stimulus,
    script: &'a Script,
    context: &'a Arc<Context>,
    problems: &'a mut Problems,
    reassigned: Vec<Name>,
    /// What the steps of each sub-sequence yield, for those that call it.
    yields: HashMap<Name, HashMap<String, Value>>,
}

impl Checker<'_> {
    /// Checks a sub-sequence, and notes what it yields.
    fn sequence(&mut self, sequence: &Sequence) {
        let mut scene = Scene::new(Arc::clone(self.context), Mode::Kinds);
        // What the caller has put out is not known; anything may be on.
        scene.last = Last::Unclear;
        let head = Step { what: Statement::Off, span: sequence.span.clone() };
        for (name, kind) in &sequence.parameters {
            self.define(name, Value::Unknown(kind.clone()), &head, &mut scene);
        }
        self.block(&sequence.body, &mut scene);
        self.yields.insert(sequence.name.clone(), scene.results);
    }

    /// Sub-sequences may call what is written behind them: what they yield is found before.
    fn find_yields(&mut self) {
        let mut ignored = Problems::default();
        let mut first = Checker {
            everything: self.everything.clone(),
            script: self.script,
            context: self.context,
            problems: &mut ignored,
            reassigned: self.reassigned.clone(),
            yields: HashMap::new(),
        };
        for _ in &self.script.sequences {
            let before = first.yields.clone();
            self.script.sequences.iter().for_each(|s| first.sequence(s));
            if first.yields == before {
                break;
            }
        }
        self.yields = first.yields;
    }

    /// What is done however a sequence ends puts nothing out, and grades nothing.
    fn only_puts_back(&mut self, steps: &[Step]) {
        for step in steps {
            let fits = matches!(
                step.what,
                Statement::Ask(_)
                    | Statement::Tell(_)
                    | Statement::Set { .. }
                    | Statement::Send { .. }
                    | Statement::Execute { .. }
                    | Statement::Let { .. }
                    | Statement::Off
                    | Statement::If(_)
            );
            if !fits {
                let message = "in `finally` nothing is put out, measured or graded";
                self.problems
                    .push(Problem::new(step.span.0.clone(), message).help(
                        "it may `ask`, `tell`, `set`, `send`, `run`, and use `if` and `let`",
                    ));
            }
            blocks(&step.what).into_iter().for_each(|block| self.only_puts_back(block));
        }
    }

    fn note<T>(&mut self, read: Result<T, Problem>) -> Option<T> {
        read.map_err(|problem| self.problems.push(problem)).ok()
    }

    fn kind(&mut self, expr: &Expr, scene: &Scene) -> Value {
        let value = evaluate(expr, scene);
        self.note(value).unwrap_or(Value::Unknown(Type::Any))
    }

    fn wants(&mut self, expr: &Expr, dimension: Dimension, scene: &Scene) {
        let read = quantity(expr, dimension, scene);
        self.note(read);
    }

    fn ending(&mut self, ending: &Ending, scene: &Scene) {
        if let Ending::Fail(text) = ending {
            self.kind(text, scene);
        }
    }

    /// Checks a block; names defined in it are gone behind it.
    fn block(&mut self, steps: &[Step], scene: &mut Scene) {
        scene.names.enter(false);
        for step in steps {
            self.step(step, scene);
        }
        scene.names.leave();
    }

    fn define(&mut self, name: &Name, value: Value, step: &Step, scene: &mut Scene) {
        self.allowed(name, step);
        scene.names.define(name.as_str(), value);
    }

    /// Complains about a name that means something else.
    fn allowed(&mut self, name: &Name, step: &Step) {
        let taken =
            |what: &str| Problem::new(step.span.0.clone(), format!("`{name}` is {what} already"));
        if RESERVED.contains(&name.as_str()) {
            self.problems.push(taken("a word of the language"));
        } else if self.context.is_contact(name.as_str()) {
            self.problems.push(taken("a contact").help("choose another name"));
        } else if matches!(name.as_str(), "B" | "C" | "N") {
            let help = "`B-C` would read as a fault loop; choose another name";
            self.problems.push(taken("a phase").help(help));
        } else if waltron_core::quantity::Unit::parse(name.as_str()).is_some() {
            let help = format!("`2 {name}` would read as a quantity; choose another name");
            self.problems.push(taken("a unit").help(help));
        }
    }

    fn step(&mut self, step: &Step, scene: &mut Scene) {
        let last = scene.last.clone();
        self.statement(step, scene);
        // Behind blocks that need not be done, any of several injections may be the last.
        let is_block = matches!(
            step.what,
            Statement::If(_) | Statement::Repeat(_) | Statement::For(_) | Statement::Guard(_)
        );
        if is_block && scene.last != last {
            scene.last = Last::Unclear;
        }
    }

    fn statement(&mut self, step: &Step, scene: &mut Scene) {
        match &step.what {
            Statement::Let { name, new, value } => {
                let mut worth = self.kind(value, scene);
                if self.reassigned.contains(name) {
                    worth = Value::Unknown(worth.kind());
                }
                match (new, scene.variable(name.as_str()).map(Value::kind)) {
                    (true, _) => self.define(name, worth, step, scene),
                    (false, Some(before)) => {
                        let any = [&before, &worth.kind()].contains(&&Type::Any);
                        if before != worth.kind() && !any {
                            let message =
                                format!("`{name}` is {before}, it cannot become {}", worth.kind());
                            self.problems.push(Problem::new(value.span.clone(), message));
                        }
                    }
                    (false, None) => {
                        let message = match scene.value(name.as_str()) {
                            Some(_) => format!("`{name}` cannot be given another value"),
                            None => format!("nothing is called `{name}`"),
                        };
                        let problem = Problem::new(step.span.0.clone(), message);
                        let known = scene.names.all();
                        let near = nearest(name.as_str(), known.iter().map(String::as_str));
                        self.problems.push(
                            problem
                                .did_you_mean(near, || format!("define it with `let {name} = …`")),
                        );
                        scene.names.define(name.as_str(), Value::Unknown(worth.kind()));
                    }
                }
            }
            Statement::Hold(_)
            | Statement::Ramp(_)
            | Statement::Fault(_)
            | Statement::Wait(_)
            | Statement::Playback(_) => {
                self.outputs(&[step], false, scene);
            }
            Statement::Play(body) => {
                let steps: Vec<&Step> = body.iter().collect();
                self.outputs(&steps, true, scene);
            }
            Statement::Off | Statement::Capture { .. } => {}
            Statement::Send { text, to, at, name } => {
                self.kind(text, scene);
                let known = &scene.context.capability.instruments;
                if !known.contains(to) {
                    let problem =
                        Problem::new(at.0.clone(), format!("the rig has no instrument `{to}`"));
                    let near = nearest(to.as_str(), known.iter().map(Name::as_str));
                    let all = || match known.is_empty() {
                        true => "name its file in the rig's `instruments`".to_owned(),
                        false => format!(
                            "it has {}",
                            known.iter().map(Name::as_str).collect::<Vec<_>>().join(", ")
                        ),
                    };
                    self.problems.push(problem.did_you_mean(near, all));
                }
                if let Some(name) = name {
                    self.define(name, Value::Unknown(Type::Text), step, scene);
                }
            }
            Statement::Execute { program, args, most, name } => {
                self.kind(program, scene);
                for arg in args {
                    self.kind(arg, scene);
                }
                let read = time(most, scene);
                self.note(read);
                if let Some(name) = name {
                    self.define(name, Value::Unknown(Type::Text), step, scene);
                }
            }
            Statement::If(branches) => {
                for (condition, body) in branches {
                    if let Some(condition) = condition {
                        self.truth(condition, scene);
                    }
                    self.block(body, scene);
                }
            }
            Statement::For(repeat) => {
                let item = match &repeat.over {
                    ForOver::List(list) => match self.kind(list, scene).kind() {
                        Type::List(item) => *item,
                        Type::Any => Type::Any,
                        other => {
                            let message = format!("this is {other}, but a list is wanted here");
                            self.problems.push(
                                Problem::new(list.span.clone(), message)
                                    .help("write it like `[1.5, 2, 5]`"),
                            );
                            Type::Any
                        }
                    },
                    ForOver::Range(from, to, by) => {
                        let values = range(from, to, by, scene);
                        let values = self.note(values);
                        values.and_then(|v| v.first().map(Value::kind)).unwrap_or(Type::Any)
                    }
                };
                scene.names.enter(false);
                self.define(&repeat.name, Value::Unknown(item), step, scene);
                self.block(&repeat.body, scene);
                scene.names.leave();
            }
            Statement::Repeat(repeat) => {
                let bounded = match &repeat.kind {
                    RepeatKind::Times(n) => {
                        self.wants(n, Dimension::NUMBER, scene);
                        true
                    }
                    RepeatKind::For(t) => {
                        let read = time(t, scene);
                        self.note(read);
                        true
                    }
                    RepeatKind::While(c) => {
                        self.truth(c, scene);
                        false
                    }
                    // Looked at after the body, which may define what it names.
                    RepeatKind::Until(_) => false,
                };
                if let Some(most) = &repeat.most {
                    self.wants(most, Dimension::NUMBER, scene);
                } else if !bounded {
                    let problem = Problem::new(step.span.0.clone(), "nothing bounds this loop");
                    self.problems
                        .push(problem.help("say how often at most: add `, at most 100 times`"));
                }
                if let Some(ending) = &repeat.otherwise {
                    self.ending(ending, scene);
                }
                scene.names.enter(true);
                for inner in &repeat.body {
                    self.step(inner, scene);
                }
                if let RepeatKind::Until(c) = &repeat.kind {
                    self.truth(c, scene);
                }
                scene.names.leave();
            }
            Statement::Guard(guard) => {
                let built = condition(&guard.condition, self.context, scene);
                if let Some(condition) = self.note(built) {
                    self.possible(&condition, &guard.condition);
                }
                self.block(&guard.body, scene);
                self.ending(&guard.ending, scene);
            }
            Statement::Ask(ask) => self.ask(ask, step, scene),
            Statement::Tell(text) => {
                self.kind(text, scene);
            }
            Statement::Read { name, value, over } => {
                if let Some(over) = over {
                    let read = time(over, scene);
                    self.note(read);
                }
                let probes = self.context.probes(value);
                let Some(probes) = self.note(probes) else { return };
                if probes.is_empty() {
                    self.nothing_measured(value, scene);
                    self.allowed(name, step);
                    scene.names.note_read(name.as_str(), Value::Unknown(Type::Any));
                    return;
                }
                let known = probes
                    .iter()
                    .map(|p| (p.to_string(), Value::Unknown(Type::Quantity(p.dimension))));
                scene.readings = Some(known.collect());
                let worth = self.kind(value, scene);
                scene.readings = None;
                let worth = Value::Unknown(worth.kind());
                self.allowed(name, step);
                scene.names.note_read(name.as_str(), worth);
            }
            Statement::Set { parameter, value, at } => {
                let read = parameter_value(parameter, value, &at.0, scene);
                self.note(read);
            }
            Statement::Expect(expect) => self.expect(expect, scene),
            Statement::Stop(ending) => self.ending(ending, scene),
            Statement::Call { name, args } => self.call(name, args, step, scene),
        }
    }

    /// A `read` of what is no measured value. A name that is not known is the likelier mistake.
    fn nothing_measured(&mut self, value: &Expr, scene: &Scene) {
        let readings: Vec<&str> =
            self.context.capability.readings.iter().map(|r| r.name.as_str()).collect();
        let output = "a property of an output, such as `magnitude(ia)`";
        let help = match readings.as_slice() {
            [] => format!("read {output}"),
            some => format!("read an instrument's value ({}), or {output}", some.join(", ")),
        };
        let problem = match evaluate(value, scene) {
            Err(problem) => problem,
            Ok(_) => Problem::new(value.span.clone(), "nothing is measured here"),
        };
        self.problems.push(Problem { help: Some(help), ..problem });
    }

    fn truth(&mut self, expr: &Expr, scene: &Scene) {
        let kind = self.kind(expr, scene).kind();
        if !matches!(kind, Type::Bool | Type::Any) {
            let message = format!("this is {kind}, but a condition is wanted here");
            self.problems.push(Problem::new(expr.span.clone(), message));
        }
    }

    /// A guard on a value that cannot be reached guards nothing.
    fn possible(&mut self, condition: &Condition, expr: &Expr) {
        let impossible = condition.parts().iter().any(|c| match c {
            Condition::Contact { signal, .. } | Condition::Edge { signal, .. } => {
                !self.context.capability.sees(signal)
            }
            _ => false,
        });
        if impossible {
            self.problems.push(
                Problem::new(
                    expr.span.clone(),
                    "this guard can never be true: no input of the rig is wired to it",
                )
                .help("wire it in the rig's file, or take the guard out"),
            );
        }
    }

    fn outputs(&mut self, steps: &[&Step], together: bool, scene: &mut Scene) {
        for step in steps {
            if let Some(ending) = step.what.output().and_then(|(_, until)| until.otherwise.as_ref())
            {
                self.ending(ending, scene);
            }
        }
        // Whatever an earlier step may have put out: nothing is known to be off.
        let anything = Out { stimulus: self.everything.clone(), is_exact: false };
        let known = std::mem::replace(&mut scene.out, anything);
        let built = build(steps, together, &[], scene, 0);
        scene.out = known;
        let Some(built) = self.note(built) else {
            self.results_of(steps, scene);
            return;
        };
        for part in &built.parts {
            let owners = part.owners();
            scene.result(&owners, "reached", Value::Unknown(Type::Bool));
            scene.result(&owners, "time", Value::Unknown(Type::Quantity(Dimension::TIME)));
            if let Some(ramp) = &part.ramp {
                let kind = Type::Quantity(ramp.dimension);
                scene.result(&owners, "value", Value::Unknown(kind.clone()));
                scene.result(&owners, "resolution", Value::Unknown(kind));
            }
        }
        if built.parts.iter().any(|p| p.kind != "wait") {
            scene.last = Last::Injection(Injection {
                program: Arc::new(built.program),
                observation: None,
                swept: None,
                fault: built.fault,
                is_exact: false,
            });
        }
    }

    /// After a mistake, what the step yields is not complained about again.
    fn results_of(&mut self, steps: &[&Step], scene: &mut Scene) {
        for step in steps {
            let Some((kind, until)) = step.what.output() else { continue };
            let owners: Vec<&str> =
                std::iter::once(kind).chain(until.label.as_ref().map(Name::as_str)).collect();
            for key in ["reached", "time", "value", "resolution"] {
                scene.result(&owners, key, Value::Unknown(Type::Any));
            }
        }
        scene.last = Last::Unclear;
    }

    fn ask(&mut self, ask: &Ask, step: &Step, scene: &mut Scene) {
        self.kind(&ask.text, scene);
        match &ask.wanted {
            AskWanted::Confirm => {}
            AskWanted::Choice(name, choices, default) => {
                let known = default.as_ref().map(|default| (default, self.kind(default, scene)));
                let answers = self.kind(choices, scene);
                if let (Some((default, value)), Value::List(answers)) = (known, &answers)
                    && !matches!(value, Value::Unknown(_))
                    && !answers.iter().any(|a| a.to_string() == value.to_string())
                {
                    let message = format!("`{value}` is none of the choices");
                    self.problems.push(Problem::new(default.span.clone(), message));
                }
                if !matches!(self.kind(choices, scene).kind(), Type::List(_) | Type::Any) {
                    let problem = Problem::new(choices.span.clone(), "choices are a list");
                    self.problems.push(problem.help("write them like `[\"A\", \"B\"]`"));
                }
                self.define(name, Value::Unknown(Type::Text), step, scene);
            }
            AskWanted::Value { name, kind, default, between } => {
                if let Type::Quantity(dimension) = kind {
                    let ends = between.iter().flat_map(|(low, high)| [low, high]);
                    for expr in default.iter().chain(ends) {
                        self.wants(expr, *dimension, scene);
                    }
                }
                self.define(name, Value::Unknown(kind.clone()), step, scene);
            }
        }
    }

    fn expect(&mut self, expect: &Expect, scene: &Scene) {
        if let Some(label) = &expect.label {
            self.kind(label, scene);
        }
        let point = PointId { id: String::new(), test: "".into(), element: None, fault_loop: None };
        let graded = grade(expect, scene, point);
        self.note(graded);
    }

    fn call(&mut self, name: &Name, args: &[Expr], step: &Step, scene: &mut Scene) {
        let Some(sequence) = self.script.sequences.iter().find(|s| s.name == *name) else {
            let near =
                nearest(name.as_str(), self.script.sequences.iter().map(|s| s.name.as_str()));
            let problem =
                Problem::new(step.span.0.clone(), format!("there is no sequence `{name}`"));
            self.problems.push(
                problem
                    .did_you_mean(near, || format!("define it with `sequence {name}()` … `end`")),
            );
            return;
        };
        if sequence.parameters.len() != args.len() {
            let takes = counted(sequence.parameters.len(), "value");
            let message = format!("`{name}` takes {takes}, not {}", args.len());
            self.problems.push(Problem::new(step.span.0.clone(), message));
        }
        for ((parameter, wanted), arg) in sequence.parameters.clone().iter().zip(args) {
            let found = self.kind(arg, scene).kind();
            if found != *wanted && found != Type::Any {
                let message = format!("`{parameter}` is {wanted}, not {found}");
                self.problems.push(Problem::new(arg.span.clone(), message));
            }
        }
        scene.results.extend(self.yields.get(name).cloned().unwrap_or_default());
        scene.last = Last::Unclear;
    }
}
