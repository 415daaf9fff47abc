//! Power transformers' files and the ratio test, on simulated transformers with and without defects.
#![allow(clippy::unwrap_used, missing_docs)]

mod support;

use support::{WINGS, asset, failed, of, play};
use waltron_core::asset::Asset;
use waltron_core::grading::{Finding, Verdict};
use waltron_core::text::document::Source;
use waltron_transformer::power::{PowerTransformer, Stand};

const T2: &str = include_str!("../../../examples/t2.asset.toml");
const T2_RIG: &str = include_str!("../../../examples/t2.rig.toml");
const T2_TRUTH: &str = include_str!("../../../examples/t2.specimen.toml");
const AT1: &str = include_str!("../../../examples/at1.asset.toml");
const AT1_RIG: &str = include_str!("../../../examples/at1.rig.toml");
const AT1_TRUTH: &str = include_str!("../../../examples/at1.specimen.toml");

/// The simulated transformer without its defect.
fn healthy(truth: &str) -> String {
    let kept = truth.lines().filter(|l| !l.starts_with("crossed") && !l.starts_with("shorted"));
    kept.collect::<Vec<_>>().join("\n")
}

fn ratio(asset: &Asset, rig: &str, truth: &str, seed: u64, keys: &str) -> Vec<Finding> {
    play(asset, rig, truth, seed, &format!("procedure = \"turns-ratio\"\n{keys}")).0
}

fn problems(text: &str) -> String {
    told(&WINGS.asset(&Source::new("asset", text)).unwrap_err())
}

/// All problems of a file in words.
fn told(error: &waltron_core::text::document::DocumentError) -> String {
    error.problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; ")
}

/// By hand: 110 kV in steps of 1.25 %, the first position highest; rounded to 10 V.
#[test]
fn positions_are_worked_out_and_can_be_told_otherwise() {
    let text = T2.replace("round = \"10 V\"", "round = \"10 V\"\nexact = { \"7\" = \"114.2 kV\" }");
    let asset = asset(&text);
    let of: &PowerTransformer = asset.family().unwrap();
    let volts = |position: usize| of.volts(1, &Stand(vec![position - 1]));
    assert!((volts(1) - 122_380.0).abs() < 1e-6 && (volts(19) - 97_630.0).abs() < 1e-6);
    assert!((volts(7) - 114_200.0).abs() < 1e-6, "as the nameplate says");
    assert!((of.ratio(1, 2, &Stand(vec![9])) - 5.5).abs() < 1e-12);
    let labels = |lines: &str| {
        let asset = support::asset(&T2.replace("positions = 19\nprincipal = \"10\"", lines));
        let of: &PowerTransformer = asset.family().unwrap();
        of.changers[0].labels().map(str::to_owned).collect::<Vec<_>>()
    };
    let own = labels("positions = 5\nsuffixes = { raise = \"R\", neutral = \"N\", lower = \"L\" }");
    assert_eq!(own, ["2R", "1R", "N", "1L", "2L"]);
    // A change-over selector passes through positions with one voltage.
    let text = T2.replace(
        "positions = 19\nprincipal = \"10\"",
        "labels = [\"1\", \"2\", \"3A\", \"3\", \"3B\", \"4\"]\nprincipal = \"3\"\nneutral = [\"3A\", \"3\", \"3B\"]",
    );
    let asset = support::asset(&text);
    let of: &PowerTransformer = asset.family().unwrap();
    let all: Vec<f64> = (0..6).map(|k| of.volts(1, &Stand(vec![k]))).collect();
    assert_eq!(all, [112_750.0, 111_380.0, 110_000.0, 110_000.0, 110_000.0, 108_630.0]);
}

#[test]
fn what_cannot_be_is_refused_with_its_place() {
    let cases = [
        ("vector_group = \"YNd5\"", "vector_group = \"YNd4\"", "cannot exist"),
        ("vector_group = \"YNd5\"", "vector_group = \"YNyn0d5\"", "has 3 windings, and 2 tables"),
        ("positions = 19", "labels = [\"1\", \"2\", \"2\"]", "two positions are called `2`"),
        ("principal = \"10\"", "principal = \"20\"", "no position is called `20`"),
        ("step = \"1.25 %\"", "voltages = [\"1 kV\"]", "1 voltages for 19 positions"),
        (
            "step = \"1.25 %\"",
            "step = \"1.25 %\"\nexact = { \"7\" = \"120 kV\" }",
            "7 with 120 kV follows 6",
        ),
        ("round = \"10 V\"", "round = \"10 kV\"", "voltages fall from position to position"),
        ("winding = 1", "winding = 3", "there is no winding 3"),
        ("test_current = \"20 A\"", "test_current = \"300 A\"", "rated for 209.9 A"),
        ("power = \"40 MVA\"", "power = \"-40 MVA\"", "above zero"),
        ("positions = 19", "positions = 1", "two positions at least"),
        ("positions = 19", "positions = 100000", "no tap changer has 100000 positions"),
        ("principal = \"10\"", "neutral = [\"9\", \"11\"]", "stand beside each other"),
    ];
    for (was, is, words) in cases {
        assert!(T2.contains(was), "{was}");
        let found = problems(&T2.replacen(was, is, 1));
        assert!(found.contains(words), "{is}: {found}");
    }
    let swapped =
        T2.replace("110 kV", "X").replace("\"20 kV\"", "\"110 kV\"").replace("X", "20 kV");
    assert!(problems(&swapped).contains("the high-voltage winding comes first"));
}

/// Against the turns of the simulated winding, with the meters' own error and noise: 907.3 and 285.7 turns,
/// 11.34 a step.
#[test]
fn ratios_are_those_of_the_turns() {
    let asset = asset(T2);
    for seed in [1, 77, 4000] {
        let found = ratio(
            &asset,
            T2_RIG,
            &healthy(T2_TRUTH),
            seed,
            "positions = [\"1\", \"10..12\", \"19\"]",
        );
        assert!(failed(&found).is_empty(), "{:?}", failed(&found));
        for (position, steps) in [(1, 9.0), (10, 0.0), (11, -1.0), (12, -2.0), (19, -9.0)] {
            for phase in ["U", "V", "W"] {
                let turns = (907.3 + steps * 11.34) / 285.7;
                let true_ratio = 3f64.sqrt() * turns;
                let grade = of(&found, &format!("{position}/{phase}"));
                let off = grade.measured.get("ratio").unwrap() / true_ratio - 1.0;
                assert!(off.abs() < 2e-4, "{position} {phase}: {off}");
                // What the exciting current drops is no part of the turns, and of no meter's error.
                let u = grade.uncertainty.get("u").unwrap() / true_ratio;
                assert!(off.abs() < u + 1.5e-4, "{position} {phase}: {off} of {u}");
            }
        }
        assert!(of(&found, "vector-group").reason.contains("YNd5: all phases"));
        assert_eq!(found.len(), 5 * 4 + 1);
    }
    let turns =
        ratio(&asset, T2_RIG, &healthy(T2_TRUTH), 1, "positions = [\"10\"]\nratio = \"turns\"");
    let told = of(&turns, "10/U").measured.get("ratio").unwrap();
    assert!((told / (907.3 / 285.7) - 1.0).abs() < 2e-4, "{told}");
}

#[test]
fn defects_are_found_and_named() {
    let asset = asset(T2);
    let all = ratio(&asset, T2_RIG, T2_TRUTH, 1, "positions = [\"6..9\"]");
    assert_eq!(failed(&all), ["7/V", "8/V"]);
    assert!(of(&all, "7/V").reason.contains("it is what OLTC 8 must give: a wrong tap"));
    // Another group on the pole: the windings of the low-voltage side end where they should begin.
    let other = healthy(T2_TRUTH)
        .replace("2W-2U", "a-b")
        .replace("2U-2V", "2V-2U")
        .replace("2V-2W", "2W-2V")
        .replace("a-b", "2U-2W");
    let all = ratio(&asset, T2_RIG, &other, 1, "positions = [\"10\"]");
    let group = of(&all, "vector-group");
    assert_eq!(group.verdict, Verdict::Fail);
    assert!(group.reason.contains("it is connected as YNd11, not as YNd5"), "{}", group.reason);
    assert!(of(&all, "10/U").reason.contains("opposite in phase"));
    // Two leads swapped at the low-voltage side.
    let other = healthy(T2_TRUTH)
        .replace("2W-2U", "2w-2u")
        .replace("2U-2V", "2u-2v")
        .replace("2V-2W", "2v-2w")
        .replace("2u", "2U")
        .replace("2v", "2W")
        .replace("2w", "2V");
    let all = ratio(&asset, T2_RIG, &other, 1, "positions = [\"10\"]");
    let group = of(&all, "vector-group");
    assert!(group.verdict == Verdict::Fail && group.reason.contains("swapped"), "{}", group.reason);
    let all = ratio(&asset, T2_RIG, &other, 1, "positions = [\"10\"]\nfind_group = false");
    let group = of(&all, "vector-group");
    assert!(
        group.verdict == Verdict::Fail && group.reason.contains("`find_group`"),
        "{}",
        group.reason
    );
}

/// A shorted turn shows in the exciting current, and hardly in the ratio; the leads are taken along as
/// little as possible.
#[test]
fn a_shorted_turn_shows_in_the_exciting_current() {
    let asset = asset(AT1);
    let test = "procedure = \"turns-ratio\"\n";
    let (found, _) = play(&asset, AT1_RIG, AT1_TRUTH, 5, test);
    let exciting: Vec<String> = (1..=5).map(|k| format!("{k}/exciting")).collect();
    assert_eq!(failed(&found), exciting);
    let why = &of(&found, "3/exciting").reason;
    assert!(why.starts_with("U takes 2.0 times what"), "{why}");
    let (found, _) = play(&asset, AT1_RIG, &healthy(AT1_TRUTH), 5, test);
    assert!(failed(&found).is_empty(), "{:?}", failed(&found));
    let order: Vec<&str> =
        found.iter().map(|f| f.point.id.as_str()).filter(|id| !id.contains("exc")).collect();
    assert_eq!(&order[..6], ["t/1/U", "t/1/V", "t/1/W", "t/vector-group", "t/2/W", "t/3/W"]);
    assert_eq!(
        &order[8..],
        ["t/5/V", "t/4/V", "t/3/V", "t/2/V", "t/2/U", "t/3/U", "t/4/U", "t/5/U"]
    );
}

#[test]
fn plans_that_make_no_sense_are_refused() {
    let asset = asset(T2);
    let refused = |keys: &str| {
        let text = format!(
            "[plan]\ntitle = \"t\"\nasset = \"a\"\n[[test]]\nid = \"t\"\nprocedure = \"turns-ratio\"\n{keys}"
        );
        let source = Source::new("plan", text.as_str());
        let form = waltron_core::plan::PlanForm::load(&source, WINGS).unwrap();
        told(&form.resolve(&source, &asset).unwrap_err())
    };
    for (keys, words) in [
        ("to = 3", "there is no winding 3"),
        ("to = 1", "a ratio is of two windings"),
        ("positions = [\"20\"]", "OLTC has no position `20`"),
        ("positions = [\"5..\"]", "OLTC has no position ``"),
        ("tap_changer = \"DETC\"", "no tap changer `DETC`"),
        ("matrix = true\npositions = [\"1\"]", "leave `positions` out"),
        ("time = \"0.1 s\"", "no time to measure"),
        ("voltage = \"0 V\"", "above zero"),
    ] {
        let why = refused(keys);
        assert!(why.contains(words), "{keys}: {why}");
    }
}

/// YNyn0d11 with a tap changer on each star: by hand, 110/20/10 kV; the tertiary delta is fed by nobody and
/// closes the flux.
#[test]
fn three_windings_and_two_tap_changers_are_taken_apart() {
    let changer = |id: &str, winding: u8, positions: u8, step: &str| {
        format!(
            "[[tap_changer]]\nid = \"{id}\"\nkind = \"de-energised\"\nwinding = {winding}\npositions = {positions}\nstep = \"{step}\"\n"
        )
    };
    let text = format!(
        "[asset]\nkind = \"power-transformer\"\ntag = \"T4\"\n[ratings]\nfrequency = \"50 Hz\"\npower = \"40 MVA\"\nvector_group = \"YNyn0d11\"\n\
         [[winding]]\nvoltage = \"110 kV\"\n[[winding]]\nvoltage = \"20 kV\"\n[[winding]]\nvoltage = \"10 kV\"\npower = \"13 MVA\"\n{}{}",
        changer("A", 1, 3, "5 %"),
        changer("B", 2, 3, "2.5 %"),
    );
    let asset = asset(&text);
    let coils = |n: u8, pairs: [&str; 3]| {
        let all: Vec<String> = pairs
            .iter()
            .enumerate()
            .map(|(k, pair)| {
                format!("{{ at = \"{}\", limb = {} }}", pair.replace('#', &n.to_string()), k + 1)
            })
            .collect();
        all.join(", ")
    };
    let star = ["#U-#N", "#V-#N", "#W-#N"];
    let winding = |turns: f64, coils: String| {
        format!("[[winding]]\nturns = {turns}\nresistance = \"0.1 Ohm\"\ncoils = [{coils}]\n")
    };
    let truth = format!(
        "[specimen]\nkind = \"power-transformer\"\n[power_transformer]\nfrequency = \"50 Hz\"\nvolts_per_turn = \"70 V\"\nexciting = \"70 A\"\nyoke = \"30 A\"\nlosses = \"45 A\"\nsaturation = \"118 %\"\n{}{}{}\
         [[tap_changer]]\nid = \"A\"\nwinding = 1\npositions = 3\nprincipal = 2\nstep = 45\n\
         [[tap_changer]]\nid = \"B\"\nwinding = 2\npositions = 3\nprincipal = 2\nstep = 4.0909\n",
        winding(900.0, coils(1, star)),
        winding(163.636, coils(2, star)),
        // d11: U is at the end of its own limb's coil, against W.
        winding(141.713, coils(3, ["#U-#W", "#V-#U", "#W-#V"])),
    );
    let all = ratio(&asset, T2_RIG, &truth, 1, "matrix = true");
    assert!(failed(&all).is_empty(), "{:?}", failed(&all));
    assert_eq!(all.len(), 9 * 4 + 1);
    let told = of(&all, "1+3/V").measured.get("ratio").unwrap();
    assert!((told / (110.0 * 1.05 / (20.0 * 0.975)) - 1.0).abs() < 1e-3, "{told}");
    // Against the delta, and from one of them to the other: the tap changer that matters is that winding's.
    let all = ratio(&asset, T2_RIG, &truth, 1, "to = 3");
    assert!(failed(&all).is_empty(), "{:?}", failed(&all));
    assert!(
        of(&all, "vector-group").reason.contains("YNd11"),
        "{}",
        of(&all, "vector-group").reason
    );
    let told = of(&all, "3+2/W").measured.get("ratio").unwrap();
    assert!((told / (110.0 * 0.95 / 10.0) - 1.0).abs() < 1e-3, "{told}");
    let all = ratio(
        &asset,
        T2_RIG,
        &truth,
        1,
        "from = 2\nto = 3\npositions = [\"1\", \"3\"]\ntap_changer = \"B\"",
    );
    assert!(failed(&all).is_empty(), "{:?}", failed(&all));
    let told = of(&all, "2+1/U").measured.get("ratio").unwrap();
    assert!((told / (20.0 * 1.025 / 10.0) - 1.0).abs() < 1e-3, "{told}");
}

/// A lead that is off, or a winding that is open, is said to be so.
#[test]
fn an_open_winding_is_told() {
    let asset = asset(T2);
    let open = healthy(T2_TRUTH).replace("at = \"1V-1N\", limb = 2", "at = \"1V-x\", limb = 2")
        .replace("at = \"1W-1N\", limb = 3 }", "at = \"1W-1N\", limb = 3 }, { at = \"x-1N\", limb = 2, turns = 0.001, resistance = \"90 MOhm\" }");
    let all = ratio(&asset, T2_RIG, &open, 1, "positions = [\"10\"]");
    let group = of(&all, "vector-group");
    assert_eq!(group.verdict, Verdict::Fail);
    assert!(group.reason.contains("phase V takes no current: 1V-1N is open"), "{}", group.reason);
}

/// IEC 60076-1, table 1: half a percent, or a tenth of the impedance where that is less, of the first two windings at
/// the principal tapping; only where the file gives no tolerance of its own.
#[test]
fn a_tenth_of_the_impedance_bounds_the_principal_ratio() {
    let limit = |text: &str, position: usize| {
        let asset = asset(text);
        let of: &PowerTransformer = asset.family().unwrap();
        let (low, high) = of.ratio_limits(1, 2, &Stand(vec![position]), 100.0);
        assert!((low + high - 200.0).abs() < 1e-9);
        high - 100.0
    };
    let small = T2.replace("impedance = \"10.4 %\"", "impedance = \"4 %\"");
    let usual = small.replace("ratio = \"0.5 %\"\n", "");
    assert!((limit(&usual, 9) - 0.4).abs() < 1e-9);
    assert!((limit(&usual, 8) - 0.5).abs() < 1e-9, "other positions");
    assert!((limit(&small, 9) - 0.5).abs() < 1e-9, "a tolerance of its own");
    assert!((limit(&T2.replace("ratio = \"0.5 %\"\n", ""), 9) - 0.5).abs() < 1e-9, "1.04 %");
}

/// The phase displacement is told in degrees, or in minutes of arc: the same angle.
#[test]
fn the_angle_is_told_in_degrees_or_minutes() {
    let asset = asset(T2);
    let angle = |keys: &str| {
        let keys = format!("positions = [\"10\"]\n{keys}");
        let found = ratio(&asset, T2_RIG, &healthy(T2_TRUTH), 5, &keys);
        let measured = &of(&found, "10/U").measured;
        (measured.get("angle").unwrap(), measured.text("angle").unwrap())
    };
    let ((degrees, as_degrees), (minutes, as_minutes)) = (angle(""), angle("phase = \"minutes\""));
    assert!((degrees - minutes).abs() < 1e-12, "{degrees} {minutes}");
    assert!(as_degrees.contains("deg") || as_degrees.contains('°'), "{as_degrees}");
    assert_ne!(as_degrees, as_minutes);
}
