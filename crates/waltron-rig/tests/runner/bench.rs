//! A bench of paper: a procedure that does as its list says, a rig that lasts as long as it is told, a person with
//! answers at hand; and one transcript of all that happens, in its order.

use std::cell::RefCell;
use std::collections::{HashMap, VecDeque};
use std::rc::Rc;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::clearance::Cleared;
use waltron_core::grading::{Criterion, Finding, Judgement, Limits, PointId, Values, Verdict};
use waltron_core::injection::capability::{Capability, Channel, Input, ParameterValue};
use waltron_core::injection::observation::{Discharged, Ended, Observation, Span};
use waltron_core::injection::program::{Finish, Program, Segment};
use waltron_core::injection::stimulus::{Dc, Drive, Stimulus};
use waltron_core::plan::{Plan, PlanForm, Playable};
use waltron_core::procedure::{
    Action, Answer, Bench, Carried, Injection, Owed, Planned, PlannedPoint, Procedure, Question,
};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{
    Current, Frequency, Measure, Time, Voltage, amperes, degrees, seconds, text,
};
use waltron_core::record::{Event, Outcome};
use waltron_core::text::document::Source;
use waltron_core::text::name::Name;
use waltron_relay::AssetForm;
use waltron_rig::attendant::{Attendant, Moment, Wish};
use waltron_rig::runner::{Blocked, Finished, Prepared, RunError, SoFar, run, set_up};
use waltron_rig::{Rig, RigError};

const ASSET: &str = r#"
[asset]
kind = "relay"
tag = "X"
[ratings]
frequency = "50 Hz"
thermal = [{ current = "4 A" }, { current = "20 A", for = "2 s" }, { voltage = "6 kV" }]
"#;

pub(crate) type Log = Rc<RefCell<Vec<String>>>;

/// One thing that a scripted test does.
#[derive(Clone)]
pub(crate) enum Step {
    /// An injection, with the points that it grades.
    Inject(Program, Vec<(&'static str, Verdict)>),
    Ask(&'static str),
    Tell(&'static str),
    Off,
    /// Asks for something to be undone, which `restore` puts back.
    Undo(&'static str, &'static str),
    /// Grades a place at which something went wrong, or any point without an injection.
    Say(&'static str, Criterion, Verdict),
    /// Hands something on.
    Hand(&'static str, f64),
    Earth(Owed),
}

/// A test that does one thing after the other.
#[derive(Clone)]
pub(crate) struct Script {
    pub(crate) id: &'static str,
    pub(crate) steps: Vec<Step>,
    pub(crate) alone: bool,
}

struct Playing {
    script: Script,
    at: usize,
    /// What was undone and is not put back: the words for it.
    undone: Vec<&'static str>,
    handed: Carried,
    restores: bool,
    log: Log,
}

/// 50 Hz through one channel, or direct.
pub(crate) fn out(amps: f64, time: f64) -> Program {
    let drive = Drive::sine("ia".into(), phasor(amps), Frequency::from_si(50.0));
    let stimulus = Stimulus { currents: vec![drive], voltages: Vec::new() };
    Program::of(vec![Segment::hold("on", stimulus, seconds(time))])
}

pub(crate) fn direct(volts: f64, time: f64) -> Program {
    let mut drive = Drive::sine(
        "va".into(),
        Phasor::new(Voltage::from_si(0.0), degrees(0.0)),
        Frequency::from_si(50.0),
    );
    drive.dc = Some(Dc::constant(Voltage::from_si(volts)));
    let stimulus = Stimulus { currents: Vec::new(), voltages: vec![drive] };
    Program::of(vec![Segment::hold("on", stimulus, seconds(time))])
}

fn phasor(amps: f64) -> Phasor<Current> {
    Phasor::new(amperes(amps), degrees(0.0))
}

fn point(test: &str, id: &str) -> PointId {
    PointId { id: format!("{test}/{id}"), test: test.into(), element: None, fault_loop: None }
}

fn finding(test: &str, id: &str, criterion: Criterion, verdict: Verdict) -> Finding {
    let blank = Finding::not_tested(point(test, id), criterion, Values::none(), "");
    blank.judged(Judgement::new(verdict, "as scripted"))
}

impl Playing {
    fn find(&self, graded: &[(&'static str, Verdict)]) -> Vec<Finding> {
        let one = |(id, verdict): &(&str, Verdict)| {
            finding(self.script.id, id, Criterion::TRIP_TIME, *verdict)
        };
        graded.iter().map(one).collect()
    }
}

impl Procedure for Playing {
    fn planned(&self) -> Vec<Planned> {
        let each = self.script.steps.iter().filter_map(|step| match step {
            Step::Inject(program, graded) => Some((program, graded)),
            _ => None,
        });
        each.map(|(program, graded)| Planned {
            points: graded
                .iter()
                .map(|(id, _)| {
                    PlannedPoint::certain(point(self.script.id, id), Criterion::TRIP_TIME)
                })
                .collect(),
            stimulus: Values::none(),
            expected: Values::none(),
            limits: Limits::None,
            program: Arc::new(program.clone()),
            likely: program.segments.iter().filter_map(Segment::longest).sum(),
            place: None,
            not_tested: None,
            is_exact: true,
            also: Vec::new(),
        })
        .collect()
    }

    fn next(&mut self) -> Action {
        if self.restores {
            let Some(back) = self.undone.last().copied() else { return Action::Done };
            if back.starts_with("Earth") {
                // Whoever has it earthed answers for it from here on.
                self.undone.pop();
                return Action::Earth(owed(back));
            }
            return Action::Ask(Question::confirm(back));
        }
        match self.script.steps.get(self.at).cloned() {
            None => Action::Done,
            Some(Step::Inject(program, _)) => Action::Inject(Arc::new(program)),
            Some(Step::Ask(text)) => Action::Ask(Question::confirm(text)),
            Some(Step::Undo(text, back)) => {
                if !self.undone.contains(&back) {
                    self.undone.push(back);
                }
                Action::Ask(Question::confirm(text))
            }
            Some(other) => {
                self.at += 1;
                match other {
                    Step::Tell(text) => Action::Tell(text.to_owned()),
                    Step::Earth(owed) => Action::Earth(owed),
                    Step::Say(id, criterion, verdict) => {
                        Action::Conclude(vec![finding(self.script.id, id, criterion, verdict)])
                    }
                    Step::Hand(name, value) => {
                        self.handed.insert(name.to_owned(), value);
                        Action::Tell(format!("hands {name} on"))
                    }
                    _ => Action::Off,
                }
            }
        }
    }

    fn injection(&self) -> Injection {
        let serves = match self.script.steps.get(self.at) {
            Some(Step::Inject(_, graded)) => {
                graded.iter().map(|(id, _)| (*id).to_owned()).collect()
            }
            _ => Vec::new(),
        };
        Injection { point: None, part: format!("step {}", self.at), serves }
    }

    fn observe(&mut self, _: &Observation) -> Vec<Finding> {
        let Some(Step::Inject(_, graded)) = self.script.steps.get(self.at).cloned() else {
            return Vec::new();
        };
        self.at += 1;
        self.find(&graded)
    }

    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        self.log.borrow_mut().push(format!("refused: {reason}"));
        let Some(Step::Inject(_, graded)) = self.script.steps.get(self.at).cloned() else {
            return Vec::new();
        };
        self.at += 1;
        let graded: Vec<_> = graded.iter().map(|(id, _)| (*id, Verdict::NotTested)).collect();
        self.find(&graded)
    }

    fn answer(&mut self, _: Answer) {
        if self.restores {
            self.undone.pop();
        } else {
            self.at += 1;
        }
    }

    fn take_over(&mut self, carried: &Carried) {
        if !carried.is_empty() {
            self.log.borrow_mut().push(format!("{} takes over {carried:?}", self.script.id));
        }
    }

    fn hand_on(&self, carried: &mut Carried) {
        carried.extend(self.handed.clone());
    }

    fn owed(&self) -> Vec<Owed> {
        self.undone.iter().map(|back| owed(back)).collect()
    }

    fn restore(&mut self) {
        self.restores = true;
    }

    fn stands_alone(&self) -> bool {
        self.script.alone
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        if self.script.alone {
            let test = self.script.id;
            self.script.steps.retain(|step| match step {
                Step::Inject(_, graded) => graded.iter().any(|(id, _)| wanted(&point(test, id))),
                _ => true,
            });
        }
    }

    fn repeat(&mut self) {
        self.at = 0;
    }
}

/// What is owed for something undone; what is charged takes its time.
fn owed(back: &str) -> Owed {
    let wait = back.starts_with("Earth").then(|| seconds(8.0));
    Owed { wait, ..Owed::new(back) }
}

struct Sheet(Script, Log);

impl Playable for Sheet {
    fn begin(&self) -> Box<dyn Procedure> {
        Box::new(Playing {
            script: self.0.clone(),
            at: 0,
            undone: Vec::new(),
            handed: Carried::new(),
            restores: false,
            log: Rc::clone(&self.1),
        })
    }
}

/// The rig: every program lasts as long as it may; what it says of a discharge comes from a list.
pub(crate) struct Paper {
    pub(crate) capability: Capability,
    pub(crate) discharges: VecDeque<Result<Discharged, RigError>>,
    /// The injection, from 1, at which the line breaks.
    pub(crate) breaks_at: Option<usize>,
    /// What ending a test comes to.
    pub(crate) ends: Option<RigError>,
    played: usize,
    log: Log,
}

impl Rig for Paper {
    fn name(&self) -> String {
        "paper".into()
    }
    fn capability(&self) -> &Capability {
        &self.capability
    }
    fn play(
        &mut self,
        cleared: &Cleared,
        attendant: &mut dyn Attendant,
    ) -> Result<Observation, RigError> {
        let program = cleared.program();
        self.played += 1;
        let most: Vec<String> = program
            .maxima()
            .into_iter()
            .map(|(id, si, is_current)| {
                let value = if is_current { text(amperes(si)) } else { text(Voltage::from_si(si)) };
                format!("{id} {value}")
            })
            .collect();
        let aborted = attendant.wants_to_stop();
        let verb = if aborted { "does not play" } else { "plays" };
        self.log.borrow_mut().push(format!("{verb} {}", most.join(" ")));
        if self.breaks_at == Some(self.played) {
            let (address, why) = ("there".into(), "cut".into());
            return Err(RigError::Lost { address, why });
        }
        let mut start = seconds(0.0);
        let spans = program.segments.iter().map(|segment| {
            let end = start + segment.longest().unwrap_or_default();
            let ended = if aborted { Ended::Aborted } else { Ended::Finished };
            Span { start: std::mem::replace(&mut start, end), end, ended }
        });
        Ok(Observation {
            segments: spans.collect(),
            stays_on: program.finish == Finish::Keep && !aborted,
            discharge: None,
            ..Default::default()
        })
    }
    fn rest(&mut self, time: Time, _: &mut dyn Attendant) -> Result<(), RigError> {
        self.log.borrow_mut().push(format!("rests {}", text(time)));
        Ok(())
    }
    fn set(&mut self, parameter: &Name, _: ParameterValue) -> Result<(), RigError> {
        self.log.borrow_mut().push(format!("sets {parameter}"));
        Ok(())
    }
    fn off(&mut self) -> Result<(), RigError> {
        self.log.borrow_mut().push("off".into());
        Ok(())
    }
    fn end_test(&mut self) -> Result<(), RigError> {
        self.off()?;
        self.ends.clone().map_or(Ok(()), Err)
    }
    fn discharge(&mut self, _: &mut dyn Attendant) -> Result<Option<Discharged>, RigError> {
        self.discharges.pop_front().transpose()
    }
}

/// Answers by what a question begins with, and wishes for a moment each.
pub(crate) struct Person {
    pub(crate) answers: Vec<(&'static str, Answer)>,
    pub(crate) wishes: VecDeque<Wish>,
    /// Stops once so many lines stand in the transcript.
    pub(crate) stops_at: usize,
    log: Log,
}

impl Attendant for Person {
    fn ask(&mut self, question: &Question) -> Answer {
        self.log.borrow_mut().push(format!("asked: {}", question.text));
        let at = self.answers.iter().position(|(text, _)| question.text.starts_with(text));
        at.map_or(Answer::Confirmed, |at| self.answers.remove(at).1)
    }
    fn reason(&mut self) -> Option<String> {
        self.log.borrow_mut().push("asked why".into());
        Some("no time".into())
    }
    fn tell(&mut self, text: &str) {
        self.log.borrow_mut().push(format!("told: {text}"));
    }
    fn goes_off(&mut self) {
        self.log.borrow_mut().push("shown: off".into());
    }
    fn discharged(&mut self, after: Time) {
        self.log.borrow_mut().push(format!("shown: discharged after {}", text(after)));
    }
    fn wish(&mut self, _: &Moment<'_>) -> Wish {
        self.wishes.pop_front().unwrap_or(Wish::GoOn)
    }
    fn wants_to_stop(&self) -> bool {
        self.log.borrow().len() >= self.stops_at
    }
}

pub(crate) struct Stage {
    asset: Asset,
    pub(crate) rig: Paper,
    pub(crate) person: Person,
    pub(crate) so_far: SoFar,
    pub(crate) scripts: Vec<Script>,
    /// The event, from 1, that cannot be written any more.
    pub(crate) full_at: usize,
    log: Log,
    events: Rc<RefCell<Vec<Event>>>,
}

impl Stage {
    pub(crate) fn new(scripts: Vec<Script>) -> Self {
        let asset = AssetForm::load(&Source::new("a", ASSET)).unwrap();
        let accuracy = || Tolerance::<Current>::parse("0.1 %").unwrap();
        let volts = Channel::new(
            "va",
            Voltage::from_si(6000.0),
            Tolerance::<Voltage>::parse("1 %").unwrap(),
        );
        let input = Input { id: "BI1".into(), meaning: "trip".into(), debounce: seconds(0.0) };
        let capability = Capability {
            currents: vec![Channel::new("ia", amperes(30.0), accuracy())],
            voltages: vec![volts],
            inputs: vec![input],
            ..Capability::none()
        };
        let log = Log::default();
        let rig = Paper {
            capability,
            discharges: VecDeque::new(),
            breaks_at: None,
            ends: None,
            played: 0,
            log: Rc::clone(&log),
        };
        let person = Person {
            answers: Vec::new(),
            wishes: VecDeque::new(),
            stops_at: usize::MAX,
            log: Rc::clone(&log),
        };
        let so_far = SoFar::default();
        Self {
            asset,
            rig,
            person,
            so_far,
            scripts,
            full_at: usize::MAX,
            log,
            events: Rc::default(),
        }
    }

    fn set_up(&self) -> (Plan, Prepared) {
        let tests = self.scripts.iter().map(|script| {
            format!(
                "[[test]]\nid = \"{}\"\nprocedure = \"sequence\"\nscript = \"off\"\n",
                script.id
            )
        });
        let text =
            format!("[plan]\ntitle = \"t\"\nasset = \"a\"\n{}", tests.collect::<Vec<_>>().join(""));
        let source = Source::new("p", text.as_str());
        let plan = PlanForm::load(&source, waltron_relay::WINGS);
        let plan = plan.unwrap().resolve(&source, &self.asset).unwrap();
        let sheets: HashMap<Name, Sheet> = self
            .scripts
            .iter()
            .map(|script| (script.id.into(), Sheet(script.clone(), Rc::clone(&self.log))))
            .collect();
        let bench = Bench { asset: &self.asset, capability: &self.rig.capability };
        let prepared =
            set_up(&plan, bench, &sheets).unwrap_or_else(|_| panic!("it is a good plan"));
        (plan, prepared)
    }

    pub(crate) fn prepared(&self) -> Prepared {
        self.set_up().1
    }

    /// What may not be put out of it.
    pub(crate) fn refused(&self) -> Vec<Blocked> {
        let (plan, prepared) = self.set_up();
        prepared.refused(&plan, Bench { asset: &self.asset, capability: &self.rig.capability })
    }

    pub(crate) fn asset(&self) -> &Asset {
        &self.asset
    }

    /// All events so far.
    pub(crate) fn events(&self) -> Vec<Event> {
        self.events.borrow().clone()
    }

    /// Runs what is prepared; the transcript, and what came of it.
    pub(crate) fn run(&mut self, prepared: Prepared) -> (String, Result<Finished, RunError>) {
        let (log, full_at) = (Rc::clone(&self.log), self.full_at);
        let events = Rc::clone(&self.events);
        let mut count = 0;
        let mut sink = move |event: &Event| {
            count += 1;
            if count >= full_at {
                return Err("disk full".into());
            }
            events.borrow_mut().push(event.clone());
            let line = written(event);
            if !line.is_empty() {
                log.borrow_mut().push(line);
            }
            Ok(())
        };
        let so_far = self.so_far.clone();
        let done = run(prepared, &self.asset, &mut self.rig, &mut self.person, so_far, &mut sink);
        let lines = self.log.borrow();
        (lines.join("\n"), done)
    }

    /// The same of everything.
    pub(crate) fn play(&mut self) -> (String, Finished) {
        let (text, done) = self.run(self.prepared());
        (text, done.unwrap())
    }
}

/// What is written down of an event.
fn written(event: &Event) -> String {
    match event {
        Event::Begun(begun) => format!("written: begins {}", begun.points.join(" ")),
        Event::Observed { test, points, .. } => format!("written: {test} saw {}", points.join(" ")),
        Event::Graded(grade) => {
            let skipped = if grade.skipped { ", skipped" } else { "" };
            format!(
                "written: {} {} ({}{skipped}) {}",
                grade.point.id,
                grade.verdict.word(),
                grade.attempt,
                grade.reason
            )
        }
        Event::Rested { time } => format!("written: rested {}", text(*time)),
        Event::ToRestore { owed } => {
            let owed: Vec<String> = owed
                .iter()
                .map(|o| {
                    format!(
                        "{}{}",
                        o.text,
                        o.wait.map_or(String::new(), |t| format!(" ({})", text(t)))
                    )
                })
                .collect();
            format!("written: owed [{}]", owed.join("; "))
        }
        Event::HandedOn { carried } => format!("written: handed on {carried:?}"),
        Event::Discharged(left) => format!("written: discharged {}", left.is_done),
        Event::Repeated { test } => format!("written: {test} again"),
        Event::TestEnded { test, skipped } => {
            format!("written: {test} ended{}", if *skipped { ", skipped" } else { "" })
        }
        Event::RunEnded(ended) => {
            let outcome = match &ended.outcome {
                Outcome::Completed => "completed".to_owned(),
                Outcome::Stopped => "stopped".to_owned(),
                Outcome::RigTrouble(why) => format!("trouble: {why}"),
            };
            let owed: Vec<&str> = ended.owed.iter().map(|o| o.text.as_str()).collect();
            format!(
                "written: {outcome}, {} pass, {} fail, {} not reached, owed [{}]",
                ended.summary.pass,
                ended.summary.fail,
                ended.not_reached,
                owed.join("; ")
            )
        }
        // What is asked and told stands there already.
        _ => String::new(),
    }
}
