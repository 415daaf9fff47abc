//! A virtual rig errs as its file states: one draw for each thing and seed, the same however it is looked at.

use std::f64::consts::TAU;
use waltron_core::asset::Ratings;
use waltron_core::clearance::clear;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Capture, Part, Probe, Property};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Dimension, Frequency, Measure, Voltage, degrees, seconds};
use waltron_core::text::document::Source;
use waltron_rig::attendant::Unattended;
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Rig, RigForm};
use waltron_specimen::SpecimenForm;

/// An open transformer and a relay's second of delay: what is put out is what is there to be measured.
const OPEN: &str = r#"
[specimen]
kind = "instrument-transformer"
[transformer]
turns = 600
frequency = "50 Hz"
resistance = "1 mOhm"
magnetising = "3.1 kOhm"
losses = "5.6 kOhm"
"#;
const RELAY: &str = r#"
[specimen]
kind = "relay"
[[element]]
id = "59"
measures = "overvoltage"
pickup = "10 V"
curve = { family = "definite", delay = "1 s" }
trip = "over"
"#;
const RIG: &str = r#"
[rig]
kind = "virtual"
name = "r"
specimen = "s"
timing_resolution = "0 s"
timing_accuracy = "0.1 % + 1 ms"
[[voltage]]
id = "va"
meaning = "secondary voltage"
range = "120 V"
accuracy = "0.2 % + 40 mV"
angle_accuracy = "0.2 deg"
[[meter]]
id = "M1"
meaning = "secondary voltage"
measures = "voltage"
range = "150 V"
accuracy = "0.1 % + 20 mV"
angle_accuracy = "0.1 deg"
[[input]]
id = "BI1"
meaning = "over"
"#;
const SET_V: f64 = 40.0;

struct Seen {
    /// What is really put out, and what the meter shows of it.
    really: f64,
    shown: f64,
    turned: f64,
    captured: f64,
    told: f64,
    delay: f64,
}

fn inject(specimen: &str, capability: &Capability, seed: u64, program: Program) -> Observation {
    let mut specimen = SpecimenForm::load(&Source::new("s", specimen), 1).unwrap();
    specimen.connect(capability).unwrap();
    let rig = VirtualRig::new("r".into(), capability.clone(), specimen, Pace::Fast);
    let ratings = Ratings::unknown(Some(Frequency::from_si(50.0)));
    let cleared = clear(program, &ratings, capability).unwrap();
    rig.seeded(seed).play(&cleared, &mut Unattended).unwrap()
}

fn on() -> Program {
    let phasor = Phasor::new(Voltage::from_si(SET_V), degrees(0.0));
    let drive = Drive::sine("va".into(), phasor, Frequency::from_si(50.0));
    let out = Stimulus { currents: Vec::new(), voltages: vec![drive] };
    Program::of(vec![Segment::hold("on", out, seconds(1.2))])
}

/// What the meter shows of an open transformer: phasor, true RMS, what the output tells, and samples.
fn play(rig: &str, seed: u64) -> Observation {
    let capability = RigForm::load(&Source::new("r", rig)).unwrap().capability;
    let capability = Capability { inputs: Vec::new(), ..capability };
    let probe = |of: &str, what| Probe { of: of.into(), what, dimension: Dimension::VOLTAGE };
    let mut program = on();
    program.reads = vec![
        probe("secondary voltage", Property::Phasor),
        probe("secondary voltage", Property::Rms),
        probe("va", Property::Magnitude),
    ];
    program.captures = vec![Capture {
        name: "c".into(),
        of: vec!["secondary voltage".into()],
        rate_hz: 10_000.0,
        part: Part::Whole,
    }];
    inject(OPEN, &capability, seed, program)
}

/// What the rig tells of a delay of one second.
fn delay(rig: &str, seed: u64) -> f64 {
    let mut capability = RigForm::load(&Source::new("r", rig)).unwrap().capability;
    capability.meters.clear();
    capability.voltages[0].meaning = "va".into();
    inject(RELAY, &capability, seed, on()).edges[0].time.si()
}

fn seen(rig: &str, seed: u64) -> Seen {
    let exact = rig.replace("\"0.1 % + 20 mV\"", "\"0 %\"").replace("\"0.1 deg\"", "\"0 deg\"");
    let really = play(&exact, seed);
    let shown = play(rig, seed);
    let value = |seen: &Observation, name: &str| seen.readings[0].value.get(name).unwrap();
    // Whole cycles of what was captured, without its mean, which is the meter's offset.
    let samples = &shown.captures[0].tracks[0].samples[..10_000];
    let at = |turn: f64| {
        samples.iter().enumerate().map(move |(k, s)| s * (TAU * k as f64 / 200.0 + turn).cos())
    };
    let size = |turn: f64| at(turn).sum::<f64>() / 5_000.0;
    Seen {
        really: value(&really, "value"),
        shown: value(&shown, "value"),
        turned: value(&shown, "angle") - value(&really, "angle"),
        captured: size(0.0).hypot(size(TAU / 4.0)) / 2f64.sqrt(),
        told: shown.readings[2].value.get("value").unwrap(),
        delay: delay(rig, seed),
    }
}

/// The standard deviation of what is off, as a share of the limit of either part, and the largest.
fn spread(all: &[f64]) -> (f64, f64) {
    let square = all.iter().map(|off| off * off).sum::<f64>() / all.len() as f64;
    (square.sqrt(), all.iter().fold(0.0f64, |most, off| most.max(off.abs())))
}

#[test]
fn everything_errs_within_its_limit_and_as_much_as_it_says() {
    let all: Vec<Seen> = (0..160).map(|seed| seen(RIG, seed)).collect();
    let check = |what: &str, off: &dyn Fn(&Seen) -> f64, parts: f64| {
        let off: Vec<f64> = all.iter().map(off).collect();
        let (deviation, most) = spread(&off);
        let expected = ((1.0 + parts * parts) / 3.0).sqrt();
        let limit = 1.0 + parts;
        assert!((deviation / expected - 1.0).abs() < 0.2, "{what}: {deviation}, not {expected}");
        assert!(most < limit * (1.0 + 1e-6) && most > 0.7 * limit, "{what}: {most} of {limit}");
    };
    // As shares of the first part; the second is half of it, nothing, or as much.
    check("output", &|s| (s.really - SET_V) / 0.08, 0.5);
    check("meter", &|s| (s.shown - s.really) / 0.04, 0.5);
    check("angle", &|s| s.turned / 0.1f64.to_radians(), 0.0);
    check("time", &|s| (s.delay - 1.0) / 1e-3, 1.0);
}

#[test]
fn an_error_stays_whatever_looks_at_it() {
    for seed in 0..12 {
        let [first, again] = [seen(RIG, seed), seen(RIG, seed)];
        assert_eq!((first.shown, first.delay), (again.shown, again.delay));
        assert!((first.told - SET_V).abs() < 1e-9, "an output does not see its own error");
    }
    let [one, other] = [seen(RIG, 1), seen(RIG, 2)];
    assert!(one.really != other.really && one.shown - one.really != other.shown - other.really);
    // A gain alone is captured as it is read; an amount is an offset of the samples.
    let gain = RIG.replace("0.1 % + 20 mV", "0.1 %");
    let mut most = 0.0f64;
    for seed in 5..10 {
        let (gained, really) = (seen(&gain, seed), seen(RIG, seed).really);
        let off = gained.captured / gained.shown - 1.0;
        assert!(off.abs() < 2e-6, "{} {}", gained.captured, gained.shown);
        most = most.max((gained.shown / really - 1.0).abs());
    }
    assert!(most > 1e-4);
}

#[test]
fn an_uncertainty_is_half_as_wide_and_noise_is_there_where_it_is_stated() {
    let stated = RIG.replace("name = \"r\"", "name = \"r\"\naccuracy_means = \"uncertainty\"");
    let off = |seed| {
        let seen = seen(&stated, seed);
        (seen.shown - seen.really) / 0.04
    };
    let (deviation, _) = spread(&(0..160).map(off).collect::<Vec<_>>());
    let expected = 0.5 * 1.25f64.sqrt();
    assert!((deviation / expected - 1.0).abs() < 0.2, "{deviation}, not {expected}");
    let quiet = |rig: &str| {
        let samples = &play(rig, 3).captures[0].tracks[0].samples;
        let off = |k: usize| samples[k + 200] - samples[k];
        spread(&(0..2_000).map(off).collect::<Vec<_>>()).0
    };
    let exact_time = RIG.replace("0.1 % + 1 ms", "0 %");
    assert!(quiet(&exact_time) < 1e-9);
    let noisy = exact_time.replace("20 mV\"", "20 mV\"\nnoise = \"10 mV\"");
    let deviation = quiet(&noisy) / 2f64.sqrt();
    assert!((deviation / 10e-3 - 1.0).abs() < 0.1, "{deviation}");
    let reading = &play(&noisy, 3).readings[0];
    let noise = reading.parts.iter().find(|part| part.source.as_str().starts_with("M1 noise"));
    assert!((noise.unwrap().contribution() - 10e-3).abs() < 1e-9);
    let u = 2.0 * reading.parts.iter().map(|p| p.contribution().powi(2)).sum::<f64>().sqrt();
    assert!((reading.uncertainty.get("value").unwrap() - u).abs() < 1e-9);
}

#[test]
fn what_is_no_accuracy_of_a_rig_is_told() {
    let told = |from: &str, to: &str| {
        let error = RigForm::load(&Source::new("r", RIG.replacen(from, to, 1))).unwrap_err();
        error.problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; ")
    };
    for (to, words) in [
        ("\"0.2\"", "no unit"),
        ("\"-0.2 %\"", "negative"),
        ("\"120 %\"", "100 % is the most"),
        ("\"0.2 % (k = 2) (limit)\"", "said twice"),
        ("\"0.2 % (k = 2.5)\"", "is not what an accuracy can mean"),
        ("\"+0.2 % / -0 %\"", "as wide above as below"),
        ("\"1 kV\"", "errs by more than its range of 120 V"),
    ] {
        let message = told("\"0.2 % + 40 mV\"", to);
        assert!(message.contains(words), "{to}: {message}");
    }
    assert!(
        told("kind = \"virtual\"", "kind = \"virtual\"\naccuracy_means = \"k\"")
            .contains("accuracy_means")
    );
    let seeds = |text: &str| {
        RigForm::load(&Source::new("r", RIG.replace("name = \"r\"", text))).unwrap().seeds
    };
    let apart = seeds("name = \"r\"\nseed = 4\nspecimen_seed = 9");
    assert_eq!((apart.rig, apart.specimen), (4, 9));
    assert_eq!(seeds("name = \"r\"\nseed = 4"), 4.into());
}
