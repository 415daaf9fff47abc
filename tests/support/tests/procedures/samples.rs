//! The tests of the sample plans, and what they are played on.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock};
use waltron_breaker::BreakerWing;
use waltron_core::asset::Asset;
use waltron_core::clearance::clear;
use waltron_core::grading::Finding;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::plan::{Plan, PlanForm, Test};
use waltron_core::procedure::{Action, Answer, Bench, Procedure, Question, UNKNOWN, Wanted};
use waltron_core::text::document::Source;
use waltron_core::wing::Wings;
use waltron_relay::RelayWing;
use waltron_rig::attendant::Unattended;
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Rig, RigForm};
use waltron_specimen::SpecimenForm;
use waltron_transformer::TransformerWing;

pub(crate) const WINGS: Wings = Wings(&[&RelayWing, &TransformerWing, &BreakerWing]);

/// More than any of the samples takes.
pub(crate) const MOST_STEPS: usize = 20_000;

/// A test of a sample plan, with what it is played on.
pub(crate) struct Case {
    pub(crate) plan: PathBuf,
    pub(crate) test: Test,
    pub(crate) asset: Asset,
    pub(crate) rig: Capability,
    pub(crate) specimen: String,
}

/// The folders of the samples.
pub(crate) const FOLDERS: [&str; 2] = ["../../examples", "../../crates/waltron/demo"];

/// What no sample plan has: a sample plan whose asset and rig fit, and the test.
pub(crate) const MORE: &[(&str, &str)] = &[
    (
        "q01-ct.plan.toml",
        "procedure = \"class\"\ntemperature = \"17 degC\"\nphase = \"B\"\ncore = \"2\"",
    ),
    ("q07-ct.plan.toml", "procedure = \"excitation\"\nresolution = \"quick\""),
    ("q07-ct.plan.toml", "procedure = \"demagnetise\""),
    ("ns1-q1.plan.toml", "procedure = \"no-trip\"\ntime = \"10 s\""),
];

/// A test of eighteen places, of which one is taken below.
pub(crate) const LONG: (&str, &str) = ("q01-ct.plan.toml", "class");

/// The first value of a key in a file, as text.
pub(crate) fn value(text: &str, key: &str) -> Option<String> {
    let line = text.lines().find_map(|line| line.strip_prefix(&format!("{key} = \"")));
    line.and_then(|rest| rest.split('"').next()).map(str::to_owned)
}

pub(crate) fn read(path: &Path) -> String {
    std::fs::read_to_string(path).unwrap_or_else(|e| panic!("{}: {e}", path.display()))
}

/// The tests of built-in procedures in a plan.
pub(crate) fn of_plan(plan: &Path, text: &str) -> Vec<Case> {
    let beside = |key: &str, text: &str| value(text, key).map(|name| plan.with_file_name(name));
    let asset = read(&beside("asset", text).unwrap());
    let asset = WINGS.asset(&Source::new("asset", asset)).unwrap();
    let source = Source::new("plan", text);
    let read_plan = PlanForm::load(&source, WINGS).and_then(|form| form.resolve(&source, &asset));
    let read_plan: Plan = read_plan.unwrap_or_else(|e| panic!("{e:?}"));
    let rig = read(&beside("rig", text).unwrap());
    let Some(specimen) = beside("specimen", &rig) else { return Vec::new() };
    let capability = RigForm::load(&Source::new("rig", rig)).unwrap().capability;
    let bench = Bench { asset: &asset, capability: &capability };
    // Sequences have tests of their own, and what an instrument of its own reads is not there.
    let is_built = |test: &&Test| matches!(test.procedure(bench), Ok(Some(_)));
    let tests = read_plan.tests.iter().filter(is_built);
    let case = |test: &Test| Case {
        plan: plan.to_owned(),
        test: test.clone(),
        asset: asset.clone(),
        rig: capability.clone(),
        specimen: read(&specimen),
    };
    tests.map(case).collect()
}

/// Every test of a built-in procedure in the sample plans, and of the procedures that no sample has.
pub(crate) fn cases() -> Vec<Case> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut all: Vec<Case> = plans().iter().flat_map(|plan| of_plan(plan, &read(plan))).collect();
    all.retain(|case| !(case.plan.ends_with(LONG.0) && case.test.id == *LONG.1));
    for (plan, test) in MORE {
        let plan = root.join(FOLDERS[0]).join(plan);
        let text = read(&plan);
        let head = text.split("[[test]]").next().unwrap();
        all.extend(of_plan(&plan, &format!("{head}[[test]]\nid = \"more\"\n{test}\n")));
    }
    all
}

/// All cases with what they find when nothing is in the way.
pub(crate) static ALL: LazyLock<Vec<(Case, Vec<Finding>)>> = LazyLock::new(|| {
    let with = |case: Case| {
        let found = driven(case.procedure(), &mut case.bench(&|seen| seen));
        (case, found)
    };
    cases().into_iter().map(with).collect()
});

/// How meters are spoilt.
pub(crate) const SPOILT: [&str; 4] = ["zero", "no value", "nothing", "no number"];

impl Case {
    pub(crate) fn procedure(&self) -> Box<dyn Procedure> {
        let bench = Bench { asset: &self.asset, capability: &self.rig };
        self.test.procedure(bench).unwrap().unwrap()
    }

    /// How its meters are spoilt: what takes long, in two of the ways.
    pub(crate) fn spoilt_by(&self) -> &'static [&'static str] {
        let takes_long = ["class", "core-demagnetisation", "demagnetise", "excitation"];
        if takes_long.contains(&self.test.procedure_name()) { &SPOILT[..2] } else { &SPOILT }
    }

    pub(crate) fn name(&self) -> String {
        format!("{} of {}", self.test.id, self.plan.file_name().unwrap().to_string_lossy())
    }

    /// Its specimen on its rig; what is seen is spoilt.
    pub(crate) fn bench<'a>(
        &'a self,
        spoils: &'a dyn Fn(Observation) -> Observation,
    ) -> Spoilt<'a> {
        let source = Source::new("specimen", self.specimen.as_str());
        let mut specimen = SpecimenForm::load(&source, 3).unwrap();
        specimen.connect(&self.rig).unwrap();
        let machine = VirtualRig::new("bench".into(), self.rig.clone(), specimen, Pace::Fast);
        Spoilt { case: self, machine, spoils }
    }

    /// The points that come for certain, and all.
    pub(crate) fn planned(&self) -> [BTreeSet<String>; 2] {
        let planned = self.procedure().planned();
        let points = || planned.iter().flat_map(|p| &p.points);
        let ids = points().map(|p| p.point.id.clone()).collect();
        let certain = points().filter(|p| !p.conditional).map(|p| p.point.id.clone()).collect();
        [certain, ids]
    }
}

/// The answer of somebody who knows nothing and does as told.
pub(crate) fn ignorant(question: &Question) -> Answer {
    match &question.wanted {
        Wanted::Quantity { may_be_unknown: true, .. } => Answer::Text(UNKNOWN.to_owned()),
        Wanted::Quantity { default_si: Some(si), .. } => Answer::Si(*si),
        Wanted::Quantity { bounds, .. } => Answer::Si(bounds.map_or(1.0, |[least, _]| least)),
        Wanted::Text => Answer::Text(String::new()),
        Wanted::Choice { of, .. } => Answer::Text(of.first().cloned().unwrap_or_default()),
        _ => Answer::Confirmed,
    }
}

/// What a procedure is driven on.
pub(crate) trait World {
    /// Puts a program out and tells what was seen; `None` where it is not put out.
    fn see(&mut self, program: &Arc<Program>) -> Option<Observation>;

    /// Switches off.
    fn off(&mut self) {}
}

/// Nothing is ever put out.
pub(crate) struct Refusing;

impl World for Refusing {
    fn see(&mut self, _: &Arc<Program>) -> Option<Observation> {
        None
    }
}

/// The sample's specimen on its rig, with somebody who spoils what is seen.
pub(crate) struct Spoilt<'a> {
    case: &'a Case,
    machine: VirtualRig,
    spoils: &'a dyn Fn(Observation) -> Observation,
}

impl World for Spoilt<'_> {
    fn see(&mut self, program: &Arc<Program>) -> Option<Observation> {
        let cleared = clear(
            Arc::clone(program),
            &self.case.asset.ratings_at(program.connection.as_ref()),
            &self.case.rig,
        )
        .ok()?;
        Some((self.spoils)(self.machine.play(&cleared, &mut Unattended).unwrap()))
    }

    fn off(&mut self) {
        self.machine.off().unwrap();
        self.machine.discharge(&mut Unattended).unwrap();
    }
}

/// Goes through a procedure to its end.
pub(crate) fn driven(procedure: Box<dyn Procedure>, world: &mut dyn World) -> Vec<Finding> {
    repeated(procedure, world, None)
}

/// The same, going back once after so many injections.
pub(crate) fn repeated(
    mut procedure: Box<dyn Procedure>,
    world: &mut dyn World,
    after: Option<usize>,
) -> Vec<Finding> {
    let (mut found, mut injections) = (Vec::new(), 0);
    for _ in 0..MOST_STEPS {
        match procedure.next() {
            Action::Inject(program) => {
                found.extend(match world.see(&program) {
                    Some(seen) => procedure.observe(&seen),
                    None => procedure.refuse("the rig is somewhere else"),
                });
                injections += 1;
                if after == Some(injections) {
                    world.off();
                    procedure.repeat();
                }
            }
            Action::Ask(question) => procedure.answer(ignorant(&question)),
            Action::Conclude(more) => found.extend(more),
            Action::Off => world.off(),
            Action::Done => return found,
            Action::Tell(_) | Action::Set(..) | Action::Earth(_) => {}
            Action::Send { .. } | Action::Execute { .. } => {
                procedure.answer(Answer::Failed("nobody there".to_owned()));
            }
        }
    }
    panic!("it does not come to an end");
}

/// A number that follows from another one (SplitMix64).
pub(crate) fn mixed(seed: u64) -> u64 {
    let z = seed.wrapping_add(0x9e37_79b9_7f4a_7c15);
    let z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    let z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

/// The sample plans.
pub(crate) fn plans() -> Vec<PathBuf> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR"));
    let files = FOLDERS.iter().flat_map(|folder| std::fs::read_dir(root.join(folder)).unwrap());
    let mut plans: Vec<PathBuf> = files.map(|entry| entry.unwrap().path()).collect();
    plans.retain(|path| path.to_string_lossy().ends_with(".plan.toml"));
    plans.sort();
    plans
}
