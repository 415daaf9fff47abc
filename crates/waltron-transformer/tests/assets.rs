//! Asset files of instrument transformers: what stands in them, and what is wrong in them, at its place.

mod support;

use support::{WINGS, asset};
use waltron_core::text::document::Source;
use waltron_transformer::{InstrumentTransformer, Wanted};

const TAPS: &str = r#"[asset]
kind = "current-transformer"
tag = "T"
[ratings]
frequency = "50 Hz"
primary = "600 A"
[[phase]]
id = "A"
[[phase]]
id = "B"
[[core]]
id = "1"
secondary = "1 A"
class = "5P20"
burden = "10 VA"
test_voltage = "600 V"
resistance = "5 Ohm"
[[core.tap]]
terminals = "1S1-1S2"
primary = "200 A"
burden = "3 VA"
[[core.tap]]
terminals = "1S1-1S3"
primary = "600 A"
[[core.tap]]
terminals = "1S2-1S3"
primary = "400 A"
class = "none"
[[core]]
id = "2"
secondary = "1 A"
terminals = "2S1-2S2"
class = "PX"
knee = "300 V"
exciting_current = "30 mA"
"#;

fn error(text: &str) -> String {
    match WINGS.asset(&Source::new("a.asset.toml", text)) {
        Ok(_) => panic!("it was read:\n{text}"),
        // Every problem with the text that it stands at.
        Err(error) => {
            let told = error.problems.iter().map(|p| {
                format!("`{}`: {}", text.get(p.span.clone()).unwrap_or_default(), p.message)
            });
            told.collect::<Vec<_>>().join("; ")
        }
    }
}

#[test]
fn places_come_phase_by_phase_and_a_tap_has_its_own_limits() {
    let asset = asset(TAPS);
    let of: &InstrumentTransformer = asset.family().unwrap();
    let names = |wanted: &Wanted| {
        let spots = of.spots(wanted).unwrap();
        spots.iter().map(|s| s.connection.as_ref().unwrap().to_string()).collect::<Vec<_>>()
    };
    let all = ["A 1S1-1S2", "A 1S1-1S3", "A 1S2-1S3", "A 2S1-2S2"];
    assert_eq!(names(&Wanted::default())[..4], all);
    assert_eq!(names(&Wanted::default()).len(), 8);
    let one = Wanted { phase: Some("B".into()), tap: Some("1S1-1S2".into()), ..Wanted::default() };
    assert_eq!(names(&one), ["B 1S1-1S2"]);
    let taps = &of.secondaries[0].taps;
    // A third of the turns: a third of what the whole winding withstands.
    let volts: Vec<f64> = taps.iter().map(|t| t.test_voltage_v.unwrap()).collect();
    assert!(
        volts.iter().zip([200.0, 600.0, 400.0]).all(|(a, b)| (a - b).abs() < 1e-9),
        "{volts:?}"
    );
    assert_eq!(taps[0].burden_va, Some(3.0));
    assert_eq!((taps[0].resistance_ohm, taps[1].resistance_ohm), (None, Some(5.0)));
    assert_eq!((taps[1].class.is_some(), taps[2].class), (true, None));
    for (wanted, told) in [
        (Wanted { phase: Some("C".into()), ..Wanted::default() }, "no phase `C`"),
        (Wanted { tap: Some("1S1-1S4".into()), ..Wanted::default() }, "did you mean `1S1-1S"),
        (
            Wanted { core: Some("2".into()), tap: Some("1S1-1S2".into()), ..Wanted::default() },
            "no place of the asset",
        ),
    ] {
        let refused = of.spots(&wanted).unwrap_err().to_string();
        assert!(refused.contains(told), "{refused}");
    }
}

/// Each mistake with a word of what is told of it; none of them loads.
#[test]
fn mistakes_are_told_with_a_way_out() {
    for (from, to, told) in [
        ("primary = \"400 A\"", "primary = \"450 A\"", "do not add up"),
        ("terminals = \"1S2-1S3\"", "terminals = \"1S1-1S3\"", "is there twice"),
        ("terminals = \"1S2-1S3\"", "terminals = \"1S2\"", "write two terminals"),
        ("terminals = \"1S2-1S3\"", "terminals = \"1S2-1S2\"", "write two terminals"),
        ("id = \"2\"", "id = \"1\"", "two of them are called `1`"),
        ("id = \"B\"", "id = \"A\"", "two phases are called `A`"),
        ("id = \"B\"", "id = \"B/C\"", "no name for a phase"),
        ("class = \"5P20\"", "class = \"5P0.9\"", "below the rated current"),
        ("class = \"5P20\"", "class = \"0.2SS\"", "did you mean `0.2S`"),
        ("class = \"5P20\"", "class = \"0.5P\"", "no accuracy class"),
        ("burden = \"10 VA\"", "burden = \"0 VA\"", "must be above zero"),
        ("burden = \"10 VA\"", "power_factor = 1.2\nburden = \"10 VA\"", "between 0 and 1"),
        ("[[core]]\nid = \"2\"", "[[winding]]\nid = \"2\"", "has `[[core]]`"),
        ("test_voltage = \"600 V\"", "test_voltage = \"-600 V\"", "must be above zero"),
        // What nothing would look at.
        (
            "test_voltage = \"600 V\"",
            "symmetrical = 5\ntest_voltage = \"600 V\"",
            "belong together",
        ),
        (
            "test_voltage = \"600 V\"",
            "security_factor = 5\ntest_voltage = \"600 V\"",
            "measuring core",
        ),
        (
            "test_voltage = \"600 V\"",
            "extended = \"150 %\"\ntest_voltage = \"600 V\"",
            "measuring core",
        ),
        (
            "test_voltage = \"600 V\"",
            "voltage_factor = 1.9\ntest_voltage = \"600 V\"",
            "voltage transformers",
        ),
        ("knee = \"300 V\"", "", "give `knee`"),
        ("exciting_current = \"30 mA\"", "exciting_at = \"50 %\"", "belongs to `exciting_current`"),
    ] {
        assert!(TAPS.contains(from), "{from}");
        let error = error(&TAPS.replacen(from, to, 1));
        assert!(error.contains(told) && !error.starts_with("``"), "{to}: {error}");
    }
    let bare = TAPS.replacen("burden = \"10 VA\"\n", "", 1).replacen("burden = \"3 VA\"\n", "", 1);
    assert!(error(&bare).contains("holds at a rated burden"), "{}", error(&bare));
    let none = TAPS.split("[[core]]").next().unwrap();
    assert!(error(none).contains("needs a table `[[core]]`"));
    let voltage = TAPS.replace("current-transformer", "voltage-transformer");
    assert!(error(&voltage).contains("has `[[winding]]`"));
}

/// A tap is fed with no more than its share of what the whole winding withstands, whoever wrote the level.
#[test]
fn a_tap_is_never_fed_with_what_only_the_whole_withstands() {
    let asset = asset(TAPS);
    let rig = support::capability(&support::rig(800.0, 1.0));
    let set_up = |tap: &str, level: &str| {
        let test =
            format!("procedure = \"ratio\"\nphase = \"A\"\ntap = \"{tap}\"\nlevel = \"{level}\"\n");
        let plan = support::plan(&asset, &test);
        let bench = waltron_core::procedure::Bench { asset: &asset, capability: &rig };
        plan.tests[0].procedure(bench).map(|_| ())
    };
    assert!(set_up("1S1-1S3", "600 V").is_ok() && set_up("1S1-1S2", "200 V").is_ok());
    let refused = set_up("1S1-1S2", "201 V").unwrap_err().to_string();
    assert!(
        refused.contains("201 V is more than the 200 V that A 1S1-1S2 withstands"),
        "{refused}"
    );
}
