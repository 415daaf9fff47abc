//! How often the truth lies within U, of rigs that err as they state: the specimen's own scatter off, the truth by
//! formula from its file.

use crate::samples::{WINGS, mixed};
use std::fmt::Write;
use waltron_core::procedure::{Answer, Question};
use waltron_core::uncertainty::ruling;
use waltron_test_support::wing::{Played, asset};

/// What is true of a unit of a seed.
type Truth = Box<dyn Fn(u64) -> f64>;

/// What is tested, and what is true of it.
struct Case {
    asset: &'static str,
    rig: &'static str,
    specimen: Box<dyn Fn(u64) -> String>,
    test: &'static str,
    truths: Vec<(&'static str, Truth)>,
}

/// At which current the relay of a seed picks up, in A: anywhere between the steps of a ramp.
fn pickup_a(seed: u64) -> f64 {
    1.204 + 0.004 * (mixed(seed) % 1000) as f64 / 1000.0
}

/// The relay of the demo: what it adds to every time is 15 ms, and its own 51P resets at 95.4 % and works with 0.33.
fn relay(test: &'static str, truths: Vec<(&'static str, Truth)>) -> Case {
    let specimen = |seed| {
        include_str!("../../../../crates/waltron/demo/q07-f1.specimen.toml")
            .replace("current = \"0.15 %\"", "current = \"0 %\"")
            .replace("time = \"1.5 ms\"", "time = \"0 ms\"")
            .replace("pickup = \"1.204 A\"", &format!("pickup = \"{} A\"", pickup_a(seed)))
    };
    Case {
        asset: include_str!("../../../../crates/waltron/demo/q07-f1.asset.toml"),
        rig: include_str!("../../../../crates/waltron/demo/q07-f1.rig.toml"),
        specimen: Box::new(specimen),
        test,
        truths,
    }
}

fn cases() -> Vec<Case> {
    // IEC 60255-151, very inverse, of a current that is so many times the setting of 1.2 A.
    let very_inverse = |times: f64| -> Truth {
        Box::new(move |seed| 0.33 * 13.5 / (times * 1.2 / pickup_a(seed) - 1.0) + 0.015)
    };
    let times = "procedure = \"trip-time\"\nelement = \"51P\"\nloops = [\"A-N\"]\nat = [\"2 x\", \"3 x\", \"5 x\", \"7 x\"]\n";
    let pickup = "procedure = \"pickup\"\nelement = \"51P\"\nloops = [\"B-N\"]\n";
    let resistance = "procedure = \"resistance\"\ntemperature = \"19 degC\"\ntemperature_uncertainty = \"0 K\"\ncurrent = \"0.5 A\"\n";
    let at = ["A-N/2x", "A-N/3x", "A-N/5x", "A-N/7x"].into_iter();
    let by_curve = at.zip([2.0, 3.0, 5.0, 7.0]).map(|(what, times)| (what, very_inverse(times)));
    vec![
        relay(times, by_curve.collect()),
        relay(pickup, vec![("B-N", Box::new(pickup_a)), ("B-N/reset", Box::new(|_| 0.954))]),
        Case {
            asset: include_str!("../../../../examples/q07-ct.asset.toml"),
            rig: include_str!("../../../../examples/q07-ct.rig.toml"),
            specimen: Box::new(|_| {
                include_str!("../../../../examples/q07-ct.specimen.toml").into()
            }),
            test: resistance,
            // Copper at 75 °C by IEC 60076-1.
            truths: vec![("resistance", Box::new(|_| 3.72 * (235.0 + 75.0) / (235.0 + 19.0)))],
        },
        Case {
            asset: include_str!("../../../../examples/q07-ct.asset.toml"),
            rig: include_str!("../../../../examples/q07-ct.rig.toml"),
            specimen: Box::new(|_| {
                include_str!("../../../../examples/q07-ct.specimen.toml").into()
            }),
            test: "procedure = \"burden\"\n",
            // What is connected, at 1 A.
            truths: vec![("burden", Box::new(|_| 3.2f64.hypot(2.3)))],
        },
        power(
            "procedure = \"turns-ratio\"\npositions = [\"10\"]\n",
            // A star by the root of three, over a delta.
            ["10/U", "10/V", "10/W"].map(|what| (what, 3f64.sqrt() * 907.3 / 285.7)).to_vec(),
        ),
        power(
            "procedure = \"tan-delta\"\ntemperature = \"31 degC\"\n",
            // At 20 °C: what polarises by the power of a half stores as much as it loses.
            vec![("HL", 0.00271 / 1.0027), ("L", 0.00341 / 1.0034)],
        ),
        Case {
            asset: include_str!("../../../../examples/tr1-q1.asset.toml"),
            rig: include_str!("../../../../examples/tr1-q1.rig.toml"),
            specimen: Box::new(|_| {
                include_str!("../../../../examples/tr1-q1.specimen.toml")
                    .replace("current = \"0.3 %\"", "current = \"0 %\"")
                    .replace("scatter = \"0.3 %\"", "scatter = \"0 %\"")
            }),
            test: "procedure = \"trip-level\"\n",
            truths: vec![("setting", Box::new(|_| 3960.0))],
        },
    ]
}

/// The transformer T2, without what scatters of its own.
fn power(test: &'static str, truths: Vec<(&'static str, f64)>) -> Case {
    let own = |(what, truth): (&'static str, f64)| (what, Box::new(move |_| truth) as Truth);
    Case {
        asset: include_str!("../../../../examples/t2.asset.toml"),
        rig: include_str!("../../../../examples/t2.rig.toml"),
        specimen: Box::new(|_| {
            include_str!("../../../../examples/t2.specimen.toml")
                .replace("current = \"0.02 %\"", "current = \"0 %\"")
                .replace("spread = \"0.5 %\"", "spread = \"0 %\"")
        }),
        test,
        truths: truths.into_iter().map(own).collect(),
    }
}

fn told(question: &Question) -> Answer {
    question.default_answer().unwrap_or(Answer::Stop)
}

/// What came of a value over all rigs: how often its truth was within U, by how much of U it was off on the mean, and
/// whether one limit rules it.
#[derive(Clone, Default)]
struct Row {
    inside: u64,
    off: f64,
    rules: bool,
}

/// A row for each truth of a case.
fn rows(case: &Case, rigs: u64) -> Vec<Row> {
    let asset = asset(WINGS, case.asset);
    let mut rows = vec![Row::default(); case.truths.len()];
    for seed in 0..rigs {
        let mut played = Played::new(WINGS, case.rig, &(case.specimen)(seed), 1000 + seed);
        let (all, _) = played.play(&asset, case.test, &told);
        for (row, (what, truth)) in rows.iter_mut().zip(&case.truths) {
            let is_it = |id: &str| id.ends_with(&format!("/{what}"));
            let found = all.iter().find(|f| is_it(&f.point.id)).unwrap();
            let value = found.measured.iter().next().map(|(_, value)| value.si()).unwrap();
            let u = found.uncertainty.get("u").unwrap_or_else(|| panic!("{what}: no U"));
            row.inside += u64::from((value - truth(seed)).abs() <= u);
            row.off += (value - truth(seed)) / u;
            row.rules |= ruling(&found.budget).is_some();
        }
    }
    rows
}

/// The table of all of them.
fn covered(rigs: u64, least: f64, most_bias: f64) -> String {
    let (mut table, mut wrong) = (String::new(), String::new());
    for case in &cases() {
        for (row, (what, _)) in rows(case, rigs).into_iter().zip(&case.truths) {
            let (share, bias) = (row.inside as f64 / rigs as f64, row.off / rigs as f64);
            let rules = if row.rules { "one limit" } else { "" };
            let _ = writeln!(table, "| {what} | {:.1} % | {bias:+.2} | {rules} |", share * 100.0);
            if share < least || bias.abs() >= most_bias {
                let _ = writeln!(wrong, "{what}: {share} of {rigs} rigs, {bias:+.2} U on the mean");
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong}\n{table}");
    table
}

#[test]
fn the_truth_lies_within_what_is_told() {
    assert_eq!(covered(30, 0.8, 0.4).lines().count(), 14);
}

#[test]
#[ignore = "long: a thousand rigs"]
#[allow(clippy::print_stdout, reason = "its table is what it is for")]
fn the_truth_of_a_thousand_rigs_lies_within_what_is_told() {
    println!("{}", covered(1000, 0.94, 0.2));
}
