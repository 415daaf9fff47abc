//! A healthy specimen passes its whole plan whatever the seed; a slow one never does.

use std::collections::HashMap;
use std::convert::Infallible;
use std::path::Path;
use waltron_core::grading::{Criterion, Grade, Verdict};
use waltron_core::plan::PlanForm;
use waltron_core::procedure::Bench;
use waltron_core::text::document::Source;
use waltron_core::text::name::Name;
use waltron_relay::AssetForm;
use waltron_rig::RigForm;
use waltron_rig::attendant::Unattended;
use waltron_rig::runner::{prepare, run};
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_specimen::SpecimenForm;

fn source(name: &str) -> Source {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo").join(name);
    Source::new(name, std::fs::read_to_string(path).unwrap())
}

/// Runs a demo plan in memory and returns its grades.
fn grades(relay: &str, seed: u64) -> Vec<Grade> {
    let asset = AssetForm::load(&source(&format!("{relay}.asset.toml"))).unwrap();
    let plan_source = source(&format!("{relay}.plan.toml"));
    let plan = PlanForm::load(&plan_source, waltron_relay::WINGS)
        .unwrap()
        .resolve(&plan_source, &asset)
        .unwrap();
    let rig = RigForm::load(&source(&format!("{relay}.rig.toml"))).unwrap();
    let specimen = SpecimenForm::load(&source(&format!("{relay}.specimen.toml")), seed).unwrap();
    let prepared = prepare(
        &plan,
        Bench { asset: &asset, capability: &rig.capability },
        &HashMap::<Name, Infallible>::new(),
    )
    .unwrap();
    let mut virtual_rig = VirtualRig::new(rig.name, rig.capability, specimen, Pace::Fast);
    let mut attendant = Unattended;
    let mut sink = |_: &_| Ok(());
    run(prepared, &asset, &mut virtual_rig, &mut attendant, Default::default(), &mut sink)
        .unwrap()
        .grades
}

#[test]
fn a_healthy_relay_passes_every_point_for_a_thousand_seeds() {
    for seed in 0..1000 {
        for grade in grades("q08-f2", seed) {
            assert_eq!(
                grade.verdict,
                Verdict::Pass,
                "seed {seed}: {} {}",
                grade.point.id,
                grade.reason
            );
        }
    }
}

#[test]
fn a_slow_time_multiplier_fails_the_times_and_passes_the_pickups_for_any_seed() {
    for seed in 0..200 {
        for grade in grades("q07-f1", seed) {
            let slow = grade.point.test == "51P-times" && grade.criterion == Criterion::TRIP_TIME;
            let expected = if slow { Verdict::Fail } else { Verdict::Pass };
            assert_eq!(grade.verdict, expected, "seed {seed}: {} {}", grade.point.id, grade.reason);
        }
    }
}
