//! Tests of a wing played on its simulated specimens, from text to findings.

use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::clearance::clear;
use waltron_core::grading::{Finding, Verdict};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Finish, Program};
use waltron_core::plan::{Plan, PlanForm};
use waltron_core::procedure::{Action, Answer, Bench, Procedure, Question};
use waltron_core::text::document::{DocumentError, Source};
use waltron_core::wing::Wings;
use waltron_rig::attendant::Unattended;
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

/// A rig with a specimen on it, as it is left by one test for the next.
pub struct Played {
    wings: Wings,
    rig: Capability,
    machine: VirtualRig,
    /// What was asked, in order.
    pub asked: Vec<Question>,
}

impl Played {
    /// A virtual rig with a specimen.
    pub fn new(wings: Wings, rig: &str, specimen: &str, seed: u64) -> Self {
        let rig = capability(rig);
        let source = Source::new("specimen", specimen);
        let mut specimen = SpecimenForm::load(&source, seed).unwrap_or_else(|e| panic!("{e:?}"));
        specimen.connect(&rig).unwrap();
        let machine = VirtualRig::new("bench".into(), rig.clone(), specimen, Pace::Fast);
        Self { wings, rig, machine, asked: Vec::new() }
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
        self.run(asset, procedure, answer)
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
        loop {
            match procedure.next() {
                Action::Inject(program) => {
                    // Nothing comes that was not told before.
                    for (channel, most, _) in program.maxima() {
                        let told = planned.iter().flat_map(|p| p.program.maxima());
                        let told = told.filter(|(id, ..)| *id == channel).map(|(_, v, _)| v);
                        let told = told.fold(0.0, f64::max);
                        assert!(told >= most * (1.0 - 1e-9), "{channel} {most}");
                    }
                    let cleared = clear(program.clone(), &asset.ratings, &self.rig);
                    let cleared = cleared.unwrap_or_else(|e| panic!("{e:?}"));
                    let observation = self.machine.play(&cleared, &mut Unattended).unwrap();
                    // Off, unless it says that it stays on; and then by the end.
                    assert!(program.finish == Finish::Keep || !self.machine.is_energised());
                    found.extend(procedure.observe(&observation));
                    seen.push((program, observation));
                }
                Action::Ask(question) => {
                    procedure.answer(answer(&question));
                    self.asked.push(question);
                }
                Action::Conclude(more) => found.extend(more),
                Action::Off => self.machine.off().unwrap(),
                Action::Done => break,
                other => panic!("{other:?}"),
            }
        }
        assert!(!self.machine.is_energised(), "it ends with outputs on");
        (found, seen)
    }
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
