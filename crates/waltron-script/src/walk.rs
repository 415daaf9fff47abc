//! Going through a sequence before it runs, on every course that it can take.
//!
//! The same evaluator and the same builders are used as for running; a value that is not known before
//! has bounds, and what is worked out from it stands at the most that it can be. Where a condition
//! cannot be told, both courses are taken, and what is known behind them holds for either. What has no
//! bound is refused.

mod known;
mod loops;

use known::{Truth, is_known_text, is_sure, nothing, settable, truth};

use super::ast::{
    AskWanted, Ending, Expect, Guard, Requirement, Script, Sequence, SetValue, Statement, Step,
};
use super::build::{Built, Part, build, measure, needed, time};
use super::code::then_off;
use super::condition::condition;
use super::context::Context;
use super::expectation::{grade, likely_fault, rival};
use super::labels::{Labels, Owners};
use super::names::Depth;
use super::question::question;
use super::scene::{Injection, Last, Mode, Out, Scene};
use super::stimuli::of_last;
use super::values::parameter_value;
use std::collections::HashMap;
use std::sync::Arc;
use waltron_core::grading::{Finding, Limits};
use waltron_core::injection::program::{Condition, Segment};
use waltron_core::procedure::{Also, Planned, PlannedPoint};
use waltron_core::quantity::{Dimension, Measure, seconds};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{
    Expr, ExprKind, Names, Range, Type, Value, evaluate, quantity,
};
use waltron_core::text::name::Name;

/// Most injections that are gone through.
const MOST_INJECTIONS: usize = 20_000;

/// Most statements that are gone through.
const MOST_STEPS: usize = 500_000;

/// Time that a reading takes if it is not said, in s.
pub(super) const READ_S: f64 = 0.2;

/// What a sequence was seen to do.
#[derive(Clone, Debug, Default)]
pub(super) struct Foreseen {
    pub(super) planned: Vec<Planned>,
    pub(super) owners: Owners,
    /// Why it may not be run.
    pub(super) problems: Vec<Problem>,
    /// What should be thought of before it is run.
    pub(super) warnings: Vec<Problem>,
    /// What is read off ramps, as it comes where each contact changes in the middle of what is allowed.
    pub(super) findings: Vec<Finding>,
}

/// Goes through a script.
pub(super) fn foresee(script: &Script, context: &Arc<Context>) -> Foreseen {
    let mut walk = Walk {
        sequences: script.sequences.iter().map(|s| (&s.name, s)).collect(),
        planned: Vec::new(),
        owners: Owners::new(),
        ids: HashMap::new(),
        guards: Vec::new(),
        is_certain: true,
        counts: true,
        capture: false,
        shots: 0,
        steps: 0,
        labels: Labels::default(),
        given: HashMap::new(),
        warnings: Vec::new(),
        ramps: HashMap::new(),
        findings: Vec::new(),
    };
    // Labels are given twice, so that the first step of a name is known before.
    let mut problems = Vec::new();
    for round in 0..2 {
        walk.begin();
        let mut scene = Scene::new(Arc::clone(context), Mode::Bounds);
        problems.clear();
        if let Err(problem) = walk.block(&script.body, true, &mut scene) {
            problems.push(problem);
            break;
        }
        let mut scene = Scene::new(Arc::clone(context), Mode::Bounds);
        walk.is_certain = true;
        if let Err(problem) = walk.block(&script.finally, true, &mut scene) {
            problems.push(problem);
            break;
        }
        let owned = walk.owners.len();
        if round == 0 && owned == walk.ids.len() {
            // Every label has one step: a second time would change nothing.
            break;
        }
    }
    walk.first_are_certain();
    let Walk { planned, owners, warnings, findings, .. } = walk;
    Foreseen { planned, owners, problems, warnings, findings }
}

/// How a course goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Flow {
    On,
    /// The sequence has ended for certain.
    Over,
}

type Walked = Result<Flow, Problem>;

/// A guard that is on, with all that may be known when it fires.
struct Watched<'a> {
    guard: &'a Guard,
    condition: Condition,
    depth: Depth,
    scene: Option<Scene>,
}

struct Walk<'a> {
    warnings: Vec<Problem>,
    sequences: HashMap<&'a Name, &'a Sequence>,
    planned: Vec<Planned>,
    owners: Owners,
    /// The step that gave each id.
    ids: HashMap<String, usize>,
    guards: Vec<Watched<'a>>,
    /// Whether what comes next is done in any case, if nothing ends the sequence before.
    is_certain: bool,
    /// Whether its time counts: one round of a loop of which nobody knows how often it is done.
    counts: bool,
    capture: bool,
    shots: u64,
    steps: usize,
    labels: Labels,
    /// For each step and name, where its points stand, and how many of them there are in any case.
    given: HashMap<(usize, String), (Vec<usize>, usize)>,
    /// The last ramp of each kind and label.
    ramps: HashMap<String, (Part, Segment)>,
    findings: Vec<Finding>,
}

impl<'a> Walk<'a> {
    /// How often a step grades is counted, so the first of its points are the certain ones, whichever
    /// round it is that grades them.
    fn first_are_certain(&mut self) {
        for (places, certain) in self.given.values() {
            for (number, place) in places.iter().enumerate() {
                let points = self.planned.get_mut(*place).map(|p| p.points.as_mut_slice());
                for point in points.unwrap_or_default() {
                    point.conditional = number >= *certain;
                }
            }
        }
    }

    fn begin(&mut self) {
        self.given.clear();
        self.planned.clear();
        self.ids.clear();
        self.guards.clear();
        self.ramps.clear();
        self.findings.clear();
        self.labels = Labels::default();
        (self.is_certain, self.counts, self.shots, self.steps) = (true, true, 0, 0);
    }

    /// Goes through a block; `last`: nothing comes after it.
    fn block(&mut self, steps: &'a [Step], last: bool, scene: &mut Scene) -> Walked {
        let guards = self.guards.len();
        let depth = scene.names.depth();
        scene.names.enter(false);
        let mut flow = Flow::On;
        for (index, step) in steps.iter().enumerate() {
            let next = steps.get(index + 1);
            let off = next.map_or(last, |n| matches!(n.what, Statement::Off));
            flow = self.step(step, off, last && next.is_none(), scene)?;
            if flow == Flow::Over {
                break;
            }
        }
        self.guards_off(guards)?;
        scene.names.back_to(depth);
        Ok(flow)
    }

    /// Ends guards: what they do is gone through with all that may be known when they fire.
    fn guards_off(&mut self, left: usize) -> Result<(), Problem> {
        while self.guards.len() > left {
            let Some(watched) = self.guards.pop() else { return Ok(()) };
            let Some(mut scene) = watched.scene else { continue };
            let outer = std::mem::take(&mut self.guards);
            let certain = std::mem::replace(&mut self.is_certain, false);
            scene.names.back_to(watched.depth);
            scene.out = Out::off();
            self.block(&watched.guard.body, false, &mut scene)?;
            self.is_certain = certain;
            self.guards = outer;
        }
        Ok(())
    }

    fn too_much(&mut self, step: &Step) -> Result<(), Problem> {
        self.steps += 1;
        let many = |what: String| {
            Problem::new(step.span.0.clone(), format!("this sequence makes more than {what}"))
                .help("split it into several tests, or bound its loops")
        };
        if self.steps > MOST_STEPS {
            return Err(many(format!("{MOST_STEPS} steps")));
        }
        if self.planned.len() > MOST_INJECTIONS {
            return Err(many(format!("{MOST_INJECTIONS} injections")));
        }
        Ok(())
    }

    fn step(&mut self, step: &'a Step, off: bool, last: bool, scene: &mut Scene) -> Walked {
        self.too_much(step)?;
        match &step.what {
            Statement::Let { name, new, value } => {
                scene.stimuli.note_let(name.as_str(), value);
                let value = evaluate(value, scene)?;
                if *new || !scene.names.assign(name.as_str(), value.clone()) {
                    scene.names.define(name.as_str(), value);
                }
            }
            Statement::Hold(_) | Statement::Ramp(_) | Statement::Playback(_) if off => {
                return self.inject(&[&then_off(step)], false, scene);
            }
            Statement::Hold(_)
            | Statement::Ramp(_)
            | Statement::Fault(_)
            | Statement::Playback(_)
            | Statement::Wait(_) => return self.inject(&[step], false, scene),
            Statement::Play(steps) => {
                let mut all = steps.clone();
                if let Some(last) = all.last_mut().filter(|_| off) {
                    *last = then_off(last);
                }
                return self.inject(&all.iter().collect::<Vec<_>>(), true, scene);
            }
            Statement::Off => scene.out = Out::off(),
            Statement::Repeat(repeat) => return self.repeat(repeat, step, scene),
            Statement::For(repeat) => return self.for_each(repeat, step, scene),
            Statement::If(branches) => return self.branches(branches, last, scene),
            Statement::Guard(guard) => {
                let condition = condition(&guard.condition, &scene.context, scene)?;
                let depth = scene.names.depth();
                self.guards.push(Watched { guard, condition, depth, scene: None });
            }
            Statement::Ask(ask) => {
                let is_exact = is_known_text(&ask.text, scene)?;
                let question = question(ask, scene)?;
                self.also(Also::Asks { question, is_exact });
                match &ask.wanted {
                    AskWanted::Confirm => {}
                    AskWanted::Choice(name, ..) => {
                        scene.names.define(name.as_str(), Value::Unknown(Type::Text));
                    }
                    AskWanted::Value { name, kind, between, default } => {
                        let value = match (kind, between) {
                            (Type::Quantity(dimension), Some((low, high))) => {
                                let (low, high) = (
                                    needed(low, *dimension, scene)?,
                                    needed(high, *dimension, scene)?,
                                );
                                if low > high {
                                    let message = "the least answer is above the largest one";
                                    return Err(Problem::new(step.span.0.clone(), message));
                                }
                                Value::Range(Range { low, high, dimension: *dimension })
                            }
                            (kind, _) => Value::later(kind.clone()),
                        };
                        if let (Some(default), Some(range)) = (default, value.range())
                            && let Some(q) = quantity(default, range.dimension, scene)?
                            && !(range.low..=range.high).contains(&q.si)
                        {
                            let message = format!("the default {q} is no answer that is allowed");
                            return Err(Problem::new(default.span.clone(), message));
                        }
                        scene.names.define(name.as_str(), value);
                    }
                }
            }
            Statement::Tell(text) => {
                evaluate(text, scene)?;
            }
            Statement::Send { text, to, name, .. } => {
                let text = evaluate(text, scene)?.to_string();
                self.also(Also::Sends { to: to.clone(), text });
                self.reply(name.as_ref(), scene);
            }
            Statement::Execute { program, args, most, name } => {
                let program = evaluate(program, scene)?.to_string();
                for arg in args {
                    evaluate(arg, scene)?;
                }
                time(most, scene)?;
                self.also(Also::Runs { program });
                self.reply(name.as_ref(), scene);
            }
            Statement::Read { name, value, over } => {
                return self.read(name, value, over.as_ref(), scene);
            }
            Statement::Set { parameter, value, at } => {
                parameter_value(parameter, value, &at.0, scene)?;
                let parameter = parameter.clone();
                let also = match value {
                    SetValue::Switch(on) => Also::Switches { parameter, on: *on },
                    SetValue::Value(expr) => {
                        let to = settable(&evaluate(expr, scene)?, &parameter, scene);
                        Also::Sets { parameter, to }
                    }
                };
                self.also(also);
            }
            Statement::Expect(expect) => self.expect(expect, step, scene)?,
            Statement::Capture { .. } => self.capture = true,
            Statement::Stop(ending) => {
                if let Ending::Fail(text) = ending {
                    evaluate(text, scene)?;
                }
                return Ok(Flow::Over);
            }
            Statement::Call { name, args } => return self.call(name, args, scene),
        }
        Ok(Flow::On)
    }

    fn reply(&mut self, name: Option<&Name>, scene: &mut Scene) {
        if let Some(name) = name {
            scene.names.define(name.as_str(), Value::Unknown(Type::Text));
        }
    }

    fn call(&mut self, name: &Name, args: &[Expr], scene: &mut Scene) -> Walked {
        let Some(sequence) = self.sequences.get(name).copied() else { return Ok(Flow::On) };
        let mut frame = HashMap::new();
        for ((parameter, _), arg) in sequence.parameters.iter().zip(args) {
            frame.insert(parameter.to_string(), evaluate(arg, scene)?);
        }
        scene.names.call(frame);
        let flow = self.block(&sequence.body, false, scene)?;
        scene.names.end_call();
        Ok(flow)
    }

    /// Both courses where a condition cannot be told.
    fn branches(
        &mut self,
        branches: &'a [(Option<Expr>, Vec<Step>)],
        last: bool,
        scene: &mut Scene,
    ) -> Walked {
        let certain = self.is_certain;
        let mut behind: Option<Scene> = None;
        let mut join = |scene: Scene| {
            behind = Some(match behind.take() {
                Some(known) => known.joined(&scene),
                None => scene,
            });
        };
        let (mut past, mut none_taken) = (true, false);
        for (condition, body) in branches {
            let truth = match condition {
                Some(condition) => truth(condition, scene)?,
                None => Truth { holds: Some(true), is_sure: true },
            };
            // Where a value is missing, none of the branches is taken.
            none_taken |= !truth.is_sure;
            self.is_certain &= truth.is_sure;
            if truth.holds != Some(false) {
                let mut taken = scene.clone();
                let certain = self.is_certain;
                if self.block(body, last, &mut taken)? == Flow::On {
                    join(taken);
                }
                self.is_certain = certain;
            }
            if truth.holds == Some(true) {
                past = false;
                break;
            }
        }
        if past || none_taken {
            join(scene.clone());
        }
        // Behind it, things are as certain as before: where a course ended it all, what comes next
        // was not reached.
        self.is_certain = certain;
        match behind {
            Some(joined) => {
                *scene = joined;
                Ok(Flow::On)
            }
            None => Ok(Flow::Over),
        }
    }

    fn also(&mut self, also: Also) {
        if self.planned.last().is_none_or(|last| !last.points.is_empty()) {
            self.planned.push(nothing());
        }
        if let Some(last) = self.planned.last_mut() {
            also.join(&mut last.also);
        }
    }

    fn expect(&mut self, expect: &'a Expect, step: &Step, scene: &Scene) -> Result<(), Problem> {
        let mut owners = std::mem::take(&mut self.owners);
        let point = self.labels.point(expect, step, scene, &mut owners);
        self.owners = owners;
        let point = point?;
        if let Some(other) = self.ids.insert(point.id.clone(), step.span.0.start)
            && other != step.span.0.start
        {
            let message = format!("two points would be called `{}`", point.id);
            return Err(Problem::new(step.span.0.clone(), message).help("choose another name"));
        }
        let conditional = !self.is_certain || point.id.contains('…');
        let name = match point.id.rsplit_once('#') {
            Some((name, round)) if round.parse::<u32>().is_ok() => name,
            _ => point.id.as_str(),
        };
        let key = (step.span.0.start, name.to_owned());
        let grade = grade(expect, scene, point)?;
        self.findings.extend(self.off_a_ramp(expect, &grade, scene));
        if let Some(warning) = rival(expect, scene)
            && self.warnings.iter().all(|known| known.span != warning.span)
        {
            self.warnings.push(warning);
        }
        // Further points of the same injection need no line of their own.
        if self.planned.last().is_none_or(|last| !last.points.is_empty()) {
            self.planned.push(nothing());
        }
        let (places, certain) = self.given.entry(key).or_default();
        places.push(self.planned.len().saturating_sub(1));
        *certain += usize::from(!conditional);
        if let Some(last) = self.planned.last_mut() {
            last.stimulus = grade.stimulus;
            last.expected = grade.expected;
            last.limits = grade.limits;
            last.points.push(PlannedPoint {
                point: grade.point,
                criterion: grade.criterion,
                conditional,
            });
        }
        Ok(())
    }

    /// What a ramp's value comes to that is required as it is, where the contact changes in the middle of what is allowed.
    fn off_a_ramp(&self, expect: &Expect, grade: &Finding, scene: &Scene) -> Option<Finding> {
        let (Requirement::Is(value, ..) | Requirement::Between(value, ..)) = &expect.what else {
            return None;
        };
        let ExprKind::Name(name) = &value.kind else { return None };
        let (part, segment) = self.ramps.get(name.as_str().strip_suffix(".value")?)?;
        let Limits::Between { lower: Some(lower), upper: Some(upper) } = &grade.limits else {
            return None;
        };
        let middle = f64::midpoint(lower.si(), upper.si());
        let measured = part.foreseen(segment, middle, &scene.context)?;
        let mut scene = scene.clone();
        scene.results.insert(name.to_string(), Value::Measured(measured));
        super::expectation::grade(expect, &scene, grade.point.clone()).ok()
    }

    fn guard_conditions(&self) -> Vec<Condition> {
        self.guards.iter().map(|w| w.condition.clone()).collect()
    }

    fn inject(&mut self, steps: &[&Step], together: bool, scene: &mut Scene) -> Walked {
        let guards = self.guard_conditions();
        let built = build(steps, together, &guards, scene, self.shots)?;
        if built.program.segments.is_empty() {
            return Ok(Flow::On);
        }
        for step in steps {
            let ending = step.what.output().and_then(|(_, until)| until.otherwise.as_ref());
            if let Some(Ending::Fail(text)) = ending {
                evaluate(text, scene)?;
            }
        }
        self.put_out(&built, scene);
        if !built.only_waits() {
            scene.last = Last::Injection(Injection {
                program: Arc::new(built.program.clone()),
                observation: None,
                swept: built.swept(),
                fault: built.fault,
                is_exact: built.is_exact,
            });
        }
        scene.stimuli.note(&built);
        for part in &built.parts {
            let owners = part.owners();
            scene.result(&owners, "reached", Value::Unknown(Type::Bool));
            let segment = built.program.segments.get(part.segment);
            let longest = segment.and_then(|s| s.longest()).map_or(f64::INFINITY, Measure::si);
            let time = Range { low: 0.0, high: longest, dimension: Dimension::TIME };
            scene.result(&owners, "time", Value::Range(time));
            if let (Some(segment), Some(_)) = (segment, &part.ramp) {
                let owners = owners.iter().map(|owner| (*owner).to_owned());
                self.ramps.extend(owners.map(|owner| (owner, (part.clone(), segment.clone()))));
            }
            if let Some(ramp) = &part.ramp {
                let (low, high) = (ramp.from.min(ramp.to), ramp.from.max(ramp.to));
                let dimension = ramp.dimension;
                scene.result(&owners, "value", Value::Range(Range { low, high, dimension }));
                let timing = scene.context.capability.timing_resolution;
                if let Some(resolution) = part.resolution(&built.program, timing) {
                    scene.result(&owners, "resolution", resolution.into());
                }
            }
        }
        scene.out = built.leaves();
        Ok(Flow::On)
    }

    /// Notes an injection, and what may be known where a guard stops it.
    fn put_out(&mut self, built: &Built, scene: &mut Scene) {
        self.shots += 1;
        let program = &built.program;
        let longest = program.longest().unwrap_or_default();
        let likely = match (built.fault, likely_fault(built, scene)) {
            (Some(index), Some(expected)) => {
                let fault = program.segments[index].longest().unwrap_or_default();
                longest - fault + expected
            }
            _ => longest,
        };
        let place =
            built.parts.first().map(|part| format!("line {}", scene.context.line(part.span.start)));
        let mut program = program.clone();
        if std::mem::take(&mut self.capture) {
            program.capture = Some("capture".into());
        }
        self.planned.push(Planned {
            program: program.into(),
            likely: if self.counts { likely } else { seconds(0.0) },
            place,
            is_exact: built.is_exact,
            ..nothing()
        });
        for watched in &mut self.guards {
            // The guard fires at some time while it is out.
            watched.scene = Some(match watched.scene.take() {
                Some(known) => known.joined(scene),
                None => scene.clone(),
            });
        }
        // What follows from a value that is missing is not put out at all.
        let shortest = if built.is_exact { built.program.shortest().si() } else { 0.0 };
        let longest = longest.si();
        scene.elapsed = (scene.elapsed.0 + shortest, scene.elapsed.1 + longest);
    }

    fn read(
        &mut self,
        name: &Name,
        value: &Expr,
        over: Option<&Expr>,
        scene: &mut Scene,
    ) -> Walked {
        let length = match over {
            Some(expr) => time(expr, scene)?,
            None => seconds(READ_S),
        };
        let probes = scene.context.probes(value)?;
        let built = measure(length, probes, &self.guard_conditions(), scene);
        self.put_out(&built, scene);
        let known = built.program.reads.iter().map(|probe| {
            let bounds = scene.context.bounds_of(probe);
            (probe.to_string(), bounds)
        });
        scene.readings = Some(known.collect());
        let worth = evaluate(value, scene);
        scene.readings = None;
        let now = of_last(scene);
        scene.stimuli.note_read(name.as_str(), now);
        scene.names.note_read(name.as_str(), worth?);
        Ok(Flow::On)
    }
}
