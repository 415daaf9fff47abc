//! Impedances and exciting currents at high voltage, against the simulated windings' own numbers.
#![allow(clippy::unwrap_used, missing_docs)]

mod support;

use support::{asset, failed, of, plan_refused, play};
use waltron_core::asset::Asset;
use waltron_core::grading::{Finding, Verdict};

const T2: &str = include_str!("../../../examples/t2.asset.toml");
const T2_RIG: &str = include_str!("../../../examples/t2.rig.toml");
const T2_TRUTH: &str = include_str!("../../../examples/t2.specimen.toml");
const AT1: &str = include_str!("../../../examples/at1.asset.toml");
const AT1_RIG: &str = include_str!("../../../examples/at1.rig.toml");
const AT1_TRUTH: &str = include_str!("../../../examples/at1.specimen.toml");

fn measured(asset: &Asset, rig: &str, truth: &str, procedure: &str, keys: &str) -> Vec<Finding> {
    play(asset, rig, truth, 11, &format!("procedure = \"{procedure}\"\n{keys}")).0
}

/// By hand: T2's coils are 2 Ω with 907.3 turns (11.34 a step) and 3 Ω with 285.7 in the delta, 0.318 Ω and
/// 36 mΩ at 20 °C; a phase of the star sees its own leakage and the other one's by the turns squared.
fn t2_share(steps: f64) -> f64 {
    let (turns, warm) = (907.3 + steps * 11.34, 251.0 / 255.0);
    let ratio = (turns / 285.7f64).powi(2);
    // Leakage goes with the turns squared, the wire with the turns.
    let x = 2.0 * (turns / 907.3).powi(2) + 3.0 * ratio;
    let milliohms = warm * (318.0 * turns / 907.3 + 36.0 * ratio);
    let r = milliohms / 1e3;
    let volts = (110.0f64 + steps * 1.375) * 1e3;
    x.hypot(r) / (volts * volts / 40e6)
}

#[test]
fn short_circuit_impedances_are_those_of_the_windings() {
    let asset = asset(T2);
    let keys = "positions = [\"1\", \"10\", \"19\"]";
    let found = measured(&asset, T2_RIG, T2_TRUTH, "impedance", keys);
    assert!(failed(&found).iter().all(|id| !id.starts_with("10/")), "{:?}", failed(&found));
    for (position, steps) in [("1", 9.0), ("10", 0.0), ("19", -9.0)] {
        let grade = of(&found, &format!("{position}/impedance"));
        let off = grade.measured.get("impedance").unwrap() / t2_share(steps) - 1.0;
        assert!(off.abs() < 0.01, "{position}: {off}");
        assert_eq!(of(&found, &format!("{position}/difference")).verdict, Verdict::Pass);
    }
    // The nameplate speaks of the principal position alone.
    assert_eq!(of(&found, "10/impedance").verdict, Verdict::Pass);
    assert_eq!(of(&found, "1/impedance").verdict, Verdict::Measured);
    // Another nameplate, another verdict.
    let other = support::asset(&T2.replace("impedance = \"10.4 %\"", "impedance = \"12 %\""));
    let found = measured(&other, T2_RIG, T2_TRUTH, "impedance", "");
    assert_eq!(of(&found, "10/impedance").verdict, Verdict::Fail);
}

/// A delta that is fed line to line, the star shorted: two thirds of a leg between lines, the same by the formula.
/// By hand: 40 + 7e-3·(2598/30)² Ω a leg; a third of it a phase.
#[test]
fn a_delta_is_told_as_the_star_that_it_is_worth() {
    let sound: Vec<&str> = AT1_TRUTH.lines().filter(|l| !l.starts_with("shorted")).collect();
    let asset = asset(AT1);
    let found = measured(&asset, AT1_RIG, &sound.join("\n"), "impedance", "");
    let grade = of(&found, "3/impedance");
    let ratio = (2598.0f64 / 30.0).powi(2);
    // 12 °C of aluminium against 20 °C.
    let warm = 237.0 / 245.0;
    let leg = (40.0 + 7e-3 * ratio).hypot(warm * (14.8 + 2.1e-3 * ratio));
    let share = leg / 3.0 / (20e3f64.powi(2) / 400e3);
    let off = grade.measured.get("impedance").unwrap() / share - 1.0;
    assert!(off.abs() < 0.01, "{off}");
    assert_eq!(grade.verdict, Verdict::Measured, "the nameplate says nothing");
    // From the low-voltage side 100 V would drive many times what the winding is rated for.
    let refused = |keys: &str| {
        let plan = support::plan(&asset, &format!("procedure = \"impedance\"\n{keys}"));
        let rig = support::capability(AT1_RIG);
        let bench = waltron_core::procedure::Bench { asset: &asset, capability: &rig };
        plan.tests[0].procedure(bench).err().unwrap().to_string()
    };
    let why = refused("winding = 2\nvoltage = \"100 V\"");
    assert!(why.contains("which is rated for 577.4 A"), "{why}");
    assert!(refused("winding = 2").contains("less than the output sets"));
}

/// A coil that has moved has another leakage: the lines that see it differ.
#[test]
fn a_moved_winding_and_a_forgotten_strap_are_seen() {
    let asset = asset(T2);
    let moved = T2_TRUTH.replace(
        "{ at = \"2U-2V\", limb = 2 }",
        "{ at = \"2U-2V\", limb = 2, turns = 285.7, leakage = \"3.4 Ohm\" }",
    );
    let found = measured(&asset, T2_RIG, &moved, "impedance", "");
    assert_eq!(failed(&found), ["10/difference"], "{found:?}");
    let why = &of(&found, "10/difference").reason;
    assert!(why.contains("phase V") && why.contains("a winding has moved"), "{why}");
    let zero = measured(&asset, T2_RIG, T2_TRUTH, "impedance", "sequence = \"zero\"");
    let grade = of(&zero, "10/zero");
    // The delta is a short circuit for it; what closes through air and tank lies beside.
    let share = grade.measured.get("impedance").unwrap() / t2_share(0.0);
    assert!((0.7..1.01).contains(&share), "{share}");
    assert_eq!(grade.verdict, Verdict::Measured);
    assert!(grade.reason.contains("of the short-circuit impedance"), "{}", grade.reason);
    let refused =
        plan_refused(&asset, "procedure = \"impedance\"\nsequence = \"zero\"\nwinding = 2");
    assert!(refused.contains("winding 2 of YNd5 has none"), "{refused}");
    let refused = plan_refused(&asset, "procedure = \"impedance\"\nshorted = 1");
    assert!(refused.contains("another one is shorted"), "{refused}");
}

/// Exciting currents at 10 kV make the pattern of three limbs; a shorted turn breaks it.
#[test]
fn exciting_currents_at_high_voltage_show_a_shorted_turn() {
    let asset = asset(T2);
    let found = measured(&asset, T2_RIG, T2_TRUTH, "exciting-current", "");
    let grade = of(&found, "10/exciting");
    assert_eq!(grade.verdict, Verdict::Pass, "{}", grade.reason);
    let amps: Vec<f64> = ["u", "v", "w"]
        .iter()
        .map(|p| grade.measured.get(&format!("exciting_{p}")).unwrap())
        .collect();
    assert!(amps[1] < 0.95 * amps[0] && amps[1] < 0.95 * amps[2], "{amps:?}");
    assert_eq!(grade.stimulus.get("voltage"), Some(10e3));
    let turn = T2_TRUTH.replace(
        "spread = \"0.5 %\"",
        "spread = \"0.5 %\"\nshorted = { limb = 1, turns = 1, resistance = \"60 mOhm\" }",
    );
    let found = measured(&asset, T2_RIG, &turn, "exciting-current", "");
    assert_eq!(of(&found, "10/exciting").verdict, Verdict::Fail, "{found:?}");
    // More than the pair is rated for is refused.
    let keys = "procedure = \"exciting-current\"\nvoltage = \"12 kV\"\nwinding = 2";
    let plan = support::plan(&asset, keys);
    let rig = support::capability(T2_RIG);
    let bench = waltron_core::procedure::Bench { asset: &asset, capability: &rig };
    let why = plan.tests[0].procedure(bench).err().unwrap().to_string();
    assert!(why.contains("11.55 kV at most"), "{why}");
}

/// What direct current left goes, and it shows in what a phase takes when it is switched on: as much at first as
/// later.
#[test]
fn remanence_is_taken_away_and_shown() {
    let magnetised = |truth: &str| {
        truth.replace("spread = \"0.5 %\"", "spread = \"0.5 %\"\nremanence = [0.6, 0.1, -0.7]")
    };
    let sound: Vec<&str> = AT1_TRUTH.lines().filter(|l| !l.starts_with("shorted")).collect();
    let at1 = magnetised(&sound.join("\n"));
    let run = |asset_text: &str, rig: &str, truth: &str, keys: &str| {
        let found = measured(&asset(asset_text), rig, truth, "core-demagnetisation", keys);
        assert_eq!(of(&found, "before").verdict, Verdict::Measured);
        found
    };
    let found = run(AT1, AT1_RIG, &at1, "");
    let before = of(&found, "before");
    assert!(before.reason.contains("beyond its meter's range"), "{}", before.reason);
    for found in [found, run(T2, T2_RIG, &magnetised(T2_TRUTH), "")] {
        let inrush = of(&found, "inrush");
        assert_eq!(inrush.verdict, Verdict::Pass, "{}", inrush.reason);
        assert!(inrush.measured.get("inrush").unwrap() < 1.05, "{}", inrush.reason);
        assert_eq!(of(&found, "exciting").verdict, Verdict::Pass);
    }
    // A meter that cannot follow later either says nothing.
    let small = AT1_RIG.replacen("range = \"5 A\"", "range = \"0.4 A\"", 1);
    assert_ne!(small, AT1_RIG);
    let found = run(AT1, &small, &at1, "");
    assert_eq!(of(&found, "inrush").verdict, Verdict::Inconclusive, "{found:?}");
    for point in ["inrush", "exciting"] {
        let reason = &of(&found, point).reason;
        assert!(reason.contains("a lower `voltage` takes less"), "{reason}");
    }
    // And with a lower one it does.
    let found = run(AT1, &small, &at1, "voltage = \"5 V\"");
    assert_eq!(of(&found, "inrush").verdict, Verdict::Pass, "{found:?}");
    assert_eq!(of(&found, "inrush").stimulus.get("voltage"), Some(5.0));
    let plan =
        support::plan(&asset(AT1), "procedure = \"core-demagnetisation\"\nvoltage = \"240 V\"");
    let (asset_of_at1, rig) = (asset(AT1), support::capability(AT1_RIG));
    let bench = waltron_core::procedure::Bench { asset: &asset_of_at1, capability: &rig };
    let why = plan.tests[0].procedure(bench).err().unwrap().to_string();
    assert!(why.contains("at most"), "{why}");
    let refused =
        plan_refused(&asset(T2), "procedure = \"core-demagnetisation\"\ncurrent = \"60 A\"");
    assert!(refused.contains("50 A may flow through winding 2"), "{refused}");
    let asset = asset(T2);
    let plan = support::plan(&asset, "procedure = \"core-demagnetisation\"\ncurrent = \"12 mA\"");
    let rig = support::capability(T2_RIG);
    let bench = waltron_core::procedure::Bench { asset: &asset, capability: &rig };
    let why = plan.tests[0].procedure(bench).err().unwrap().to_string();
    assert!(why.contains("demagnetises nothing"), "{why}");
}
