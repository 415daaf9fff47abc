//! A whole day at a transformer that has nothing: derived by its file and its rig, every test of it passes, whatever the
//! meters are off by; and a three-winding one, whose insulation has six parts.
#![allow(clippy::unwrap_used, missing_docs)]

mod support;

use proptest::prelude::*;
use support::{Played, WINGS, asset, capability, failed, of, play};
use waltron_core::defaults::Defaults;
use waltron_core::grading::{Finding, Verdict};
use waltron_core::procedure::{Answer, Question, Wanted};
use waltron_core::wing::Depth;

const T2: &str = include_str!("../../../examples/t2.asset.toml");
const T2_RIG: &str = include_str!("../../../examples/t2.rig.toml");
const T2_TRUTH: &str = include_str!("../../../examples/t2.specimen.toml");
const AT1: &str = include_str!("../../../examples/at1.asset.toml");
const AT1_RIG: &str = include_str!("../../../examples/at1.rig.toml");
const AT1_TRUTH: &str = include_str!("../../../examples/at1.specimen.toml");

/// Without defects, and as warm as a new plan says.
fn healthy(truth: &str) -> String {
    let kept = truth.lines().filter(|line| {
        !["crossed", "shorted", "interrupted"].iter().any(|word| line.starts_with(word))
    });
    let text = kept.collect::<Vec<_>>().join("\n");
    let text = text.replace("temperature = \"16 degC\"", "temperature = \"20 degC\"");
    let text = text.replace("temperature = \"12 degC\"", "temperature = \"20 degC\"");
    text.replace("\"31 degC\"", "\"20 degC\"").replace(
        "capacitance = \"388 pF\"\npolarisation = \"0.84 %\"",
        "capacitance = \"357 pF\"\npolarisation = \"0.3 %\"",
    )
}

/// The tests of a derived plan, each as its keys.
fn derived(asset_text: &str, rig: &str, depth: Depth) -> Vec<String> {
    let asset = asset(asset_text);
    let tests =
        WINGS.0[0].new_tests(&asset, Some(&capability(rig)), depth, &Defaults::default()).unwrap();
    let each = tests.split("[[test]]\n").skip(1).map(|text| {
        let keys = text.lines().filter(|line| !line.starts_with("id = ") && !line.starts_with('#'));
        keys.collect::<Vec<_>>().join("\n")
    });
    each.collect()
}

/// Somebody who reads sound insulation, and confirms everything else.
fn reads(question: &Question) -> Answer {
    match &question.wanted {
        Wanted::Quantity { .. } => Answer::Si(5e9),
        Wanted::Choice { of, .. } if question.text.starts_with("Put ") => {
            Answer::Text(of[0].clone())
        }
        Wanted::Text => Answer::Text("R. Amsel".to_owned()),
        _ => question.default_answer().unwrap(),
    }
}

#[test]
fn a_sound_transformer_passes_its_whole_day() {
    for (asset_text, rig, truth) in [(T2, T2_RIG, T2_TRUTH), (AT1, AT1_RIG, AT1_TRUTH)] {
        let asset = asset(asset_text);
        let tests = derived(asset_text, rig, Depth::Commissioning);
        assert!(tests.len() >= 6, "{tests:?}");
        for seed in [1, 2, 3] {
            // One after the other on the same transformer, as on that day.
            let mut day = Played::new(WINGS, rig, &healthy(truth), seed);
            for test in &tests {
                let (found, _) = day.play(&asset, test, &reads);
                let bad: Vec<&Finding> = found
                    .iter()
                    .filter(|f| !matches!(f.verdict, Verdict::Pass | Verdict::Measured))
                    .collect();
                assert!(bad.is_empty(), "{test}, seed {seed}: {bad:?}");
            }
        }
    }
}

/// A quick plan is a part of the whole one, and everything that is derived at all can be set up.
#[test]
fn shallow_plans_are_shorter() {
    for (asset_text, rig) in [(T2, T2_RIG), (AT1, AT1_RIG)] {
        let count = |depth| derived(asset_text, rig, depth).len();
        let [all, routine, quick] = [Depth::Commissioning, Depth::Routine, Depth::Quick].map(count);
        assert!(quick < routine && routine <= all, "{quick} {routine} {all}");
        for depth in [Depth::Commissioning, Depth::Routine, Depth::Quick] {
            for test in derived(asset_text, rig, depth) {
                let asset = asset(asset_text);
                let plan = support::plan(&asset, &test);
                let rig = capability(rig);
                let bench = waltron_core::procedure::Bench { asset: &asset, capability: &rig };
                let procedure = plan.tests[0].procedure(bench).unwrap().unwrap();
                assert!(!procedure.planned().is_empty(), "{test}");
            }
        }
    }
    // Without a rig nothing is left out that any rig could do.
    let tests =
        WINGS.0[0].new_tests(&asset(T2), None, Depth::Commissioning, &Defaults::default()).unwrap();
    assert_eq!(tests.matches("[[test]]").count(), derived(T2, T2_RIG, Depth::Commissioning).len());
}

/// Three windings: T2's with a third one, and insulation between all of them.
fn three(parts: &[f64; 6]) -> (String, String) {
    let winding =
        "[[winding]]\nvoltage = \"20 kV\"\ntest_current = \"50 A\"\nresistance = \"29.6 mOhm\"\n";
    assert!(T2.contains(winding));
    let third = "[[winding]]\nvoltage = \"10 kV\"\npower = \"10 MVA\"\n";
    let asset = T2.replace("YNd5", "YNd5d5").replace(winding, &format!("{winding}\n{third}"));
    let head = T2_TRUTH.split("[[insulation]]").next().unwrap();
    let coils = "\n[[winding]]\nturns = 142.9\nresistance = \"40 mOhm\"\ncoils = [{ at = \"3W-3U\", limb = 1 }, { at = \"3U-3V\", limb = 2 }, { at = \"3V-3W\", limb = 3 }]\n";
    let between = [("H", "tank"), ("L", "tank"), ("T", "tank"), ("H", "L"), ("H", "T"), ("L", "T")];
    let part = |((a, b), farad): (&(&str, &str), &f64)| {
        format!(
            "\n[[insulation]]\nbetween = [\"{a}\", \"{b}\"]\ncapacitance = \"{farad} pF\"\npolarisation = \"0.3 %\"\npower = 0.5\n"
        )
    };
    let insulation: String = between.iter().zip(parts).map(part).collect();
    let changer = T2_TRUTH.split("[[tap_changer]]").nth(1).unwrap();
    let changer = changer.replace("crossed =", "# ").replace("interrupted =", "# ");
    (asset, format!("{head}{coils}{insulation}\n[[tap_changer]]{changer}"))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Whatever lies between three windings and the tank, each part is measured by itself, and together they are sums.
    #[test]
    fn six_parts_are_told_apart(parts in proptest::array::uniform6(300.0..20_000.0f64)) {
        let (text, truth) = three(&parts);
        let text: Vec<&str> = text.split("[[insulation.known]]").collect();
        let rest = text.last().unwrap().split_once("[[bushing]]").unwrap().1;
        let asset_text = format!("{}[[bushing]]{rest}", text[0]);
        let asset = asset(&asset_text);
        let keys = "procedure = \"tan-delta\"\ntemperature = \"31 degC\"\nsweep = false\nvoltage = \"5 kV\"";
        let (found, _) = play(&asset, T2_RIG, &truth, 3, keys);
        // By hand: polarisation with a square-root law adds as much to the capacitance as to the losses, at 31 °C by
        // the square root of what 0.9 eV make.
        let a = (0.9 / 8.617_333e-5 * (1.0 / 293.15 - 1.0 / 304.15f64)).exp();
        let more = 1.0 + 0.003 * a.sqrt();
        for (part, farad) in ["H", "L", "T", "HL", "HT", "LT"].iter().zip(&parts) {
            let told = of(&found, part).measured.get("capacitance").unwrap();
            prop_assert!((told / (farad * 1e-12 * more) - 1.0).abs() < 2e-3, "{part}: {told} of {farad}");
        }
        for winding in ["H", "L", "T"] {
            let sum = of(&found, &format!("{winding}/sum"));
            prop_assert_eq!(sum.verdict, Verdict::Pass, "{}", sum.reason);
        }
        // With the guard off each winding's own part is too large, and the sums say so where it matters.
        let off = truth.replace("oil_temperature", "guard_off = true\noil_temperature");
        let (found, _) = play(&asset, T2_RIG, &off, 3, keys);
        let own = of(&found, "H").measured.get("capacitance").unwrap() / (parts[0] * 1e-12 * more);
        prop_assert!(own > 1.0, "{own}");
        let failed = failed(&found);
        prop_assert!(own < 1.02 || failed.contains(&"H/sum"), "{own}: {failed:?}");
    }
}

/// Whatever a place is called, a simulated transformer takes it or refuses it.
#[test]
fn no_place_breaks_the_simulated_transformer() {
    use waltron_core::text::document::Source;
    let (_, truth) = three(&[1000.0; 6]);
    let mut specimen =
        waltron_specimen::SpecimenForm::load(&Source::new("s", truth.as_str()), 1).unwrap();
    let parts = [
        "1U",
        "1N",
        "2U",
        "3W",
        "H",
        "L",
        "tank",
        "-",
        "+",
        " / ",
        " + ",
        ": ",
        ", ",
        " shorted",
        " measured",
        " guarded",
        "1U-1N",
        "2U+2V+2W shorted",
        "1U-1U",
        "",
    ];
    let mut state = 12_345u64;
    let mut next = |n: usize| {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as usize % n
    };
    let mut taken = 0;
    for _ in 0..20_000 {
        let place: String = (0..next(7)).map(|_| parts[next(parts.len())]).collect();
        taken += usize::from(specimen.lead(&place.as_str().into()).is_ok());
    }
    assert!(taken > 500, "some of them are places: {taken}");
}
