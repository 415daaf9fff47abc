//! What measuring costs on the virtual rig: 200 levels with three readings each.

use criterion::{Criterion, criterion_group, criterion_main};
use waltron_core::asset::Ratings;
use waltron_core::clearance::{Cleared, clear};
use waltron_core::injection::measuring::{Probe, Property, Read, Signal, When};
use waltron_core::injection::program::{Profile, Program, Segment, Steps};
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Dimension, Frequency, Measure, Voltage, degrees, seconds};
use waltron_core::text::document::Source;
use waltron_rig::attendant::Unattended;
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Rig, RigForm};
use waltron_specimen::SpecimenForm;

const RIG: &str = include_str!("../../../examples/q07-ct.rig.toml");
const SPECIMEN: &str = include_str!("../../../examples/q07-ct.specimen.toml");

fn bench() -> (VirtualRig, Cleared) {
    let file = RigForm::load(&Source::new("rig", RIG)).expect("a good file");
    let specimen = SpecimenForm::load(&Source::new("specimen", SPECIMEN), 1);
    let mut specimen = specimen.expect("a good file");
    let capability = file.capability;
    specimen.connect(&capability).expect("what the rig file names");
    let level = |n: i32| {
        let phasor = Phasor::new(Voltage::from_si(0.5 * f64::from(n)), degrees(0.0));
        let drive = Drive::sine("vs".into(), phasor, Frequency::from_si(50.0));
        Stimulus { currents: Vec::new(), voltages: vec![drive] }
    };
    let steps = Steps { levels: (1..=200).map(level).collect(), dwell: seconds(0.5), rest: None };
    let mut segment = Segment::new("levels", Profile::Steps(steps), Vec::new());
    for of in ["secondary voltage", "secondary current", "secondary voltage / primary voltage"] {
        let of = Signal::read(of, &capability.measurable()).expect("names of the rig");
        let mut probe = Probe { of, what: Property::Phasor, dimension: Dimension::NUMBER };
        capability.restore(&mut probe);
        segment.reads.push(Read { probe, when: When::EachLevel });
    }
    let ratings = Ratings::unknown(Some(Frequency::from_si(50.0)));
    let cleared = clear(Program::of(vec![segment]), &ratings, &capability).expect("in range");
    (VirtualRig::new("bench".into(), capability, specimen, Pace::Fast), cleared)
}

fn readings(c: &mut Criterion) {
    let (mut rig, program) = bench();
    let mut group = c.benchmark_group("measuring");
    group.sample_size(20);
    group.bench_function("200 levels, 3 readings each", |b| {
        b.iter(|| {
            let seen = rig.play(&program, &mut Unattended).expect("a rig that works");
            assert_eq!(seen.readings.len(), 600);
        });
    });
    group.finish();
}

criterion_group!(benches, readings);
criterion_main!(benches);
