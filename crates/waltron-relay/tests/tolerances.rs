//! What an asset's file says of tolerances is used for what it says, or refused; stages are held against
//! what is put out.

#![allow(clippy::unwrap_used, reason = "a test that cannot be set up has failed")]

use waltron_core::asset::{Asset, Element};
use waltron_core::characteristic::spread;
use waltron_core::injection::stimulus::{Drive, PHASE_VOLTAGES, Stimulus};
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::tolerance::{AnyTolerance, Tolerance};
use waltron_core::quantity::{
    Current, Dimension, Frequency, Measure, Time, Voltage, amperes, degrees, seconds,
};
use waltron_core::text::document::Source;
use waltron_relay::{AssetForm, Overcurrent, Stage};
use waltron_test_support::relay;

const STAGES: &str = r#"
[[element]]
id = "59"
function = "overvoltage"
pickup = "110 V"
reset_ratio = "97 %"
curve = { family = "definite", delay = "1 s" }
tolerance = { pickup = "2 %", reset_ratio = "1 %" }
[[element]]
id = "27"
function = "undervoltage"
pickup = "40 V"
reset_ratio = "103 %"
curve = { family = "definite", delay = "2 s" }
[[element]]
id = "81U"
function = "underfrequency"
pickup = "49 Hz"
curve = { family = "definite", delay = "0.15 s" }
"#;

fn overcurrent(asset: &Asset, id: &str) -> Element<Overcurrent> {
    asset.element(id).unwrap().of().unwrap()
}

fn volts(values: [f64; 3], hertz: f64) -> Stimulus {
    let drive = |(volts, (channel, angle)): (f64, (&str, f64))| {
        let phasor = Phasor::new(Voltage::from_si(volts), degrees(angle));
        Drive::sine(channel.into(), phasor, Frequency::from_si(hertz))
    };
    let places = PHASE_VOLTAGES.into_iter().zip([0.0, -120.0, 120.0]);
    Stimulus { currents: Vec::new(), voltages: values.into_iter().zip(places).map(drive).collect() }
}

fn band(asset: &Asset, id: &str, out: &Stimulus) -> [Option<f64>; 3] {
    let band = asset.element(id).unwrap().required(out);
    [band.expected, band.earliest, band.latest].map(|t| t.map(Time::si))
}

/// 59 watches the highest voltage, 27 the lowest; between the limits of the setting either is right.
#[test]
fn stages_are_held_against_what_is_put_out() {
    let asset = relay(STAGES);
    let sure = |delay: f64| [Some(delay), Some(delay * 0.95), Some(delay * 1.05)];
    let none = [None; 3];
    assert_eq!(band(&asset, "59", &volts([60.0, 115.0, 60.0], 50.0)), sure(1.0));
    assert_eq!(band(&asset, "59", &volts([107.0; 3], 50.0)), none);
    assert_eq!(band(&asset, "59", &volts([109.0; 3], 50.0)), [None, Some(0.95), None]);
    assert_eq!(band(&asset, "59", &volts([111.0; 3], 50.0)), [Some(1.0), Some(0.95), None]);
    assert_eq!(band(&asset, "27", &volts([60.0, 30.0, 60.0], 50.0)), sure(2.0));
    assert_eq!(band(&asset, "27", &volts([60.0; 3], 50.0)), none);
    assert_eq!(band(&asset, "27", &volts([0.0; 3], 50.0)), sure(2.0), "no voltage is the lowest");
    // 0.15 s: the absolute part of the time's tolerance counts.
    let near = |a: [Option<f64>; 3], b: [f64; 3]| {
        a.into_iter().zip(b).all(|(a, b)| (a.unwrap() - b).abs() < 1e-12)
    };
    assert!(near(band(&asset, "81U", &volts([60.0; 3], 48.9)), [0.15, 0.11, 0.19]));
    assert_eq!(band(&asset, "81U", &volts([60.0; 3], 49.5)), none);
    assert_eq!(band(&asset, "81U", &volts([0.0; 3], 48.0)), none, "no voltage has no frequency");
}

#[test]
fn what_is_taken_without_a_file_s_word_is_told() {
    let asset = relay(STAGES);
    let stage = |id: &str| asset.element(id).unwrap().of::<Stage>().unwrap();
    assert_eq!(stage("59").pickup_tolerance.limits(100.0), (98.0, 102.0));
    let (low, high) = stage("81U").pickup_tolerance.limits(49.0);
    assert!((low - 48.98).abs() < 1e-9 && (high - 49.02).abs() < 1e-9, "of a frequency 20 mHz");
    let told = asset.assumed.join(", ");
    assert_eq!(
        told,
        "current 5 %, time 5 % or 40 ms, reset ratio 3 %, 27 pickup 1 %, 81U pickup 20 mHz"
    );
}

fn refused(element: &str, head: &str) -> String {
    let text = format!(
        "[asset]\nkind = \"relay\"\ntag = \"Q\"\n[ratings]\nfrequency = \"50 Hz\"\n{head}\n[[element]]\n{element}\n"
    );
    let error = AssetForm::load(&Source::new("a", text)).unwrap_err();
    error.problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; ")
}

#[test]
fn a_tolerance_that_would_be_ignored_is_refused() {
    let over = "id = \"51P\"\nfunction = \"overcurrent\"\nmeasures = \"phase\"\npickup = \"1 A\"\ncurve = { family = \"definite\", delay = \"1 s\" }";
    let volts = "id = \"27\"\nfunction = \"undervoltage\"\npickup = \"40 V\"\ncurve = { family = \"definite\", delay = \"1 s\" }";
    let with = |element: &str, tolerance: &str| format!("{element}\ntolerance = {{ {tolerance} }}");
    let cases = [
        (refused(over, "[tolerance]\npickup = \"1 %\""), "belongs to one element"),
        (refused(&with(over, "pickup = \"5 V\""), ""), "a current"),
        (refused(&with(over, "pickup = \"5 kg\""), ""), "kg"),
        (refused(&with(over, "pickup = \"1 %\", current = \"2 %\""), ""), "the same tolerance"),
        (refused(&with(volts, "current = \"1 %\""), ""), "no tolerance of `current`"),
        (refused(&with(volts, "angle = \"1 deg\""), ""), "no tolerance of `angle`"),
        (refused(&format!("{volts}\nreset_ratio = \"97 %\""), ""), "resets above its setting"),
        (refused(&format!("{volts}\nstart_time = \"50 ms\""), ""), "`start_time` belongs to"),
        (refused(&format!("{over}\nstart_time = \"0 s\""), ""), "must be above zero"),
    ];
    for (found, wanted) in cases {
        assert!(found.contains(wanted), "{wanted}: {found}");
    }
    // Of an overcurrent element it is used.
    let asset = relay(&format!("[[element]]\n{}", with(over, "pickup = \"1 %\"")));
    let current = overcurrent(&asset, "51P").tolerances.current;
    assert_eq!(current, Tolerance::<Current>::parse("1 %").unwrap());
}

/// Each part of a tolerance, and of a rating, may be worked out, also in cycles of the nominal 50 Hz.
#[test]
fn parts_of_tolerances_are_worked_out() {
    let with = |tolerance: &str| {
        relay(&format!(
            "[tolerance]\n{tolerance}\n[[element]]\nid = \"51P\"\nfunction = \"overcurrent\"\n\
             measures = \"phase\"\npickup = \"1 A\"\ncurve = {{ family = \"definite\", delay = \"3 cycles\" }}\n"
        ))
    };
    let asset =
        with("time = \"5 % + 2 cycles\"\ncurrent = \"2 % or 0.005 * nominal.current + 1 mA\"");
    let element = overcurrent(&asset, "51P");
    let time = element.tolerances.time;
    let near = |a: f64, b: f64| (a - b).abs() < 1e-12;
    assert!(near(time.upper(seconds(1.0)).si(), 1.09) && near(time.lower(seconds(1.0)).si(), 0.91));
    assert_eq!(element.characteristic.operate_time(2.0), Some(seconds(0.06)));
    let nominal = asset.ratings.current.unwrap().si();
    let current = element.tolerances.current;
    assert!(near(current.upper(amperes(0.01)).si(), 0.01 + 0.005 * nominal + 1e-3));
    let sides = overcurrent(&with("time = \"+2 * 10 ms / -1 cycle\""), "51P").tolerances.time;
    assert!(
        near(sides.upper(seconds(1.0)).si(), 1.02) && near(sides.lower(seconds(1.0)).si(), 0.98)
    );
    // So may the limit of an element without a delay, which is its tolerance of time.
    let over = "id = \"51P\"\nfunction = \"overcurrent\"\nmeasures = \"phase\"\npickup = \"1 A\"\n";
    let instant = format!(
        "[[element]]\n{over}curve = {{ family = \"instantaneous\", within = \"3 cycles\" }}\n"
    );
    let within = overcurrent(&relay(&instant), "51P").tolerances.time;
    assert!(near(within.upper(seconds(0.0)).si(), 0.06));
    let over = &format!("{over}curve = {{ family = \"definite\", delay = \"1 s\" }}");
    for (tolerance, because) in [
        ("time = \"5 % or 2 * nominal.frequency\"", "a frequency, but a time"),
        ("time = \"5 % or 2 * nominol.current\"", "nothing is called `nominol.current`"),
        ("time = \"5 % or 20 ms - 2 cycles\"", "cannot be negative"),
    ] {
        let found = refused(over, &format!("[tolerance]\n{tolerance}"));
        assert!(found.contains(because), "{tolerance}: {found}");
    }
}

/// A slash parts two sides only where a sign follows it.
#[test]
fn tolerances_of_rates_can_be_written() {
    let rate = |text| AnyTolerance::parse(text, Dimension::FREQUENCY_RATE).unwrap().limits(1.0);
    let near =
        |(a, b): (f64, f64), (c, d): (f64, f64)| (a - c).abs() < 1e-12 && (b - d).abs() < 1e-12;
    assert!(near(rate("0.05 Hz/s"), (0.95, 1.05)));
    assert!(near(rate("10 % or 0.05 Hz/s"), (0.9, 1.1)));
    assert!(near(rate("+0.2 Hz/s / -0.1 Hz/s"), (0.9, 1.2)));
    assert!(AnyTolerance::parse("0.05 Hz/ s / 3", Dimension::FREQUENCY_RATE).is_err());
}

/// The very inverse curve at 2 x, tms 0.3: 4.05 s; at 1 % less 4.05/0.98, at 1 % more 4.05/1.02.
#[test]
fn the_accuracy_of_a_current_moves_the_time_along_the_curve() {
    let asset = relay(
        "[[element]]\nid = \"51P\"\nfunction = \"overcurrent\"\nmeasures = \"phase\"\npickup = \"1 A\"\n\
         curve = { family = \"iec\", shape = \"very-inverse\", tms = 0.3 }\n",
    );
    let element = overcurrent(&asset, "51P");
    let at = |share: f64| {
        let phases = FaultLoop::AN.currents(amperes(2.0 * share)).map(Phasor::complex);
        element.acceptance(phases).expected
    };
    let moved = spread(at, 0.01).si();
    assert!((moved - (4.05 / 0.98 - 4.05)).abs() < 1e-9, "{moved}");
    assert_eq!(spread(|_| Some(seconds(0.1)), 0.01), seconds(0.0), "a definite time does not move");
    assert_eq!(spread(|_| None, 0.01), seconds(0.0));
}

/// An instantaneous element has its own limit of time; the multiplier of an IEEE shape may have its
/// own name.
#[test]
fn curves_are_written_in_the_words_of_their_standard() {
    let over = |curve: &str| {
        format!(
            "id = \"50P\"\nfunction = \"overcurrent\"\nmeasures = \"phase\"\npickup = \"1 A\"\ncurve = {{ {curve} }}"
        )
    };
    let asset =
        relay(&format!("[[element]]\n{}", over("family = \"instantaneous\", within = \"35 ms\"")));
    let phases = FaultLoop::AN.currents(amperes(2.0)).map(Phasor::complex);
    let band = overcurrent(&asset, "50P").acceptance(phases);
    let times = [band.expected, band.earliest, band.latest].map(|t| t.map(Time::si));
    assert_eq!(times, [Some(0.0), Some(0.0), Some(0.035)]);
    let ieee = |key: &str| {
        let curve = format!("family = \"ieee\", shape = \"very-inverse\", {key} = 2");
        let relay = relay(&format!("[[element]]\n{}", over(&curve)));
        overcurrent(&relay, "50P").characteristic.clone()
    };
    assert_eq!(ieee("td"), ieee("tms"));
    let iec = over("family = \"iec\", shape = \"very-inverse\", td = 2");
    assert!(refused(&iec, "").contains("`td` does not belong"));
    let both = over("family = \"ieee\", shape = \"very-inverse\", td = 2, tms = 2");
    assert!(refused(&both, "").contains("the same multiplier"));
    let twice = over("family = \"instantaneous\", within = \"35 ms\"");
    assert!(
        refused(&format!("{twice}\ntolerance = {{ time = \"5 %\" }}"), "").contains("its `within`")
    );
    assert!(refused(&over("family = \"instantaneous\""), "").contains("within"));
    let foreign = over("family = \"definite\", delay = \"1 s\", within = \"2 s\"");
    assert!(refused(&foreign, "").contains("`within` does not belong"));
}

/// What is graded against a setting is graded against the asset's, whatever a plan calls so.
#[test]
fn a_plan_cannot_give_a_setting_another_value() {
    use waltron_core::plan::PlanForm;
    let asset = relay(STAGES);
    let error = |name: &str| {
        let text = format!(
            "[plan]\ntitle = \"t\"\nasset = \"a\"\n[let]\n\"{name}\" = \"3 V\"\n[[test]]\nid = \"t\"\nprocedure = \"sequence\"\nscript = \"x.seq\"\n"
        );
        let source = Source::new("plan", text);
        let plan = PlanForm::load(&source, waltron_relay::WINGS).unwrap().resolve(&source, &asset);
        plan.err().map(|e| e.problems[0].message.clone())
    };
    assert!(error("59.pickup").unwrap().contains("is a setting of the asset"));
    assert!(error("nominal.voltage").unwrap().contains("is a setting of the asset"));
    assert_eq!(error("own"), None);
}

/// What a procedure cannot test is named for what it is.
#[test]
fn a_procedure_says_what_it_tests() {
    use waltron_core::plan::PlanForm;
    let asset = relay(STAGES);
    let source = Source::new(
        "plan",
        "[plan]\ntitle = \"t\"\nasset = \"a\"\n[[test]]\nid = \"t\"\nprocedure = \"pickup\"\nelement = \"27\"\nloops = [\"A-N\"]\n",
    );
    let error = PlanForm::load(&source, waltron_relay::WINGS)
        .unwrap()
        .resolve(&source, &asset)
        .unwrap_err();
    let problem = &error.problems[0];
    assert!(problem.message.contains("`27` is undervoltage"), "{}", problem.message);
    assert!(problem.help.as_ref().unwrap().contains("sequence"));
}
