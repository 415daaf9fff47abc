//! Tests of a wing played on its simulated specimens, from text to findings.

use crate::shown::shows_all;
use std::collections::{HashMap, HashSet};
use std::convert::Infallible;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::clearance::clear;
use waltron_core::clearance::duty::Warm;
use waltron_core::grading::{Finding, Grade, Rule, Verdict};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Finish, Program};
use waltron_core::plan::{Plan, PlanForm};
use waltron_core::procedure::{Action, Answer, Bench, Procedure, Question, Served};
use waltron_core::quantity::{Angle, Dimension};
use waltron_core::record::again::Again;
use waltron_core::record::{Chain, Event, Line};
use waltron_core::section::Chart;
use waltron_core::text::document::{DocumentError, Source};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Accuracy;
use waltron_core::wing::{Told, Wings};
use waltron_rig::attendant::{Attendant, Unattended};
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Rig, RigForm};
use waltron_specimen::SpecimenForm;

/// Reads an asset, or fails with what is wrong with it.
pub fn asset(wings: Wings, text: &str) -> Asset {
    wings.asset(&Source::new("asset", text)).unwrap_or_else(|e| panic!("{e:?}\n{text}"))
}

/// What a rig's file says that it can do.
pub fn capability(text: &str) -> Capability {
    RigForm::load(&Source::new("rig", text)).unwrap_or_else(|e| panic!("{e:?}")).capability
}

/// A plan of one test, called `t`.
pub fn plan(wings: Wings, asset: &Asset, test: &str) -> Plan {
    read_plan(wings, asset, test).unwrap_or_else(|e| panic!("{e:?}"))
}

/// Why such a plan is refused, all problems in one line.
pub fn plan_refused(wings: Wings, asset: &Asset, test: &str) -> String {
    let error = read_plan(wings, asset, test).expect_err("a refusal");
    let words = error.problems.iter().map(|p| p.message.clone());
    words.collect::<Vec<_>>().join("; ")
}

fn read_plan(wings: Wings, asset: &Asset, test: &str) -> Result<Plan, DocumentError> {
    let text = format!("[plan]\ntitle = \"t\"\nasset = \"a\"\n[[test]]\nid = \"t\"\n{test}");
    let source = Source::new("plan", text.as_str());
    PlanForm::load(&source, wings).and_then(|p| p.resolve(&source, asset))
}

/// What was put out and seen.
pub type Seen = Vec<(Arc<Program>, Observation)>;

/// Nobody is there, but for one who sets marks.
struct Marking(bool);

impl Attendant for Marking {
    fn ask(&mut self, question: &Question) -> Answer {
        question.default_answer().unwrap_or(Answer::Stop)
    }

    fn mark(&mut self) -> bool {
        self.0
    }

    fn wants_to_stop(&self) -> bool {
        false
    }
}

/// A rig that puts out and measures without any error.
fn exact(mut rig: Capability) -> Capability {
    for channel in &mut rig.currents {
        (channel.accuracy, channel.angle_accuracy) =
            (Accuracy::exact(Dimension::CURRENT), Angle::default());
    }
    for channel in &mut rig.voltages {
        (channel.accuracy, channel.angle_accuracy) =
            (Accuracy::exact(Dimension::VOLTAGE), Angle::default());
    }
    for meter in &mut rig.meters {
        (meter.accuracy, meter.angle_accuracy) =
            (Accuracy::exact(meter.dimension), Angle::default());
    }
    for reading in &mut rig.readings {
        reading.accuracy = reading.accuracy.map(|_| Accuracy::exact(reading.dimension));
    }
    rig.timing_accuracy = Accuracy::exact(Dimension::TIME);
    rig
}

/// A rig with a specimen on it, as it is left by one test for the next.
pub struct Played {
    wings: Wings,
    rig: Capability,
    machine: VirtualRig,
    /// What was asked, in order.
    pub asked: Vec<Question>,
    /// Whether somebody sets the mark at once wherever one is waited for.
    pub marks: bool,
    /// What a record would hold of the last test.
    events: Vec<Event>,
}

impl Played {
    /// A virtual rig with a specimen; the seed says what the rig is off by, and how the specimen scatters.
    pub fn new(wings: Wings, rig: &str, specimen: &str, seed: u64) -> Self {
        Self::on(capability(rig), wings, specimen, seed)
    }

    /// The same on a rig without any error, and so without any uncertainty of its own.
    pub fn exact(wings: Wings, rig: &str, specimen: &str, seed: u64) -> Self {
        Self::on(exact(capability(rig)), wings, specimen, seed)
    }

    fn on(rig: Capability, wings: Wings, specimen: &str, seed: u64) -> Self {
        let source = Source::new("specimen", specimen);
        let mut specimen = SpecimenForm::load(&source, seed).unwrap_or_else(|e| panic!("{e:?}"));
        specimen.connect(&rig).unwrap();
        let machine = VirtualRig::new("bench".into(), rig.clone(), specimen, Pace::Fast);
        let machine = machine.seeded(seed);
        Self { wings, rig, machine, asked: Vec::new(), marks: false, events: Vec::new() }
    }

    /// What a test finds, with what it did; somebody answers what is asked.
    pub fn play(
        &mut self,
        asset: &Asset,
        test: &str,
        answer: &dyn Fn(&Question) -> Answer,
    ) -> (Vec<Finding>, Seen) {
        let plan = plan(self.wings, asset, test);
        let bench = Bench { asset, capability: &self.rig };
        let procedure = plan.tests[0].procedure(bench).unwrap().expect("no sequence");
        self.events.clear();
        let (found, seen) = self.run(asset, procedure, answer);
        self.is_graded_again(asset, &plan, &found);
        shows_all(&self.charts(asset, &found));
        (found, seen)
    }

    /// Why a test cannot be set up.
    pub fn refused(&self, asset: &Asset, test: &str) -> String {
        let plan = plan(self.wings, asset, test);
        let bench = Bench { asset, capability: &self.rig };
        plan.tests[0].procedure(bench).err().expect("a refusal").to_string()
    }

    /// Grades again, under a rule, what a record of another rule holds.
    fn again(
        &self,
        asset: &Asset,
        plan: &Plan,
        [then, now]: [Rule; 2],
        with_samples: bool,
    ) -> Vec<Grade> {
        let scripts = HashMap::<Name, Infallible>::new();
        let bench = Bench { asset, capability: &self.rig };
        let plan = Plan { rule: now, ..plan.clone() };
        let mut again = Again::new(&plan, bench, &scripts);
        for event in &self.events {
            let event = match event {
                Event::Graded(grade) => &Event::Graded(Finding::of(grade.clone()).graded(then)),
                other => other,
            };
            let line = Chain::default().line("now", event).unwrap();
            let mut read = Line::read(line.as_bytes()).unwrap().event;
            if let (Event::Observed { observation, .. }, Event::Observed { observation: kept, .. }) =
                (&mut read, event)
                && with_samples
            {
                observation.captures.clone_from(&kept.captures);
            }
            again.take(read);
        }
        again.finish()
    }

    /// Graded again from what a record holds of it, by what it was tested with, everything stays as it was,
    /// whatever the rule was then and is now.
    fn is_graded_again(&self, asset: &Asset, plan: &Plan, found: &[Finding]) {
        let (simple, guarded) = (Rule::Simple, Rule::Guarded);
        for rules in [[guarded, simple], [simple, guarded]] {
            let again = self.again(asset, plan, rules, true);
            let mut last: HashMap<&str, &Finding> = HashMap::new();
            last.extend(found.iter().map(|finding| (finding.point.id.as_str(), finding)));
            for grade in &again {
                let was = last.remove(grade.point.id.as_str()).expect("a point of the run");
                is_same(&was.clone().graded(rules[1]), grade);
            }
            assert!(last.is_empty(), "not graded again: {:?}", last.keys());
        }
        // Without the samples that stood beside the record nothing is told that was not.
        if self.events.iter().any(has_samples) {
            for lost in self.again(asset, plan, [simple, simple], false) {
                let was = found.iter().rfind(|finding| finding.point.id == lost.point.id);
                let is_open = matches!(lost.verdict, Verdict::Inconclusive | Verdict::NotTested);
                assert!(is_open || was.is_some_and(|was| was.verdict == lost.verdict), "{lost:?}");
            }
        }
    }

    /// Charts of what the last test found.
    pub fn charts(&self, asset: &Asset, found: &[Finding]) -> Vec<Chart> {
        let served = self.events.iter().filter_map(|event| match event {
            Event::Observed { points, program, observation, .. } => Some(Served {
                points: points.clone(),
                program: Arc::clone(program),
                observation: observation.clone(),
            }),
            _ => None,
        });
        let served: Vec<Served> = served.collect();
        let mut points: Vec<Grade> = Vec::new();
        for grade in found.iter().map(|finding| finding.clone().graded(Rule::default())) {
            points.retain(|known| known.point.id != grade.point.id);
            points.push(grade);
        }
        let told = Told { points: &points, served: &served, earlier: None };
        self.wings.charts(asset, told)
    }

    /// The same of a procedure that is set up already.
    pub fn run(
        &mut self,
        asset: &Asset,
        mut procedure: Box<dyn Procedure>,
        answer: &dyn Fn(&Question) -> Answer,
    ) -> (Vec<Finding>, Seen) {
        let planned = procedure.planned();
        let (mut found, mut seen) = (Vec::new(), Vec::new());
        let test: Name = "t".into();
        let grade = |finding: &Finding| Event::Graded(finding.clone().graded(Rule::default()));
        loop {
            match procedure.next() {
                Action::Inject(program) => {
                    let points = procedure.injection().serves;
                    // Nothing comes that was not told before.
                    for (channel, most, _) in program.maxima() {
                        let told = planned.iter().flat_map(|p| p.program.maxima());
                        let told = told.filter(|(id, ..)| *id == channel).map(|(_, v, _)| v);
                        let told = told.fold(0.0, f64::max);
                        assert!(told >= most * (1.0 - 1e-9), "{channel} {most}");
                    }
                    let cleared = clear(
                        program.clone(),
                        &asset.ratings_at(program.connection.as_ref()),
                        &self.rig,
                    );
                    let cleared = cleared.unwrap_or_else(|e| panic!("{e:?}"));
                    let observation =
                        self.machine.play(&cleared, &mut Marking(self.marks)).unwrap();
                    // Off, unless it says that it stays on; and then by the end.
                    assert!(program.finish == Finish::Keep || !self.machine.is_energised());
                    let graded = procedure.observe(&observation);
                    self.events.push(Event::Observed {
                        test: test.clone(),
                        points,
                        program: Arc::clone(&program),
                        observation: observation.clone(),
                        warm: Warm::default(),
                    });
                    self.events.extend(graded.iter().map(grade));
                    found.extend(graded);
                    seen.push((program, observation));
                }
                Action::Ask(question) => {
                    let answer = answer(&question);
                    self.events.push(Event::Asked(question.clone()));
                    self.events.push(Event::Answered { answer: answer.clone() });
                    procedure.answer(answer);
                    self.asked.push(question);
                }
                Action::Conclude(more) => {
                    self.events.extend(more.iter().map(grade));
                    found.extend(more);
                }
                Action::Off => {
                    self.machine.off().unwrap();
                    self.machine.discharge(&mut Unattended).unwrap();
                }
                Action::Earth(_) => {}
                Action::Done => break,
                other => panic!("{other:?}"),
            }
        }
        assert!(!self.machine.is_energised(), "it ends with outputs on");
        // What is graded was told before.
        let told: HashSet<&str> =
            planned.iter().flat_map(|p| &p.points).map(|p| p.point.id.as_str()).collect();
        let news = found.iter().map(|f| f.point.id.as_str()).filter(|id| !told.contains(id));
        let news: Vec<&str> = news.collect();
        assert!(news.is_empty(), "not told before: {news:?}");
        self.events.push(Event::TestEnded { test, skipped: false });
        (found, seen)
    }
}

/// Whether waveforms were kept beside what a record holds.
fn has_samples(event: &Event) -> bool {
    matches!(event, Event::Observed { observation, .. } if !observation.captures.is_empty())
}

/// Fails where a grade tells something else than another one of the same point.
fn is_same(was: &Grade, again: &Grade) {
    let id = &was.point.id;
    let (one, other) = ((was.verdict, &was.reason), (again.verdict, &again.reason));
    assert_eq!(one, other, "{id} graded again");
    let of = |grade: &Grade| -> Vec<(String, f64)> {
        let all = grade.measured.iter().chain(grade.uncertainty.iter());
        all.map(|(name, value)| (name.to_owned(), value.si())).collect()
    };
    let (values, again) = (of(was), of(again));
    // A record holds twelve digits, and what follows from differences fewer; an angle is one around nothing.
    let of_angle = |name: &str| if name.contains("angle") { 1e-9 } else { 0.0 };
    let is_near = |(a, b): (&(String, f64), &(String, f64))| {
        a.0 == b.0 && (a.1 - b.1).abs() <= 1e-5 * a.1.abs() + of_angle(&a.0)
    };
    let is_same = values.len() == again.len() && values.iter().zip(&again).all(is_near);
    assert!(is_same, "{id}: {values:?} again {again:?}");
}

/// The finding of a point of the test `t`.
pub fn of<'f>(found: &'f [Finding], what: &str) -> &'f Finding {
    let id = format!("t/{what}");
    found.iter().find(|f| f.point.id == id).unwrap_or_else(|| {
        let ids: Vec<&str> = found.iter().map(|f| f.point.id.as_str()).collect();
        panic!("no point {id} among {ids:?}")
    })
}

/// The points that fail, or prove nothing.
pub fn failed(found: &[Finding]) -> Vec<&str> {
    let bad = |f: &&Finding| matches!(f.verdict, Verdict::Fail | Verdict::Inconclusive);
    found.iter().filter(bad).map(|f| f.point.id.trim_start_matches("t/")).collect()
}
