//! Every procedure of every wing, on the samples, treated badly: not put out, not seen, seen by meters that show
//! nothing or no number, in part, once more. Whatever happens, it ends, nothing passes that was not proved, and what
//! was planned is graded.
#![allow(clippy::unwrap_used, missing_docs)]

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock};
use waltron_breaker::BreakerWing;
use waltron_core::asset::Asset;
use waltron_core::clearance::clear;
use waltron_core::grading::{Criterion, Finding, Value, Values, Verdict};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{CapturedTrack, Lack};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::plan::{Plan, PlanForm, Test};
use waltron_core::procedure::{Action, Answer, Bench, Procedure, Question, UNKNOWN, Wanted};
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::text::document::Source;
use waltron_core::wing::Wings;
use waltron_relay::RelayWing;
use waltron_rig::attendant::Unattended;
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Rig, RigForm};
use waltron_specimen::SpecimenForm;
use waltron_transformer::TransformerWing;

const WINGS: Wings = Wings(&[&RelayWing, &TransformerWing, &BreakerWing]);

/// More than any of the samples takes.
const MOST_STEPS: usize = 20_000;

/// A test of a sample plan, with what it is played on.
struct Case {
    plan: PathBuf,
    test: Test,
    asset: Asset,
    rig: Capability,
    specimen: String,
}

/// The folders of the samples.
const FOLDERS: [&str; 2] = ["../../examples", "../../crates/waltron/demo"];

/// What no sample plan has: a sample plan whose asset and rig fit, and the test.
const MORE: &[(&str, &str)] = &[
    (
        "q01-ct.plan.toml",
        "procedure = \"class\"\ntemperature = \"17 degC\"\nphase = \"B\"\ncore = \"2\"",
    ),
    ("q07-ct.plan.toml", "procedure = \"excitation\"\nresolution = \"quick\""),
    ("q07-ct.plan.toml", "procedure = \"demagnetise\""),
    ("ns1-q1.plan.toml", "procedure = \"no-trip\"\ntime = \"10 s\""),
];

/// A test of eighteen places, of which one is taken below.
const LONG: (&str, &str) = ("q01-ct.plan.toml", "class");

/// The first value of a key in a file, as text.
fn value(text: &str, key: &str) -> Option<String> {
    let line = text.lines().find_map(|line| line.strip_prefix(&format!("{key} = \"")));
    line.and_then(|rest| rest.split('"').next()).map(str::to_owned)
}

fn read(path: &Path) -> String {
    std::fs::read_to_string(path).unwrap_or_else(|e| panic!("{}: {e}", path.display()))
}

/// The tests of built-in procedures in a plan.
fn of_plan(plan: &Path, text: &str) -> Vec<Case> {
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
fn cases() -> Vec<Case> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR"));
    let files = FOLDERS.iter().flat_map(|folder| std::fs::read_dir(root.join(folder)).unwrap());
    let mut plans: Vec<PathBuf> = files.map(|entry| entry.unwrap().path()).collect();
    plans.retain(|path| path.to_string_lossy().ends_with(".plan.toml"));
    plans.sort();
    let mut all: Vec<Case> = plans.iter().flat_map(|plan| of_plan(plan, &read(plan))).collect();
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
static ALL: LazyLock<Vec<(Case, Vec<Finding>)>> = LazyLock::new(|| {
    let with = |case: Case| {
        let found = driven(case.procedure(), &mut case.bench(&|seen| seen));
        (case, found)
    };
    cases().into_iter().map(with).collect()
});

impl Case {
    fn procedure(&self) -> Box<dyn Procedure> {
        let bench = Bench { asset: &self.asset, capability: &self.rig };
        self.test.procedure(bench).unwrap().unwrap()
    }

    /// How its meters are spoilt: what takes long, in two of the ways.
    fn spoilt_by(&self) -> &'static [&'static str] {
        let takes_long = ["class", "core-demagnetisation", "demagnetise", "excitation"];
        if takes_long.contains(&self.test.procedure_name()) { &SPOILT[..2] } else { &SPOILT }
    }

    fn name(&self) -> String {
        format!("{} of {}", self.test.id, self.plan.file_name().unwrap().to_string_lossy())
    }

    /// Its specimen on its rig; what is seen is spoilt.
    fn bench<'a>(&'a self, spoils: &'a dyn Fn(Observation) -> Observation) -> Spoilt<'a> {
        let source = Source::new("specimen", self.specimen.as_str());
        let mut specimen = SpecimenForm::load(&source, 3).unwrap();
        specimen.connect(&self.rig).unwrap();
        let machine = VirtualRig::new("bench".into(), self.rig.clone(), specimen, Pace::Fast);
        Spoilt { case: self, machine, spoils }
    }

    /// The points that come for certain, and all.
    fn planned(&self) -> [BTreeSet<String>; 2] {
        let planned = self.procedure().planned();
        let points = || planned.iter().flat_map(|p| &p.points);
        let ids = points().map(|p| p.point.id.clone()).collect();
        let certain = points().filter(|p| !p.conditional).map(|p| p.point.id.clone()).collect();
        [certain, ids]
    }
}

/// The answer of somebody who knows nothing and does as told.
fn ignorant(question: &Question) -> Answer {
    match &question.wanted {
        Wanted::Quantity { may_be_unknown: true, .. } => Answer::Text(UNKNOWN.to_owned()),
        Wanted::Quantity { default_si: Some(si), .. } => Answer::Si(*si),
        Wanted::Quantity { bounds, .. } => Answer::Si(bounds.map_or(1.0, |[least, _]| least)),
        Wanted::Text => Answer::Text(String::new()),
        Wanted::Choice(choices) => Answer::Text(choices.first().cloned().unwrap_or_default()),
        _ => Answer::Confirmed,
    }
}

/// What a procedure is driven on.
trait World {
    /// Puts a program out and tells what was seen; `None` where it is not put out.
    fn see(&mut self, program: &Arc<Program>) -> Option<Observation>;

    /// Switches off.
    fn off(&mut self) {}
}

/// Nothing is ever put out.
struct Refusing;

impl World for Refusing {
    fn see(&mut self, _: &Arc<Program>) -> Option<Observation> {
        None
    }
}

/// The sample's specimen on its rig, with somebody who spoils what is seen.
struct Spoilt<'a> {
    case: &'a Case,
    machine: VirtualRig,
    spoils: &'a dyn Fn(Observation) -> Observation,
}

impl World for Spoilt<'_> {
    fn see(&mut self, program: &Arc<Program>) -> Option<Observation> {
        let cleared = clear(Arc::clone(program), &self.case.asset.ratings, &self.case.rig).ok()?;
        Some((self.spoils)(self.machine.play(&cleared, &mut Unattended).unwrap()))
    }

    fn off(&mut self) {
        self.machine.off().unwrap();
    }
}

/// Goes through a procedure to its end.
fn driven(procedure: Box<dyn Procedure>, world: &mut dyn World) -> Vec<Finding> {
    repeated(procedure, world, None)
}

/// The same, going back once after so many injections.
fn repeated(
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
            Action::Tell(_) | Action::Set(..) => {}
            Action::Send { .. } | Action::Execute { .. } => {
                procedure.answer(Answer::Failed("nobody there".to_owned()));
            }
        }
    }
    panic!("it does not come to an end");
}

/// The last verdict of each point.
fn verdicts(found: &[Finding]) -> BTreeMap<&str, Verdict> {
    found.iter().map(|f| (f.point.id.as_str(), f.verdict)).collect()
}

/// What was planned for certain is graded, and nothing else than was planned.
fn all_is_graded(case: &Case, found: &[Finding]) {
    let [certain, all] = case.planned();
    let graded: BTreeSet<String> = found.iter().map(|f| f.point.id.clone()).collect();
    let lost: Vec<&String> = certain.difference(&graded).collect();
    assert!(lost.is_empty(), "{}: planned and not graded: {lost:?}", case.name());
    let new: Vec<&String> = graded.difference(&all).collect();
    assert!(new.is_empty(), "{}: graded and not planned: {new:?}", case.name());
}

/// Nothing is told of what was not measured.
fn nothing_is_told(case: &Case, found: &[Finding], why: &str) {
    for f in found {
        assert!(
            matches!(f.verdict, Verdict::NotTested | Verdict::Inconclusive),
            "{}, {why}: {} {:?} {}",
            case.name(),
            f.point.id,
            f.verdict,
            f.reason
        );
    }
}

#[test]
fn the_samples_hold_every_procedure() {
    let cases = cases();
    let words: BTreeSet<&str> = cases.iter().map(|c| c.test.procedure_name()).collect();
    let registered: BTreeSet<&str> = WINGS.procedures().iter().map(|r| r.word).collect();
    let missing: Vec<&str> = registered.difference(&words).copied().collect();
    // No sample rig drives the current of a primary winding.
    assert_eq!(missing, ["errors"]);
}

#[test]
fn points_are_named_once_and_all_of_them_are_graded() {
    for (case, found) in &*ALL {
        let planned = case.procedure().planned();
        let mut ids: BTreeMap<&str, &Criterion> = BTreeMap::new();
        for point in planned.iter().flat_map(|p| &p.points) {
            let before = ids.insert(&point.point.id, &point.criterion);
            assert!(before.is_none_or(|b| *b == point.criterion), "{} twice", point.point.id);
            assert_eq!(point.point.test, case.test.id, "{}", point.point.id);
        }
        all_is_graded(case, found);
    }
}

#[test]
fn what_is_not_put_out_proves_nothing() {
    for case in cases() {
        let found = driven(case.procedure(), &mut Refusing);
        all_is_graded(&case, &found);
        nothing_is_told(&case, &found, "never put out");
    }
}

/// How meters are spoilt.
const SPOILT: [&str; 4] = ["zero", "no value", "nothing", "no number"];

fn spoilt(mut seen: Observation, how: &str) -> Observation {
    if how == "nothing" {
        (seen.readings, seen.captures) = (Vec::new(), Vec::new());
        return seen;
    }
    let number = if how == "zero" { 0.0 } else { f64::NAN };
    for reading in &mut seen.readings {
        let of = |value: Value| match value {
            Value::Plain(q) => Value::Plain(Quantity { si: number, ..q }),
            Value::Percent(_) => Value::Percent(number),
            Value::Minutes(_) => Value::Minutes(number),
        };
        let mut values = Values::none();
        for name in ["value", "angle", "frequency"] {
            if let Some((_, value)) = reading.value.iter().find(|(n, _)| *n == name) {
                values = values.with_value(name, of(value));
            }
        }
        reading.value = values;
        if how == "no value" {
            reading.lacks = Some(Lack::Nothing("meter".into()));
            (reading.value, reading.uncertainty) = (Values::none(), Values::none());
        }
    }
    for track in seen.captures.iter_mut().flat_map(|c| &mut c.tracks) {
        let samples = if how == "no value" { Vec::new() } else { vec![number; track.count] };
        *track = CapturedTrack::new(track.of.clone(), samples);
    }
    seen
}

/// What contacts tell, which are as they are: times, and levels at which one operated.
fn is_by_contacts(f: &Finding) -> bool {
    let words = ["trip_time", "no_operation", "pickup", "reset_ratio"];
    let of_a_relay = words.iter().any(|word| f.criterion == Criterion::named(word));
    let of_a_coil = f.point.id.contains("/pickup-voltage/");
    let is_time = |(_, value): (&str, Value)| matches!(value, Value::Plain(q) if q.dimension == Dimension::TIME);
    of_a_relay || of_a_coil || f.measured.iter().any(is_time)
}

#[test]
fn meters_that_show_nothing_prove_nothing() {
    let mut passed = Vec::new();
    for case in cases() {
        for how in case.spoilt_by() {
            let spoils = |seen| spoilt(seen, how);
            let found = driven(case.procedure(), &mut case.bench(&spoils));
            all_is_graded(&case, &found);
            for f in found.iter().filter(|f| f.verdict == Verdict::Pass && !is_by_contacts(f)) {
                passed.push(format!(
                    "{}, {how}: {} {} {:?}",
                    case.name(),
                    f.point.id,
                    f.reason,
                    f.measured
                ));
            }
        }
    }
    assert!(passed.is_empty(), "{}", passed.join("\n"));
}

/// A number that follows from another one (SplitMix64).
fn mixed(seed: u64) -> u64 {
    let z = seed.wrapping_add(0x9e37_79b9_7f4a_7c15);
    let z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    let z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

/// Of chosen points each is graded as with all the others: what is left out is missed by nothing.
#[test]
fn chosen_points_are_graded_as_among_all() {
    for (k, (case, found)) in ALL.iter().enumerate() {
        let all = verdicts(found);
        let [certain, _] = case.planned();
        let chosen: BTreeSet<&String> = certain
            .iter()
            .enumerate()
            .filter(|(n, _)| mixed((k * 1000 + n) as u64).is_multiple_of(3))
            .map(|(_, id)| id)
            .collect();
        let mut procedure = case.procedure();
        procedure.retain(&|point| chosen.contains(&point.id));
        let planned = procedure.planned();
        let told: BTreeSet<&str> =
            planned.iter().flat_map(|p| &p.points).map(|p| p.point.id.as_str()).collect();
        let found = driven(procedure, &mut case.bench(&|seen| seen));
        let some = verdicts(&found);
        for id in chosen {
            assert!(told.contains(id.as_str()), "{}: {id} is chosen, and not planned", case.name());
            assert_eq!(some.get(id.as_str()), all.get(id.as_str()), "{}: {id}", case.name());
        }
        for id in some.keys() {
            assert!(told.contains(id), "{}: {id} is graded, and was not planned", case.name());
        }
    }
}

/// Gone back to a point, wherever that is, all of them are graded, the last time as without.
#[test]
fn what_is_repeated_is_graded_as_before() {
    for (k, (case, found)) in ALL.iter().enumerate() {
        let all = verdicts(found);
        let after = 1 + mixed(k as u64) as usize % 8;
        let found = repeated(case.procedure(), &mut case.bench(&|seen| seen), Some(after));
        let again = verdicts(&found);
        let differ: Vec<_> = all.iter().filter(|(id, v)| again.get(*id) != Some(v)).collect();
        assert!(differ.is_empty(), "{}, after {after}: {differ:?}", case.name());
    }
}
