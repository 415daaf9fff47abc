//! The resistance test of power transformers, on simulated ones with and without defects.
#![allow(clippy::unwrap_used, missing_docs)]

mod support;

use support::{WINGS, asset, failed, of};
use waltron_core::asset::Asset;
use waltron_core::grading::{Finding, Values, Verdict};
use waltron_core::procedure::{Action, Answer, Question};
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::text::document::Source;
use waltron_test_support::small;
use waltron_test_support::wing::{Played, Seen};

const T2: &str = include_str!("../../../examples/t2.asset.toml");
const T2_RIG: &str = include_str!("../../../examples/t2.rig.toml");
const T2_TRUTH: &str = include_str!("../../../examples/t2.specimen.toml");
const AT1: &str = include_str!("../../../examples/at1.asset.toml");
const AT1_RIG: &str = include_str!("../../../examples/at1.rig.toml");
const AT1_TRUTH: &str = include_str!("../../../examples/at1.specimen.toml");

/// The simulated transformer without its defect, and with resistances that do not scatter.
fn healthy(truth: &str) -> String {
    let kept = truth.lines().filter(|l| {
        !["crossed", "shorted", "spread", "interrupted"].iter().any(|word| l.starts_with(word))
    });
    kept.collect::<Vec<_>>().join("\n")
}

fn confirm(question: &Question) -> Answer {
    question.default_answer().unwrap()
}

/// What a test finds, what it did and what it asked.
fn asking(
    asset: &Asset,
    rig: &str,
    truth: &str,
    seed: u64,
    keys: &str,
) -> (Vec<Finding>, Seen, Vec<String>) {
    let test = format!("procedure = \"winding-resistance\"\ntemperature = \"16 degC\"\n{keys}");
    let mut played = Played::new(WINGS, rig, truth, seed);
    let (found, seen) = played.play(asset, &test, &confirm);
    (found, seen, played.asked.iter().map(|q| q.text.clone()).collect())
}

fn play(asset: &Asset, rig: &str, truth: &str, seed: u64, keys: &str) -> (Vec<Finding>, Seen) {
    let (found, seen, _) = asking(asset, rig, truth, seed, keys);
    (found, seen)
}

/// Copper at 16 °C: 0.318 Ohm at 20 °C with 907.3 turns, as long as the turns are.
fn true_ohm(position: usize) -> f64 {
    let turns = 907.3 + (10.0 - position as f64) * 11.34;
    let milliohms = 318.0;
    milliohms / 1e3 * turns / 907.3 * (235.0 + 16.0) / 255.0
}

/// Against the simulated winding's true resistance; at the reference temperature by the standard's formula.
#[test]
fn resistances_are_those_of_the_winding() {
    let asset = asset(T2);
    let (found, seen) = play(&asset, T2_RIG, &healthy(T2_TRUTH), 3, "positions = [\"9..11\"]");
    assert!(failed(&found).is_empty(), "{:?}", failed(&found));
    for position in [9, 10, 11] {
        for phase in ["U", "V", "W"] {
            let grade = of(&found, &format!("{position}/{phase}"));
            let as_measured = grade.measured.get("as_measured").unwrap();
            let told = grade.measured.get("resistance").unwrap();
            let u = grade.uncertainty.get("u").unwrap();
            let truth = true_ohm(position);
            assert!(
                (as_measured / truth - 1.0).abs() < 5e-4,
                "{position} {phase}: {as_measured} {truth}"
            );
            assert!((told - truth * 310.0 / 251.0).abs() <= u, "{position} {phase}");
            // The maker's value is of the principal position.
            let graded = if position == 10 { Verdict::Pass } else { Verdict::Measured };
            assert_eq!(grade.verdict, graded, "{}", grade.reason);
        }
        let difference = of(&found, &format!("{position}/difference"));
        assert!(difference.measured.get("difference").unwrap() < 1e-3);
    }
    // Up with U, down with V, up with W: the flux keeps its direction.
    let order: Vec<&str> = found
        .iter()
        .map(|f| f.point.id.as_str())
        .filter(|id| id.ends_with(['U', 'V', 'W']) && !id.contains('-'))
        .collect();
    assert_eq!(order.join(" "), "t/9/U t/10/U t/11/U t/11/V t/10/V t/9/V t/9/W t/10/W t/11/W");
    // Each phase is discharged before the leads are moved, and its charge is gone.
    let names = |p: &waltron_core::injection::program::Program| p.segments[0].name.to_string();
    let discharges: Vec<usize> = seen
        .iter()
        .map(|(p, _)| p)
        .enumerate()
        .filter(|(_, p)| names(p) == "discharge")
        .map(|(k, _)| k)
        .collect();
    assert_eq!(discharges.len(), 3);
    assert_eq!(*discharges.last().unwrap(), seen.len() - 1, "and in the end");
    let changes = seen.iter().map(|(p, _)| p).filter(|p| names(p) == "change of tap").count();
    assert_eq!(changes, 6, "under current");
}

/// 95 % of seeded runs lie within what they are said to be uncertain by: of 120 readings at most 10 do not.
#[test]
fn the_stated_uncertainty_holds() {
    let asset = asset(T2);
    let (mut outside, mut count) = (0, 0);
    for seed in 0..20 {
        let (found, _) = play(
            &asset,
            T2_RIG,
            &healthy(T2_TRUTH),
            100 + seed,
            "positions = [\"10\", \"11\"]\ntemperature_uncertainty = \"0 K\"",
        );
        for position in [10, 11] {
            for phase in ["U", "V", "W"] {
                let grade = of(&found, &format!("{position}/{phase}"));
                let off = grade.measured.get("as_measured").unwrap() - true_ohm(position);
                let u = grade.uncertainty.get("u").unwrap() * 251.0 / 310.0;
                count += 1;
                outside += i32::from(off.abs() > u);
                assert!(
                    u / true_ohm(position) < 3e-3,
                    "and is not so large that it says nothing: {u}"
                );
            }
        }
    }
    assert_eq!(count, 120);
    assert!(outside <= 10, "{outside} of {count}");
}

#[test]
fn defects_are_found() {
    let asset = asset(T2);
    let changer =
        |line: &str| healthy(T2_TRUTH).replace("step = 11.34", &format!("step = 11.34\n{line}"));
    // A bad joint at one position of one phase.
    let truth = changer("joint = { limb = 3, position = 10, resistance = \"12 mOhm\" }");
    let (found, _) = play(&asset, T2_RIG, &truth, 1, "positions = [\"9..11\"]");
    assert_eq!(failed(&found), ["10/difference"]);
    let share = of(&found, "10/difference").measured.get("difference").unwrap();
    // 12 mOhm of 0.313 Ohm, over the mean with a third of it.
    assert!((share - 0.012 / (true_ohm(10) + 0.004)).abs() < 1e-3, "{share}");
    // A diverter that interrupts when it leaves position 10.
    let truth = changer("interrupted = { limb = 2, position = 10, time = \"8 ms\" }");
    let (found, _) = play(&asset, T2_RIG, &truth, 1, "positions = [\"9..11\"]");
    let why: Vec<&str> = found.iter().map(|f| f.reason.as_str()).collect();
    assert_eq!(failed(&found), ["10-9/V"], "{why:?}");
    let gone = of(&found, "10-9/V").measured.get("interruption").unwrap();
    // And until the current has come back.
    assert!(gone >= 0.008, "{gone}");
    // Worn resistors dip deeper than the others.
    let truth = changer("worn = { limb = 1, resistance = \"20 Ohm\" }");
    let limited =
        support::asset(&T2.replace("ratio = \"0.5 %\"", "ratio = \"0.5 %\"\nripple = \"15 %\""));
    let (found, _) =
        play(&limited, T2_RIG, &truth, 1, "positions = [\"10\", \"11\"]\ncurrent = \"5 A\"");
    assert_eq!(failed(&found), ["10-11/U"]);
    let (worn, other) = (of(&found, "10-11/U"), of(&found, "10-11/W"));
    let ripple = |f: &Finding| f.measured.get("ripple").unwrap();
    assert!(ripple(worn) > 2.0 * ripple(other), "{} {}", ripple(worn), ripple(other));
    assert!(worn.measured.get("series").unwrap() > 10.0);
}

/// Somebody presses twice: outputs go off, it is asked for, and the place is measured after all.
#[test]
fn two_positions_at_once_are_noticed() {
    let asset = asset(T2);
    let truth = healthy(T2_TRUTH).replace("step = 11.34", "step = 11.34\noversteps = 10");
    let (found, _, asked) = asking(&asset, T2_RIG, &truth, 1, "positions = [\"9..12\"]");
    let asked: Vec<&String> = asked.iter().filter(|q| q.contains("two positions")).collect();
    assert!(!asked.is_empty() && asked[0].contains("Set OLTC 11"), "{asked:?}");
    let grade = of(&found, "11/U");
    let off = grade.measured.get("as_measured").unwrap() / true_ohm(11) - 1.0;
    assert!(off.abs() < 1e-3, "{off}");
}

/// Who says that it has moved is not believed where the resistance is that of the position before; that holds for coarse
/// readings too.
#[test]
fn a_tap_changer_that_did_not_move_passes_nothing() {
    let asset = asset(T2);
    let stuck = healthy(T2_TRUTH).replace("step = 11.34", "step = 11.34\ntakes = \"30 min\"");
    let coarse = "steady_for = \"2 s\"\nsteady = \"1 %\"\nleft = \"50 %\"\ncurrent = \"20 A\"\n";
    for how in ["", coarse] {
        let test = format!(
            "procedure = \"winding-resistance\"\ntemperature = \"16 degC\"\n{how}positions = [\"9\", \"10\"]"
        );
        let mut played = Played::new(WINGS, T2_RIG, &stuck, 1);
        played.marks = true;
        let (found, _) = played.play(&asset, &test, &confirm);
        assert!(played.asked.iter().any(|q| q.text.contains("did not move")), "{:?}", played.asked);
        let (change, reached) = (of(&found, "9-10/U"), of(&found, "10/U"));
        assert_eq!(change.verdict, Verdict::Inconclusive, "{change:?}");
        // Once it has been asked for, with outputs off, it is there.
        let off = reached.measured.get("as_measured").unwrap() / true_ohm(10) - 1.0;
        assert!(off.abs() < 4e-3, "{off} {reached:?}");
        let (found, _) =
            Played::new(WINGS, T2_RIG, &healthy(T2_TRUTH), 1).play(&asset, &test, &confirm);
        assert_eq!(of(&found, "9-10/U").verdict, Verdict::Pass, "{:?}", of(&found, "9-10/U"));
    }
}

/// What never settles is said so, with when it would; nothing that is not settled is graded.
#[test]
fn what_does_not_settle_is_told_with_when_it_would() {
    let asset = asset(T2);
    // A soft knee, and currents around the low-voltage delta that die away slowly.
    let truth = healthy(T2_TRUTH)
        .replace("36 mOhm", "1 mOhm")
        .replace("rounding = \"1 %\"\nsaturated = 8000", "rounding = \"30 %\"\nsaturated = 2000");
    let keys = "positions = [\"10\"]\nat_most = \"30 s\"\nsteady = \"5 %\"\ncurrent = \"2 A\"\nleft = \"0.05 %\"";
    let (found, _) = play(&asset, T2_RIG, &truth, 1, keys);
    let grade = of(&found, "10/U");
    assert_eq!(grade.verdict, Verdict::Inconclusive, "{}", grade.reason);
    assert!(grade.reason.contains("not settled within 30 s"), "{}", grade.reason);
    assert!(grade.reason.contains("time constant of"), "{}", grade.reason);
    assert!(grade.reason.contains("settled in about"), "{}", grade.reason);
    let (told, u) =
        (grade.measured.get("resistance").unwrap(), grade.uncertainty.get("u").unwrap());
    let off = told - true_ohm(10) * 310.0 / 251.0;
    assert!(off > 0.0 && off < u, "what is left is part of what it is uncertain by: {off} {u}");
    let difference = of(&found, "10/difference");
    assert_eq!((difference.verdict, difference.measured.is_empty()), (Verdict::Inconclusive, true));
}

#[test]
fn a_lead_that_falls_off_is_an_alarm() {
    let asset = asset(T2);
    let truth =
        healthy(T2_TRUTH).replace("saturation = ", "lead_off_after = \"14 s\"\nsaturation = ");
    let (found, _, asked) = asking(&asset, T2_RIG, &truth, 1, "positions = [\"10\"]");
    let grade = of(&found, "10/U");
    assert_eq!(grade.verdict, Verdict::Inconclusive);
    assert!(
        grade.reason.starts_with("ALARM") && grade.reason.contains("1U-1N"),
        "{}",
        grade.reason
    );
    assert!(
        asked.iter().any(|q| q.starts_with("ALARM") && q.contains("may it go on?")),
        "{:?}",
        asked
    );
}

/// A delta between its terminals: a coil beside two in series. Aluminium vanishes at 225 K below zero.
#[test]
fn coils_of_a_delta_are_worked_out() {
    let text = AT1
        .replace("material = \"aluminium\"", "material = \"aluminium\"\nreference = \"85 degC\"");
    let asset = asset(&text);
    let test = "positions = [\"3\"]\ncurrent = \"1 A\"";
    let truth = healthy(AT1_TRUTH)
        .replace("limb = 2 }, { at = \"1W", "limb = 2, resistance = \"16 Ohm\" }, { at = \"1W");
    let (found, _) = play(&asset, AT1_RIG, &truth, 1, test);
    let grade = of(&found, "3/difference");
    let at_85 = |ohm: f64| ohm * (225.0 + 12.0) / 245.0 * (225.0 + 85.0) / (225.0 + 16.0);
    for (name, ohm) in [("phase_u", 14.8), ("phase_v", 16.0), ("phase_w", 14.8)] {
        let told = grade.measured.get(name).unwrap();
        assert!((told / at_85(ohm) - 1.0).abs() < 2e-3, "{name}: {told} {}", at_85(ohm));
    }
    // De-energised tap changers are moved with nothing flowing.
    let (_, seen) =
        play(&asset, AT1_RIG, &truth, 1, "positions = [\"2\", \"3\"]\ncurrent = \"1 A\"");
    assert!(seen.iter().map(|(p, _)| p).all(|p| p.segments.iter().all(|s| s.moves.is_empty())));
}

/// Three stages of 15 ms are told as such, though nothing jumps where the last one ends: in a star, and in a delta
/// whose other legs take part; and six more where the diverter is late, for those who do not see it open.
#[test]
fn changes_last_as_long_as_they_do() {
    let durations = |asset_text: &str, rig: &str, truth: &str, keys: &str| -> Vec<(String, f64)> {
        let (found, _) = play(&asset(asset_text), rig, truth, 1, keys);
        let told = |f: &Finding| Some((f.point.id.clone(), f.measured.get("duration")?));
        found.iter().filter_map(told).collect()
    };
    let quick = "current = \"8 A\"\nsteady = \"1 %\"\nsteady_for = \"250 ms\"\nat_most = \"20 s\"";
    let mut delta = small::SPECIMEN.to_owned();
    for (from, to) in [
        ("1U-1N", "1U-1V"),
        ("1V-1N", "1V-1W"),
        ("1W-1N", "1W-1U"),
        ("2W-2U", "2U-2N"),
        ("2U-2V", "2V-2N"),
        ("2V-2W", "2W-2N"),
    ] {
        delta = delta.replace(from, to);
    }
    let dyn11 = small::ASSET.replace("YNd5", "Dyn11");
    let rig = small::rig(50.0);
    for (asset, truth) in [(small::ASSET, small::SPECIMEN), (&dyn11, &delta)] {
        let all = durations(asset, &rig, truth, quick);
        assert_eq!(all.len(), 6, "{all:?}");
        assert!(all.iter().all(|(_, s)| (s - 0.045).abs() < 1.5e-3), "{all:?}");
    }
    let all = durations(T2, T2_RIG, T2_TRUTH, "positions = [\"11..13\"]");
    let late = |id: &str| ["t/12-13/U", "t/12-11/V"].contains(&id);
    assert_eq!(all.iter().filter(|(id, _)| late(id)).count(), 2, "{all:?}");
    for (id, s) in all.iter().filter(|(id, _)| !id.ends_with("/W")) {
        let due = if late(id) { 0.051 } else { 0.045 };
        assert!((s - due).abs() < 1.5e-3, "{id}: {s}");
    }
}

#[test]
fn plans_that_make_no_sense_are_refused() {
    let asset = asset(T2);
    let read_plan = |keys: &str| {
        let text = format!(
            "[plan]\ntitle = \"t\"\nasset = \"a\"\n[[test]]\nid = \"t\"\nprocedure = \"winding-resistance\"\n{keys}"
        );
        let source = Source::new("plan", text.as_str());
        let form = waltron_core::plan::PlanForm::load(&source, WINGS);
        form.and_then(|form| form.resolve(&source, &asset))
    };
    let refused = |keys: &str| {
        let error = read_plan(keys).unwrap_err();
        error.problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; ")
    };
    for (keys, words) in [
        ("", "temperature"),
        (
            "temperature = \"16 degC\"\ncurrent = \"25 A\"",
            "at most 20 A may flow through winding 1",
        ),
        ("temperature = \"16 degC\"\nwinding = 3", "there is no winding 3"),
        ("temperature = \"16 degC\"\nsteady_for = \"10 min\"", "cannot come true within 600 s"),
        ("temperature = \"16 degC\"\nsteady = \"0 %\"", "above zero"),
        ("temperature = \"-300 degC\"", "above zero"),
        ("temperature = \"16 V\"", "temperature"),
    ] {
        let why = refused(keys);
        assert!(why.contains(words), "{keys}: {why}");
    }
    // What may flow at most may flow.
    let most = read_plan("temperature = \"16 degC\"\ncurrent = \"20 A\"");
    assert!(most.is_ok(), "{most:?}");
    // A rig that does not say when a winding is discharged drives no direct current through it.
    let rig = T2_RIG.lines().filter(|l| !l.starts_with("discharge")).collect::<Vec<_>>().join("\n");
    let rig = waltron_rig::RigForm::load(&Source::new("rig", rig)).unwrap().capability;
    let plan =
        support::plan(&asset, "procedure = \"winding-resistance\"\ntemperature = \"16 degC\"\n");
    let bench = waltron_core::procedure::Bench { asset: &asset, capability: &rig };
    let why = plan.tests[0].procedure(bench).map(|_| ()).unwrap_err().to_string();
    assert!(why.contains("when a winding is discharged"), "{why}");
}

/// Leads the wrong way round at every phase: negative resistances are alike, and prove nothing.
#[test]
fn a_resistance_below_zero_proves_nothing() {
    let asset = asset(T2);
    // As a meter that is turned shows it.
    let (found, seen) = play(&asset, T2_RIG, &healthy(T2_TRUTH), 1, "positions = [\"10\"]");
    assert!(failed(&found).is_empty());
    let plan = support::plan(
        &asset,
        "procedure = \"winding-resistance\"\ntemperature = \"16 degC\"\npositions = [\"10\"]\n",
    );
    let rig = waltron_rig::RigForm::load(&Source::new("rig", T2_RIG)).unwrap().capability;
    let bench = waltron_core::procedure::Bench { asset: &asset, capability: &rig };
    let mut again = plan.tests[0].procedure(bench).unwrap().unwrap();
    let mut graded = Vec::new();
    for (_, observation) in seen.iter().filter(|(p, _)| p.segments[0].name == *"charge") {
        while !matches!(again.next(), Action::Inject(_)) {}
        let mut turned = observation.clone();
        for reading in &mut turned.readings {
            let dimension = reading.probe.dimension;
            if let Some(si) =
                reading.value.get("value").filter(|_| dimension == Dimension::RESISTANCE)
            {
                let value = Quantity { si: -si, dimension };
                reading.value = Values::none().with_quantity("value", value);
            }
        }
        graded.extend(again.observe(&turned));
        assert_eq!(
            again.next(),
            Action::Off,
            "what still flows is taken away before anything else"
        );
    }
    assert_eq!(again.next(), Action::Done);
    assert_eq!(graded.len(), 4, "three phases, and their difference");
    assert!(graded.iter().all(|f| f.verdict == Verdict::Inconclusive), "{graded:?}");
    assert_eq!(graded[0].verdict, Verdict::Inconclusive);
    assert!(graded[0].reason.contains("the wrong way round"), "{}", graded[0].reason);
}

/// Both windings of a limb in one circuit: each as by itself, the second one once in each phase. By hand: a leg of
/// 36 mOhm beside the two others in series is two thirds of it, at 16 °C of copper.
#[test]
fn two_windings_are_measured_in_one_circuit() {
    let asset = asset(T2);
    let keys = "with = 2\ncurrent = \"5 A\"\npositions = [\"9..11\"]";
    let (found, seen) = play(&asset, T2_RIG, &healthy(T2_TRUTH), 3, keys);
    let why: Vec<&str> = failed(&found).iter().map(|id| of(&found, id).reason.as_str()).collect();
    assert!(why.is_empty(), "{why:?}");
    for (place, k) in [("second/W-U", 0), ("second/U-V", 1), ("second/V-W", 2)] {
        let grade = of(&found, place);
        let by_hand = 36e-3 * 2.0 / 3.0 * 251.0 / 255.0;
        let off = grade.measured.get("as_measured").unwrap() - by_hand;
        let u = grade.uncertainty.get("u").unwrap();
        assert!(off.abs() < u, "{k}: {off} of {u}");
        assert_eq!(grade.verdict, Verdict::Pass, "{}", grade.reason);
    }
    let own = of(&found, "10/U").measured.get("as_measured").unwrap();
    assert!((own / true_ohm(10) - 1.0).abs() < 3e-3, "{own}");
    assert_eq!(of(&found, "second/difference").verdict, Verdict::Pass);
    let leads: Vec<&str> =
        seen.iter().filter_map(|(p, _)| p.connection.as_ref()).map(|c| c.as_str()).collect();
    assert_eq!(leads[0], "1U-1N + 2W-2U");
    // A bad joint in the other winding is found in its own phase.
    let joint = healthy(T2_TRUTH).replace(
        "{ at = \"2U-2V\", limb = 2 }",
        "{ at = \"2U-2V\", limb = 2, resistance = \"40 mOhm\" }",
    );
    let (found, _) = play(&asset, T2_RIG, &joint, 3, keys);
    assert_eq!(
        failed(&found),
        ["second/U-V", "second/difference"],
        "{:?}",
        found
            .iter()
            .filter(|f| f.point.id.contains("second"))
            .map(|f| &f.reason)
            .collect::<Vec<_>>()
    );
    let refused = |keys: &str| {
        let head = "procedure = \"winding-resistance\"\ntemperature = \"16 degC\"";
        support::plan_refused(&asset, &format!("{head}\n{keys}"))
    };
    assert!(refused("with = 1").contains("another winding is wanted"));
    assert!(refused("with = 3").contains("no winding 3"));
    assert!(refused("winding = 2\nwith = 1\ncurrent = \"30 A\"").contains("20 A may flow"));
    assert!(refused("steady_digits = 9").contains("2 to 6 digits"));
    assert!(refused("steady = \"1 %\"\nsteady_digits = 3").contains("not both"));
}

/// Digits that stay are a band: more digits take longer. The motor of the tap changer is timed and measured.
#[test]
fn digits_bound_the_band_and_the_motor_is_seen() {
    let asset = asset(T2);
    let run = |digits: u32| {
        let keys = format!("positions = [\"10..11\"]\ncurrent = \"5 A\"\nsteady_digits = {digits}");
        play(&asset, T2_RIG, &healthy(T2_TRUTH), 3, &keys)
    };
    let time = |seen: &Seen| {
        let first = &seen[0].1;
        waltron_core::quantity::Measure::si(first.length())
    };
    let ((found, two), (_, four)) = (run(2), run(4));
    assert!(time(&four) > time(&two) + 1.0, "{} {}", time(&four), time(&two));
    // From the call to 0.3 s after the contacts: 5.3 s of 2.4 A, as the simulated drive has it.
    let change = of(&found, "10-11/U");
    let ran = change.measured.get("motor_time").unwrap();
    let took = change.measured.get("motor_current").unwrap();
    assert!((ran - 5.3).abs() < 0.01, "{ran}");
    assert!((took / 2.4 - 1.0).abs() < 0.02, "{took}");
    let without = T2_RIG.split("[[meter]]\nid = \"M11\"").next().unwrap();
    let (found, seen) = play(&asset, without, &healthy(T2_TRUTH), 3, "positions = [\"10..11\"]");
    assert!(of(&found, "10-11/U").measured.get("motor_time").is_none());
    assert!(seen.iter().all(|(program, _)| program.captures.len() < 2));
}
