//! What the class test works out from the secondary, against the same transformer in service: fed from its
//! primary, with its burden, by time. And the same laws of a voltage transformer, written down once more.

mod support;

use num_complex::Complex64;
use std::f64::consts::{SQRT_2, TAU};
use support::{asset, capability, failed, of, plan, play, rig};
use waltron_core::grading::{Grade, Rule, Verdict};
use waltron_core::injection::samples::spectrum::phasor;
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::procedure::Bench;
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Frequency, Measure, degrees, seconds};
use waltron_core::text::document::Source;
use waltron_specimen::{Specimen, SpecimenForm, Window};

/// 600:1, 4 Ohm warm, 10 VA: 20 times takes 20·|12 + 6j| = 268 V, and it saturates at 290 V.
const ASSET: &str = r#"
[asset]
kind = "current-transformer"
tag = "T"
[ratings]
frequency = "50 Hz"
primary = "600 A"
[[core]]
secondary = "1 A"
class = "5P20"
burden = "10 VA"
test_voltage = "500 V"
test_current = "20 A"
"#;

const CORE: &str = r#"
[specimen]
kind = "instrument-transformer"
[transformer]
turns = 598.5
frequency = "50 Hz"
resistance = "4 Ohm"
magnetising = "4 kOhm"
losses = "7 kOhm"
saturation = "290 V"
saturated = "6 Ohm"
coercive = "4 mA"
burden_resistance = "8 Ohm"
burden_reactance = "6 Ohm"
"#;

const RIG: &str = r#"
[rig]
kind = "virtual"
name = "service"
specimen = "s"
[[current]]
id = "i"
meaning = "primary current"
range = "20 kA"
[[voltage]]
id = "v"
meaning = "primary voltage"
range = "100 kV"
[[meter]]
id = "M1"
meaning = "secondary current"
measures = "current"
range = "100 A"
[[meter]]
id = "M2"
meaning = "burden voltage"
measures = "voltage"
range = "100 V"
"#;

fn in_service(specimen: &str) -> Box<dyn Specimen> {
    let source = Source::new("specimen", specimen);
    let mut specimen = SpecimenForm::load(&source, 1).unwrap();
    specimen.connect(&capability(RIG)).unwrap();
    specimen.begin(0);
    specimen
}

fn drive<Q: Measure>(id: &str, rms: f64) -> Drive<Q> {
    let phasor = Phasor::new(Q::from_si(rms), degrees(0.0));
    Drive::sine(id.into(), phasor, Frequency::from_si(50.0))
}

/// Samples of the last 0.2 s of a second and more of a primary current.
fn secondary(specimen: &str, primary: f64) -> Vec<f64> {
    let mut all = in_service(specimen);
    all.apply(&Stimulus { currents: vec![drive("i", primary)], voltages: Vec::new() });
    all.advance(seconds(4.0));
    let window = Window { start_s: 3.8, rate_hz: 12_800.0, count: 2560 };
    all.samples(&"secondary current".into(), window).unwrap()
}

const TEST: &str = "procedure = \"class\"\ntemperature = \"75 degC\"\n";

#[test]
fn what_is_worked_out_from_the_secondary_is_what_the_primary_sees() {
    let (found, _) = play(&asset(ASSET), &rig(500.0, 1.0), CORE, 1, TEST);
    assert_eq!(failed(&found), Vec::<&str>::new());
    let value = |what: &str, name: &str| of(&found, what).measured.get(name).unwrap();
    // At rated current, by the definitions.
    let seen = phasor(&secondary(CORE, 600.0), 12_800.0, 50.0, 3.8);
    let ratio = (600.0 * seen.norm() - 600.0) / 600.0;
    let phase = seen.arg();
    let u = of(&found, "ratio-error-100%").uncertainty.get("u").unwrap();
    let worked_out = value("ratio-error-100%", "error");
    assert!((worked_out - ratio).abs() < u.max(2e-4), "{worked_out}, in service {ratio}");
    let minutes = |radians: f64| radians.to_degrees() * 60.0;
    let off = minutes(value("phase-100%", "phase")) - minutes(phase);
    assert!(off.abs() < 0.7, "off by {off} min");
    // At twenty times, from the waves: the RMS of what is missing over the primary's.
    let waves = secondary(CORE, 12_000.0);
    let missing: f64 = waves
        .iter()
        .enumerate()
        .map(|(k, is)| {
            let ip = 12_000.0 * SQRT_2 * (TAU * 50.0 * (3.8 + k as f64 / 12_800.0)).cos();
            (600.0 * is - ip).powi(2)
        })
        .sum();
    let direct = (missing / waves.len() as f64).sqrt() / 12_000.0;
    let indirect = value("composite-error", "error");
    // The turns correction is no part of the indirect test.
    assert!((indirect - direct).abs() < 0.3 * direct + 3e-3, "{indirect}, in service {direct}");
    assert!(direct < 0.05 && indirect > 0.005);
    // A core that saturates a quarter lower fails in service, and in the test.
    let weak = CORE.replace("290 V", "218 V");
    let (found, _) = play(&asset(ASSET), &rig(500.0, 1.0), &weak, 1, TEST);
    assert_eq!(failed(&found), ["composite-error", "class"]);
    let missing: f64 = secondary(&weak, 12_000.0)
        .iter()
        .enumerate()
        .map(|(k, is)| {
            let ip = 12_000.0 * SQRT_2 * (TAU * 50.0 * (3.8 + k as f64 / 12_800.0)).cos();
            (600.0 * is - ip).powi(2)
        })
        .sum();
    assert!((missing / 2560.0).sqrt() / 12_000.0 > 0.05);
}

/// Without a temperature nothing that depends on it is a pass; a point is graded again from what was seen,
/// by another class and another burden, without testing.
#[test]
fn what_was_measured_is_graded_again_by_another_nameplate() {
    let first = asset(ASSET);
    let text = rig(500.0, 1.0);
    let (found, seen) = play(&first, &text, CORE, 1, TEST);
    let rig = capability(&text);
    let served: Vec<_> = seen.iter().map(|(p, o)| (&**p, o)).collect();
    let again = |asset_text: &str, test: &str| {
        let asset = asset(asset_text);
        let plan = plan(&asset, test);
        let bench = Bench { asset: &asset, capability: &rig };
        let waltron_core::plan::ProcedureSettings::Built(method) = &plan.tests[0].procedure else {
            panic!("no sequence");
        };
        let all = method.all_again(bench, &served).unwrap();
        // One by one it is the same.
        for f in &all {
            let grade: Grade = f.clone().graded(Rule::Simple);
            let one = method.grade_again(bench, &grade, &served).unwrap();
            assert_eq!(one.verdict, f.verdict, "{}", f.point.id);
        }
        all
    };
    let same = again(ASSET, TEST);
    let verdicts = |all: &[waltron_core::grading::Finding]| {
        all.iter().map(|f| (f.point.id.clone(), f.verdict)).collect::<Vec<_>>()
    };
    assert_eq!(verdicts(&same), verdicts(&found));
    let heavy = again(&ASSET.replace("10 VA", "20 VA"), TEST);
    assert_eq!(failed(&heavy), ["composite-error", "class"]);
    let metering = again(&ASSET.replace("5P20", "0.1"), TEST);
    assert!(metering.iter().any(|f| f.point.id == "t/ratio-error-5%-quarter"));
    assert_eq!(of(&metering, "class").verdict, Verdict::Fail, "{}", of(&metering, "class").reason);
    let cold = again(ASSET, "procedure = \"class\"\n");
    for what in ["ratio-error-100%", "composite-error", "class"] {
        let f = of(&cold, what);
        assert_eq!(f.verdict, Verdict::Inconclusive, "{what}");
        assert!(f.reason.contains("temperature is not known"), "{}", f.reason);
    }
    assert_eq!(of(&cold, "ratio").verdict, Verdict::Pass, "the ratio does not depend on it");
    // Of only a part of the injections, what is missing is open, and nothing is invented.
    let asset = asset(ASSET);
    let plan = plan(&asset, TEST);
    let bench = Bench { asset: &asset, capability: &rig };
    let waltron_core::plan::ProcedureSettings::Built(method) = &plan.tests[0].procedure else {
        panic!("no sequence");
    };
    for count in 1..served.len() {
        let part = method.all_again(bench, &served[..count]).unwrap();
        assert_eq!(
            of(&part, "class").verdict,
            Verdict::Inconclusive,
            "{count} of {}",
            served.len()
        );
    }
}

/// A source that reaches 120 V at 50 Hz needs a lower frequency for a core of 290 V; one that does not go
/// below 50 Hz is told so before anything is put out.
#[test]
fn below_the_reach_of_the_source_a_lower_frequency_gives_the_same_curve() {
    let strong = play(&asset(ASSET), &rig(500.0, 1.0), CORE, 1, TEST).0;
    let (weak, seen) = play(&asset(ASSET), &rig(120.0, 1.0), CORE, 1, TEST);
    let knee =
        |found: &[waltron_core::grading::Finding]| of(found, "knee").measured.get("knee").unwrap();
    assert!(of(&weak, "knee").reason.contains("measured at 15 Hz"), "{}", of(&weak, "knee").reason);
    let (a, b) = (knee(&strong), knee(&weak));
    assert!((a / b - 1.0).abs() < 0.01, "{a} V and {b} V");
    assert!(seen.iter().all(|(p, _)| p.maxima().iter().all(|(_, v, _)| *v <= 120.0)));
    let asset = asset(ASSET);
    let fixed = rig(120.0, 1.0)
        .replace("frequency = [\"15 Hz\", \"400 Hz\"]", "frequency = [\"50 Hz\", \"60 Hz\"]");
    let rig = capability(&fixed);
    let bench = Bench { asset: &asset, capability: &rig };
    let refused = plan(&asset, TEST).tests[0].procedure(bench).map(|_| ()).unwrap_err().to_string();
    assert!(
        refused.contains("the knee cannot be reached") && refused.contains("`until`"),
        "{refused}"
    );
    // Told how far to go, it goes so far, and leaves the rest open.
    let test = format!("{TEST}until = \"110 V\"\n");
    let (part, _) = play(&asset, &fixed, CORE, 1, &test);
    assert!(of(&part, "knee").reason.contains("does not saturate in what was measured"));
    assert_eq!(of(&part, "class").verdict, Verdict::Inconclusive);
}

const VOLTAGE: &str = r#"
[asset]
kind = "voltage-transformer"
tag = "T"
[ratings]
frequency = "50 Hz"
primary = "20 kV / sqrt(3)"
continuous = "120 %"
[[winding]]
secondary = "100 V / sqrt(3)"
class = "0.5"
burden = "25 VA"
"#;

fn voltage_unit(burden: &str) -> String {
    format!(
        "[specimen]\nkind = \"instrument-transformer\"\n[transformer]\nturns = 5.01e-3\nfrequency = \"50 Hz\"\nresistance = \"0.3 Ohm\"\nleakage = \"0.2 Ohm\"\n\
         primary_resistance = \"9 kOhm\"\nprimary_leakage = \"12 kOhm\"\nmagnetising = \"4 kOhm\"\nlosses = \"6 kOhm\"\nsaturation = \"120 V\"\nsaturated = \"5 Ohm\"\n{burden}"
    )
}

fn voltage_rig() -> String {
    let meter = |id: &str, meaning: &str, measures: &str, range: &str, accuracy: &str| {
        format!(
            "[[meter]]\nid = \"{id}\"\nmeaning = \"{meaning}\"\nmeasures = \"{measures}\"\nrange = \"{range}\"\naccuracy = \"{accuracy}\"\nangle_accuracy = \"0.005 deg\"\n"
        )
    };
    let mut text = String::from(
        "[rig]\nkind = \"virtual\"\nname = \"r\"\nspecimen = \"s\"\n\
         [[voltage]]\nid = \"vp\"\nmeaning = \"primary voltage\"\nrange = \"2 kV\"\nkind = \"ac\"\n\
         [[voltage]]\nid = \"vs\"\nmeaning = \"secondary voltage\"\nrange = \"150 V\"\nkind = \"ac\"\n",
    );
    text += &meter("M1", "primary voltage", "voltage", "3 kV", "0.02 % + 10 mV");
    text += &meter("M2", "secondary voltage", "voltage", "200 V", "0.02 % + 20 uV");
    text += &meter("M3", "secondary current", "current", "20 A", "0.03 % + 5 uA");
    text
}

/// At rated voltage with a burden of 25 VA at 0.8, and with a quarter of it, fed from the primary.
#[test]
fn errors_of_a_voltage_transformer_are_those_in_service() {
    let (found, _) =
        play(&asset(VOLTAGE), &voltage_rig(), &voltage_unit(""), 1, "procedure = \"class\"\n");
    assert_eq!(failed(&found), Vec::<&str>::new());
    let rated = 20_000.0 / 3f64.sqrt();
    let ohms = 100.0f64.powi(2) / 3.0 / 25.0;
    for (times, name) in [(1.0, ""), (4.0, "-least")] {
        let burden = format!(
            "burden_resistance = \"{} Ohm\"\nburden_reactance = \"{} Ohm\"\n",
            ohms * times * 0.8,
            ohms * times * 0.6
        );
        let mut all = in_service(&voltage_unit(&burden));
        all.apply(&Stimulus { currents: Vec::new(), voltages: vec![drive("v", rated)] });
        all.advance(seconds(20.0));
        let window = Window { start_s: 19.8, rate_hz: 12_800.0, count: 2560 };
        let seen = all.samples(&"burden voltage".into(), window).unwrap();
        let us: Complex64 = phasor(&seen, 12_800.0, 50.0, 19.8);
        let (ratio, phase) = ((200.0 * us.norm() - rated) / rated, us.arg());
        let error = of(&found, &format!("ratio-error-100%{name}"));
        let worked_out = error.measured.get("error").unwrap();
        let u = error.uncertainty.get("u").unwrap();
        assert!((worked_out - ratio).abs() < u, "{worked_out} ± {u}, in service {ratio}");
        let off = of(&found, &format!("phase-100%{name}")).measured.get("phase").unwrap() - phase;
        assert!(off.abs() < u, "off by {off} ± {u}");
    }
    // Three times the burden's drop is too much.
    let heavy = VOLTAGE.replace("25 VA", "150 VA");
    let (found, _) =
        play(&asset(&heavy), &voltage_rig(), &voltage_unit(""), 1, "procedure = \"class\"\n");
    assert_eq!(of(&found, "class").verdict, Verdict::Fail);
    let reversed = voltage_unit("reversed = true\n");
    let (found, _) = play(&asset(VOLTAGE), &voltage_rig(), &reversed, 1, "procedure = \"class\"\n");
    assert_eq!(of(&found, "polarity").verdict, Verdict::Fail);
    // Readings that say nothing of the transformer grade nothing of it.
    let swapped = voltage_unit("meters_swapped = true\n");
    let (found, _) = play(&asset(VOLTAGE), &voltage_rig(), &swapped, 1, "procedure = \"class\"\n");
    let readings = of(&found, "readings");
    assert_eq!(readings.verdict, Verdict::Inconclusive, "{}", readings.reason);
    assert!(readings.reason.contains("leads are swapped"), "{}", readings.reason);
    assert_eq!(of(&found, "class").verdict, Verdict::Inconclusive);
}

/// Cores are fed no more than each of them and the meter stand, should something link them; what the test
/// cannot tell of an asset is refused with the reason.
#[test]
fn between_cores_nothing_is_put_out_that_a_link_would_make_too_much() {
    let core = |id: &str, volts: &str| {
        format!(
            "[[core]]\nid = \"{id}\"\nterminals = \"{id}S1-{id}S2\"\nsecondary = \"1 A\"\ntest_voltage = \"{volts}\"\n"
        )
    };
    let head = "[asset]\nkind = \"current-transformer\"\ntag = \"T\"\n[ratings]\nfrequency = \"50 Hz\"\nprimary = \"600 A\"\n";
    let two = asset(&format!("{head}{}{}", core("1", "500 V"), core("2", "20 V")));
    let rig = capability(&rig(500.0, 1.0));
    let test = |more: &str| {
        let plan = plan(&two, &format!("procedure = \"cores\"\n{more}"));
        plan.tests[0]
            .procedure(Bench { asset: &two, capability: &rig })
            .map(|mut p| p.as_mut().expect("no sequence").planned())
    };
    let planned = test("").unwrap();
    // A tenth of the weaker core's 20 V, whichever is fed.
    for point in &planned {
        let most = point.program.maxima().into_iter().fold(0.0, |a: f64, (_, v, _)| a.max(v));
        assert!((most - 2.0).abs() < 1e-9, "{most} V");
    }
    assert_eq!(planned.len(), 2);
    let error = test("core = \"1\"\nlevel = \"3 V\"\n").unwrap_err().to_string();
    assert!(error.contains("3 V is more than the 2 V"), "{error}");
    let one = asset(&format!("{head}{}", core("1", "500 V")));
    let source = Source::new(
        "plan",
        "[plan]\ntitle = \"t\"\nasset = \"a\"\n[[test]]\nid = \"t\"\nprocedure = \"cores\"\n",
    );
    let form = waltron_core::plan::PlanForm::load(&source, support::WINGS).unwrap();
    let error = form.resolve(&source, &one).unwrap_err();
    assert!(error.problems[0].message.contains("one core"), "{}", error.problems[0].message);
}

/// Remanence of 70 % is found, of either sign, and gone afterwards; a core without any has none before.
#[test]
fn demagnetising_shows_what_was_there_and_that_it_is_gone() {
    for (remanence, before) in [("70 %", 0.7), ("0 %", 0.0), ("45 %", 0.45)] {
        let unit = format!("{CORE}remanence = \"{remanence}\"\n");
        let (found, seen) =
            play(&asset(ASSET), &rig(500.0, 1.0), &unit, 1, "procedure = \"demagnetise\"\n");
        let f = of(&found, "remanence");
        assert_eq!(f.verdict, Verdict::Pass, "{}", f.reason);
        let value = |name| f.measured.get(name).unwrap();
        assert!((value("before") - before).abs() < 0.06, "{}", f.reason);
        assert!(value("after") < 0.05, "{}", f.reason);
        // It ends with the voltage taken down, not with the direct current.
        let last = &seen.last().unwrap().0;
        assert!(last.position("excitation").is_some());
    }
}

/// The primary fed with its rated current and a twentieth of it: the errors are those of the waves.
#[test]
fn errors_by_primary_injection_are_held_against_the_class_where_it_says_something() {
    let mut text = String::from(
        "[rig]\nkind = \"virtual\"\nname = \"r\"\nspecimen = \"s\"\n[[current]]\nid = \"ip\"\nmeaning = \"primary current\"\nrange = \"800 A\"\nkind = \"ac\"\n",
    );
    for (id, meaning, range) in
        [("M1", "primary current", "800 A"), ("M2", "secondary current", "2 A")]
    {
        text += &format!(
            "[[meter]]\nid = \"{id}\"\nmeaning = \"{meaning}\"\nmeasures = \"current\"\nrange = \"{range}\"\naccuracy = \"0.02 %\"\nangle_accuracy = \"0.005 deg\"\n"
        );
    }
    let plate = asset(&ASSET.replace("5P20", "0.5"));
    let test = "procedure = \"errors\"\nat = [\"600 A\", \"30 A\", \"100 A\"]\n";
    let (found, _) = play(&plate, &text, CORE, 1, test);
    let seen = phasor(&secondary(CORE, 600.0), 12_800.0, 50.0, 3.8);
    let error = of(&found, "600A/ratio-error");
    let u = error.uncertainty.get("u").unwrap();
    assert!((error.measured.get("error").unwrap() - (seen.norm() - 1.0)).abs() < u);
    assert_eq!(error.limits.upper(), Some(0.005));
    assert_eq!(of(&found, "30A/phase").limits.words().unwrap(), "-90.00 min … 90.00 min");
    assert_eq!(of(&found, "100A/ratio-error").verdict, Verdict::Measured, "no row of the table");
    let off =
        asset(&ASSET.replace("5P20", "0.5").replace("primary = \"600 A\"", "primary = \"606 A\""));
    let (found, _) = play(&off, &text, CORE, 1, "procedure = \"errors\"\nat = [\"606 A\"]\n");
    assert_eq!(of(&found, "606A/ratio-error").verdict, Verdict::Fail);
}

/// Without a nameplate the ratio is estimated, said so, and nothing is a pass of it.
#[test]
fn what_the_nameplate_does_not_tell_is_estimated_and_no_pass() {
    let unknown = ASSET.replace("primary = \"600 A\"\n", "");
    let with_class = asset(&unknown);
    let (found, _) = play(
        &with_class,
        &rig(500.0, 1.0),
        CORE,
        1,
        TEST.replace("\n", "\nuntil = \"1.5 A\"\n")
            .lines()
            .take(3)
            .collect::<Vec<_>>()
            .join("\n")
            .as_str(),
    );
    assert_eq!(
        of(&found, "class").verdict,
        Verdict::Inconclusive,
        "{}",
        of(&found, "class").reason
    );
    assert_eq!(of(&found, "ratio").verdict, Verdict::Measured);
    let bare = asset(&unknown.replace("class = \"5P20\"\nburden = \"10 VA\"\n", ""));
    let (found, _) = play(&bare, &rig(500.0, 1.0), CORE, 1, TEST);
    let estimate = of(&found, "estimate");
    assert_eq!(estimate.verdict, Verdict::Measured);
    for words in ["estimated: 600 A / 1 A", "would meet", "5P20", "asset's file"] {
        assert!(estimate.reason.contains(words), "{words}: {}", estimate.reason);
    }
    assert!(found.iter().all(|f| f.point.id != "t/class"));
}

/// A primary of two halves: in parallel 600 A, in series 300 A, with the same secondary turns.
#[test]
fn a_primary_in_series_has_half_the_ratio() {
    let linked = format!(
        "{ASSET}[[core.tap]]\nterminals = \"S1-S2\"\nprimary = \"600 A\"\n[[core.tap]]\nterminals = \"S1-S2\"\nprimary = \"300 A\"\nprimary_turns = 2\n"
    );
    let (found, seen) = play(&asset(&linked), &rig(500.0, 1.0), CORE, 1, TEST);
    assert_eq!(failed(&found), Vec::<&str>::new());
    let turns = |what: &str| of(&found, what).measured.get("ratio").unwrap();
    let (parallel, series) = (turns("S1-S2/ratio"), turns("S1-S2/2-primary-turns/ratio"));
    assert!((parallel / series - 2.0).abs() < 1e-3, "{parallel} and {series}");
    // Somebody must link them: the place says so.
    let places: Vec<_> = seen.iter().filter_map(|(p, _)| p.connection.clone()).collect();
    assert!(places.iter().any(|p| *p == "S1-S2, 2 primary turns"), "{places:?}");
    let wrong = linked.replace("primary = \"300 A\"", "primary = \"250 A\"");
    let source = Source::new("asset", wrong.as_str());
    let error = support::WINGS.asset(&source).unwrap_err();
    assert!(error.problems[0].message.contains("do not add up"), "{}", error.problems[0].message);
}
