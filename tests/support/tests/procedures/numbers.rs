//! Other numbers in the samples' files.

use crate::samples::{Case, Refusing, WINGS, World, cases, driven, mixed, plans, read, value};
use std::sync::Arc;
use waltron_core::clearance::clear;
use waltron_core::grading::Verdict;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::plan::PlanForm;
use waltron_core::procedure::Bench;
use waltron_core::text::document::Source;
use waltron_rig::attendant::Unattended;
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Rig, RigForm};
use waltron_specimen::SpecimenForm;

/// Other numbers in the place of those that a file has.
const OTHERS: [&str; 10] =
    ["0", "-1", "1e-12", "1e12", "1e300", "0.5", "3", "1000", "99999999", "0.000001"];

/// A file's text with one of its numbers exchanged; `None` where it has none.
fn exchanged(text: &str, luck: u64) -> Option<String> {
    let is_part = |c: char| c.is_ascii_digit() || c == '.' || c == '-';
    let mut places = Vec::new();
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        // Comments, headings and names are no values.
        let value = line.find('=').filter(|_| !line.trim_start().starts_with(['#', '[']));
        if let Some(from) = value {
            let mut begin = None;
            for (k, c) in line.char_indices().skip_while(|(k, _)| *k <= from) {
                match (begin, is_part(c)) {
                    (None, true) if c != '.' => begin = Some(k),
                    (Some(b), false) => {
                        places.push(at + b..at + k);
                        begin = None;
                    }
                    _ => {}
                }
            }
        }
        at += line.len();
    }
    let place = places.get(mixed(luck) as usize % places.len().max(1))?.clone();
    let other = OTHERS[mixed(luck ^ 0x5a5a) as usize % OTHERS.len()];
    Some(format!("{}{other}{}", &text[..place.start], &text[place.end..]))
}

/// Whatever number stands in a file, what is read of it is refused, or set up, told and gone through: without a
/// panic, without end, and without a verdict of what was never put out.
#[test]
fn no_number_of_a_file_breaks_what_follows_from_it() {
    let plans = plans();
    let (mut read_all, mut set_up) = (0, 0);
    for turn in 0..450u64 {
        let luck = mixed(turn);
        let plan_path = &plans[luck as usize % plans.len()];
        let plan = read(plan_path);
        let beside = |key: &str| read(&plan_path.with_file_name(value(&plan, key).unwrap()));
        let which = (luck >> 20) as usize % 3;
        let mut texts = [beside("asset"), beside("rig"), plan.clone()];
        let Some(other) = exchanged(&texts[which], luck >> 24) else { continue };
        texts[which] = other;
        let [asset, rig, plan] = texts;
        let Ok(asset) = WINGS.asset(&Source::new("asset", asset)) else { continue };
        let Ok(rig) = RigForm::load(&Source::new("rig", rig)) else { continue };
        let source = Source::new("plan", plan);
        let plan = PlanForm::load(&source, WINGS).and_then(|form| form.resolve(&source, &asset));
        let Ok(plan) = plan else { continue };
        read_all += 1;
        let bench = Bench { asset: &asset, capability: &rig.capability };
        for test in &plan.tests {
            let Ok(Some(procedure)) = test.procedure(bench) else { continue };
            let points: usize = procedure.planned().iter().map(|p| p.points.len()).sum();
            let _ = procedure.script();
            let found = driven(procedure, &mut Refusing);
            let told = found.iter().filter(|f| matches!(f.verdict, Verdict::Pass | Verdict::Fail));
            let told: Vec<&str> = told.map(|f| f.point.id.as_str()).collect();
            assert!(told.is_empty(), "{turn}, {}: {told:?}", plan_path.display());
            assert!(points < 100_000, "{turn}: {points} points");
            set_up += 1;
        }
    }
    assert!(read_all > 150 && set_up > 400, "{read_all} {set_up}");
}

/// The first injections only, then nothing more is put out; nor what the specimen has no place for.
struct Few<'a> {
    case: &'a Case,
    machine: VirtualRig,
    left: usize,
}

impl World for Few<'_> {
    fn see(&mut self, program: &Arc<Program>) -> Option<Observation> {
        self.left = self.left.checked_sub(1)?;
        let cleared = clear(
            Arc::clone(program),
            &self.case.asset.ratings_at(program.connection.as_ref()),
            &self.case.rig,
        )
        .ok()?;
        self.machine.play(&cleared, &mut Unattended).ok()
    }

    fn off(&mut self) {
        self.machine.off().unwrap();
        self.machine.discharge(&mut Unattended).unwrap();
    }
}

/// How many numbers are exchanged.
const TURNS: u64 = 240;

/// Whatever number stands in a specimen's file, it is refused or simulated: what cannot be, too, comes to an end.
#[test]
fn no_number_of_a_specimen_breaks_its_simulation() {
    let cases = cases();
    let mut simulated = 0;
    for turn in 0..TURNS {
        let luck = mixed(turn ^ 0x77);
        let case = &cases[luck as usize % cases.len()];
        let Some(text) = exchanged(&case.specimen, luck >> 24) else { continue };
        let Ok(mut specimen) = SpecimenForm::load(&Source::new("specimen", text), 1) else {
            continue;
        };
        if specimen.connect(&case.rig).is_err() {
            continue;
        }
        let machine = VirtualRig::new("bench".into(), case.rig.clone(), specimen, Pace::Fast);
        driven(case.procedure(), &mut Few { case, machine, left: 2 });
        simulated += 1;
    }
    assert!(simulated > TURNS / 4, "{simulated}");
}
