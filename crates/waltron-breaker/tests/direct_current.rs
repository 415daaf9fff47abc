//! Direct-current breakers: what is healthy passes, each defect fails on its own criterion, and what was not seen, or
//! cannot be reached, is not told as anything else.

mod support;

use proptest::prelude::*;
use support::{Played, WINGS, asset, failed, nobody, of};
use waltron_core::asset::Asset;
use waltron_core::grading::{Finding, Verdict};
use waltron_core::injection::observation::Observation;
use waltron_core::plan::{PlanForm, ProcedureSettings};
use waltron_core::procedure::{Action, Answer, Bench};
use waltron_core::text::document::Source;
use waltron_test_support::wing::plan;

const ASSET: &str = include_str!("../../../examples/tr1-q1.asset.toml");
const RIG: &str = include_str!("../../../examples/tr1-q1.rig.toml");
const SPECIMEN: &str = include_str!("../../../examples/tr1-q1.specimen.toml");

const LEVEL: &str = "procedure = \"trip-level\"\n";
const OPENING: &str = "procedure = \"opening-time\"\n";
const MAKING: &str = "procedure = \"making\"\n";
const JOINTS: &str = "procedure = \"joint-resistance\"\n";

fn changed(text: &str, changes: &[(&str, &str)]) -> String {
    let change = |text: String, (from, to): &(&str, &str)| {
        assert!(text.contains(from), "{from}");
        text.replacen(from, to, 1)
    };
    changes.iter().fold(text.to_owned(), change)
}

/// The demo's breaker with its opening spring in order, and without what scatters where that is told.
fn healthy(changes: &[(&str, &str)]) -> String {
    let spring = ("opening = \"7.4 ms\"", "opening = \"3.1 ms\"");
    changed(&changed(SPECIMEN, &[spring]), changes)
}

const STILL: [(&str, &str); 2] =
    [("scatter = \"0.3 %\"", "scatter = \"0 %\""), ("current = \"0.3 %\"", "current = \"0 %\"")];

fn play(specimen: &str, rig: &str, test: &str) -> Vec<Finding> {
    Played::new(WINGS, rig, specimen, 3).play(&asset(ASSET), test, &nobody).0
}

/// The same on a rig without any error: what is measured is the specimen's own.
fn exactly(specimen: &str, rig: &str, test: &str) -> Vec<Finding> {
    Played::exact(WINGS, rig, specimen, 3).play(&asset(ASSET), test, &nobody).0
}

fn value(found: &[Finding], what: &str, name: &str) -> f64 {
    let f = of(found, what);
    f.measured.get(name).unwrap_or_else(|| panic!("{what}: {}", f.reason))
}

#[test]
fn a_healthy_breaker_passes_and_is_measured_rightly() {
    for test in [LEVEL, OPENING, MAKING, JOINTS] {
        let found = play(&healthy(&[]), RIG, test);
        assert_eq!(failed(&found), Vec::<&str>::new(), "{test}");
    }
    let still = healthy(&STILL);
    let found = exactly(&still, RIG, LEVEL);
    // The circuit as the specimen's file has it: 4.1 mOhm and 11 ms.
    assert!((value(&found, "circuit", "resistance") / 4.1e-3 - 1.0).abs() < 2e-3);
    assert!((value(&found, "circuit", "inductance") / (4.1e-3 * 11e-3) - 1.0).abs() < 4e-3);
    // On a ramp the release sees the current later by its lag, and the contacts part later by the opening.
    for (rate, what) in [(100.0, "level/100-A-per-s"), (400.0, "level/400-A-per-s")] {
        let by_hand = 3960.0 + rate * (1.6e-3 + 3.1e-3);
        let level = value(&found, what, "current");
        assert!((level - by_hand).abs() < 0.5, "{what}: {level}, by hand {by_hand}");
    }
    assert!((value(&found, "setting", "current") - 3960.0).abs() < 0.7);
    let found = exactly(&still, RIG, OPENING);
    // Lag and opening; on a step that bends, the lag is a little less than its time constant.
    let time = value(&found, "opening-time", "time");
    assert!((4.4e-3..4.8e-3).contains(&time), "{time}");
    let found = exactly(&still, RIG, MAKING);
    assert!((value(&found, "making-current", "current") / 3600.0 - 1.0).abs() < 3e-3);
    let found = exactly(&still, RIG, JOINTS);
    for (joint, ohm) in [("main-contacts", 27e-6), ("upper-joint", 8e-6), ("lower-joint", 9e-6)] {
        let seen = value(&found, &format!("resistance/{joint}"), "resistance");
        assert!((seen / ohm - 1.0).abs() < 0.01, "{joint}: {seen}");
    }
}

#[test]
fn each_defect_fails_on_its_own_criterion() {
    let of_defect = |changes: &[(&str, &str)], test: &str| {
        let found = play(&healthy(changes), RIG, test);
        failed(&found).into_iter().map(str::to_owned).collect::<Vec<_>>()
    };
    let setting = |amps: &'static str| [("setting = \"3.96 kA\"", amps)];
    assert_eq!(of_defect(&setting("setting = \"3.7 kA\""), LEVEL), ["setting"]);
    assert_eq!(of_defect(&setting("setting = \"4.4 kA\""), LEVEL), ["setting"]);
    assert_eq!(of_defect(&[("scatter = \"0.3 %\"", "scatter = \"1.6 %\"")], "procedure = \"trip-level\"\nmargin = \"10 %\"\nrates = [\"400 A/s\", \"800 A/s\"]\ntimes = 5\n").iter().filter(|what| what.starts_with("spread")).count(), 2);
    // The demo's hidden defect.
    let found = play(SPECIMEN, RIG, OPENING);
    assert_eq!(failed(&found), ["opening-time"]);
    assert!(of(&found, "opening-time").reason.contains("weak opening spring"));
    assert_eq!(of_defect(&setting("setting = \"3.1 kA\""), MAKING), ["making-current"]);
    let loose = [("resistance = \"9 uOhm\"", "resistance = \"45 uOhm\"")];
    assert_eq!(of_defect(&loose, JOINTS), ["resistance/lower-joint"]);
}

/// Whatever the release is set to, slow or quick: the setting is found, and the verdict is
/// that of its distance from the limits.
#[test]
fn the_setting_is_found_wherever_it_is() {
    let mut runner = proptest::test_runner::TestRunner::new(ProptestConfig::with_cases(24));
    let strategy = (2500.0f64..5000.0, 0.0f64..4.0, 1.0f64..24.0, 4.0f64..25.0);
    runner
        .run(&strategy, |(setting, lag, opening, tau)| {
            let setting_text = format!("setting = \"{setting:.1} A\"");
            let (lag_text, opening_text) =
                (format!("lag = \"{lag:.2} ms\""), format!("opening = \"{opening:.2} ms\""));
            let tau_text = format!("time_constant = \"{tau:.1} ms\"");
            let specimen = changed(
                SPECIMEN,
                &[
                    STILL[0],
                    STILL[1],
                    ("setting = \"3.96 kA\"", &setting_text),
                    ("lag = \"1.6 ms\"", &lag_text),
                    ("opening = \"7.4 ms\"", &opening_text),
                    ("time_constant = \"11 ms\"", &tau_text),
                ],
            );
            let test =
                "procedure = \"trip-level\"\nrates = [\"200 A/s\", \"800 A/s\"]\ntimes = 1\n";
            let found = exactly(&specimen, RIG, test);
            let seen = value(&found, "setting", "current");
            prop_assert!((seen - setting).abs() < 4.0, "{setting} {lag} {opening} {tau}: {seen}");
            let wanted =
                if (3800.0..=4200.0).contains(&setting) { Verdict::Pass } else { Verdict::Fail };
            let near = [3800.0, 4200.0].iter().any(|edge| (edge - setting).abs() < 5.0);
            prop_assert!(near || of(&found, "setting").verdict == wanted, "{setting}");
            Ok(())
        })
        .unwrap();
}

#[test]
fn what_was_not_seen_is_not_told_as_anything_else() {
    let verdict = |specimen: &str, rig: &str, test: &str, what: &str| {
        let found = exactly(specimen, rig, test);
        let f = of(&found, what);
        (f.verdict, f.reason.clone())
    };
    let told = |(verdict, reason): (Verdict, String), wanted: Verdict, words: &str| {
        assert!(verdict == wanted && reason.contains(words), "{verdict:?} {reason}");
    };
    // Long leads: 20 mOhm, 3 kA at most by hand, and the store's reserve.
    let far = healthy(&[("resistance = \"4.1 mOhm\"", "resistance = \"20 mOhm\"")]);
    for (test, what) in
        [(LEVEL, "setting"), (LEVEL, "level/100-A-per-s"), (OPENING, "opening-time")]
    {
        told(verdict(&far, RIG, test, what), Verdict::NotTested, "the source drives 2910 A");
    }
    let (v, reason) = verdict(&far, RIG, MAKING, "making-current");
    assert!(v == Verdict::NotTested && reason.contains("2910 A"), "{v:?} {reason}");
    // A meter that does not show what would flow.
    let meter = changed(RIG, &[("range = \"15 kA\"", "range = \"4.1 kA\"")]);
    told(
        verdict(&healthy(&[]), &meter, LEVEL, "setting"),
        Verdict::NotTested,
        "the meter of the current shows 4100 A",
    );
    // A store that does not fill: no pulse comes, and not after two minutes for each of them either.
    let empty = healthy(&[("store = \"68 V\"", "store = \"50 V\"")]);
    let found = exactly(&empty, RIG, LEVEL);
    assert!(
        found
            .iter()
            .all(|f| f.verdict == Verdict::NotTested && f.reason.contains("is not charged: 50 V")),
        "{found:?}"
    );
    assert_eq!(found.iter().filter(|f| f.point.id.ends_with("/setting")).count(), 1);
    // It never opens: that is a failure where the current went beyond the band for certain.
    let blocked = healthy(&[("setting = \"3.96 kA\"", "setting = \"9 kA\"")]);
    told(verdict(&blocked, RIG, LEVEL, "setting"), Verdict::Fail, "did not open up to 52");
    told(verdict(&blocked, RIG, LEVEL, "level/100-A-per-s"), Verdict::Inconclusive, "did not open");
    told(verdict(&blocked, RIG, OPENING, "opening-time"), Verdict::Fail, "did not open on 8");
    // It opens long before its band.
    let low = healthy(&[("setting = \"3.96 kA\"", "setting = \"1.9 kA\"")]);
    told(verdict(&low, RIG, LEVEL, "setting"), Verdict::Fail, "already, while the current rose");
    // Set so low that the look at the circuit opens it.
    let lower = healthy(&[("setting = \"3.96 kA\"", "setting = \"700 A\"")]);
    told(verdict(&lower, RIG, LEVEL, "setting"), Verdict::Inconclusive, "the circuit is not known");
    // Quicker than it opens: what comes behind the ramp's end is no level of it.
    let slow = healthy(&[("opening = \"3.1 ms\"", "opening = \"20 ms\"")]);
    let quick = "procedure = \"trip-level\"\nrates = [\"60 kA/s\"]\ntimes = 1\n";
    told(
        verdict(&slow, RIG, quick, "level/60-kA-per-s"),
        Verdict::Inconclusive,
        "behind the end of its ramp",
    );
    // Nor has it a part in the setting.
    let (v, reason) = verdict(&slow, RIG, quick, "setting");
    assert!(v == Verdict::Inconclusive && reason.contains("no level was found"), "{v:?} {reason}");
    // Its level scatters more than the ramp spans.
    let wild = healthy(&[("scatter = \"0.3 %\"", "scatter = \"4 %\"")]);
    let found = play(&wild, RIG, "procedure = \"trip-level\"\nmargin = \"1 %\"\ntimes = 4\n");
    assert_eq!(of(&found, "setting").verdict, Verdict::Inconclusive, "half of it is no mean");
    let lost = found.iter().filter(|f| f.reason.contains("take a larger `margin`"));
    assert!(
        lost.count() > 0
            && found.iter().all(|f| !f.point.id.contains("/level/") || f.verdict != Verdict::Pass)
    );
}

/// Without commands somebody closes it after every opening, and is asked to; without a command to close, nothing can be
/// made.
#[test]
fn somebody_closes_it_where_the_rig_does_not() {
    let commands = "[[switch]]\nid = \"SW1\"\nmeaning = \"close command\"\nterminal = \"SW1: 1, 2\"\n\n[[switch]]\nid = \"SW2\"\nmeaning = \"open command\"\nterminal = \"SW2: 1, 2\"\n";
    let rig = changed(RIG, &[(commands, "")]);
    let mut bench = Played::new(WINGS, &rig, &healthy(&[]), 3);
    let test = "procedure = \"trip-level\"\nrates = [\"400 A/s\"]\ntimes = 2\n";
    let (found, _) = bench.play(&asset(ASSET), test, &nobody);
    assert_eq!(failed(&found), Vec::<&str>::new());
    let asked: Vec<&str> = bench.asked.iter().map(|q| q.text.as_str()).collect();
    // Before the look at the circuit, after both searches, after the first pulse.
    assert_eq!(asked, ["Close the breaker"; 4]);
    let breaker = asset(ASSET);
    let capability = support::capability(&rig);
    let plan = plan(WINGS, &breaker, MAKING);
    let refused = plan.tests[0].procedure(Bench { asset: &breaker, capability: &capability });
    assert!(refused.err().unwrap().to_string().contains("close command"));
}

/// A pulse that the source cannot give is told before anything is put out.
#[test]
fn a_pulse_that_is_too_long_is_refused_beforehand() {
    let rig = changed(RIG, &[("longest = \"3 s\"", "longest = \"1 s\"")]);
    let breaker = asset(ASSET);
    let capability = support::capability(&rig);
    let plan = plan(WINGS, &breaker, LEVEL);
    let procedure = plan.tests[0]
        .procedure(Bench { asset: &breaker, capability: &capability })
        .unwrap()
        .unwrap();
    let refused = procedure.planned().into_iter().filter_map(|p| {
        waltron_core::clearance::clear(p.program, &breaker.ratings, &capability).err()
    });
    let words: Vec<String> = refused.flatten().map(|r| r.to_string()).collect();
    assert!(
        words
            .iter()
            .any(|w| w.contains("would be on for up to 2.92 s") && w.contains("1 s at once")),
        "{words:?}"
    );
}

/// What a test of the level has found is the current that an opening time counts from; without one it is the file's.
#[test]
fn the_opening_time_counts_from_the_setting_as_found() {
    let breaker = asset(ASSET);
    let capability = support::capability(RIG);
    let told = |carried: Option<f64>| {
        let plan = plan(WINGS, &breaker, OPENING);
        let mut procedure = plan.tests[0]
            .procedure(Bench { asset: &breaker, capability: &capability })
            .unwrap()
            .unwrap();
        let mut all = waltron_core::procedure::Carried::new();
        all.extend(carried.map(|amps| ("dc setting".to_owned(), amps)));
        procedure.take_over(&all);
        let mut bench = Played::new(WINGS, RIG, &healthy(&STILL), 3);
        let found = bench.run(&breaker, procedure, &nobody).0;
        (
            of(&found, "opening-time").stimulus.get("setting").unwrap(),
            value(&found, "opening-time", "time"),
        )
    };
    let (of_file, late) = told(None);
    let (found, right) = told(Some(3700.0));
    assert_eq!((of_file, found), (4000.0, 3700.0));
    // 300 A at about 370 A/ms.
    assert!((0.6e-3..1.0e-3).contains(&(right - late)), "{right} {late}");
}

/// A file that was graded by other limits is graded again by what was measured.
#[test]
fn other_limits_grade_a_record_again() {
    let breaker = asset(ASSET);
    let tight = asset(&changed(
        ASSET,
        &[("max = \"7 ms\"", "max = \"4 ms\""), ("tolerance = \"5 %\"", "tolerance = \"0.5 %\"")],
    ));
    let capability = support::capability(RIG);
    for (test, what, before, after) in [
        (OPENING, "opening-time", Verdict::Pass, Verdict::Fail),
        (LEVEL, "setting", Verdict::Pass, Verdict::Fail),
        (LEVEL, "level/100-A-per-s", Verdict::Measured, Verdict::Measured),
    ] {
        let found = play(&healthy(&[]), RIG, test);
        let measured = of(&found, what).clone();
        assert_eq!(measured.verdict, before);
        let grade = measured.graded(waltron_core::grading::Rule::Simple);
        let again = |asset: &Asset| {
            let plan = plan(WINGS, asset, test);
            let ProcedureSettings::Built(method) = &plan.tests[0].procedure else { panic!() };
            method
                .grade_again(Bench { asset, capability: &capability }, &grade, &[])
                .unwrap()
                .verdict
        };
        assert_eq!((again(&breaker), again(&tight)), (before, after), "{what}");
    }
}

#[test]
fn files_and_plans_that_make_no_sense_are_refused() {
    let problem = |from: &str, to: &str| {
        let text = changed(ASSET, &[(from, to)]);
        let error = WINGS.asset(&Source::new("a", text.as_str())).unwrap_err();
        error.problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; ")
    };
    for (from, to, words) in [
        ("most = \"10 kA\"", "most = \"3 kA\"", "below it"),
        ("setting = \"4 kA\"", "setting = \"-4 kA\"", "above zero"),
        ("tolerance = \"5 %\"", "tolerance = \"120 %\"", "any setting would do"),
        ("opening_time = { max = \"7 ms\" }", "opening_time = { max = \"7 A\" }", "time"),
        ("opening_time = { max = \"7 ms\" }", "opening_time = {}", "nothing is limited"),
        (
            "making_current = { min = \"3.2 kA\" }",
            "making_current = { min = \"3.2 kA\", max = \"3 kA\" }",
            "lies above",
        ),
        ("id = \"upper joint\"", "id = \"main contacts\"", "two joints"),
    ] {
        let told = problem(from, to);
        assert!(told.contains(words), "{to}: {told}");
    }
    let breaker = asset(ASSET);
    for (test, words) in [
        ("procedure = \"trip-level\"\nrates = []\n", "nothing would rise"),
        ("procedure = \"trip-level\"\nrates = [\"100 A\"]\n", "rate of rise"),
        ("procedure = \"trip-level\"\nrates = [\"100 A/s\", \"0.1 kA/s\"]\n", "twice"),
        ("procedure = \"trip-level\"\nmargin = \"50 %\"\n", "for ever"),
        ("procedure = \"opening-time\"\ncurrent = \"4.1 kA\"\n", "too near"),
        ("procedure = \"making\"\nfrom = \"90 %\"\nto = \"50 %\"\n", "below the first"),
        ("procedure = \"making\"\nto = \"1000000000000 %\"\n", "closings, and 100 are the most"),
        (
            "procedure = \"making\"\nstep = \"1 %\"\nfrom = \"1 %\"\nto = \"300 %\"\n",
            "300 closings",
        ),
        ("procedure = \"opening-time\"\ntimes = 1e12\n", "a whole number from 1 to 100"),
        ("procedure = \"trip-level\"\ntimes = 2.5\n", "a whole number from 1 to 100"),
        ("procedure = \"trip-level\"\ntimes = 0\n", "above zero"),
        ("procedure = \"joint-resistance\"\ncurrent = \"20 A\"\n", "50 A"),
        ("procedure = \"joint-resistance\"\ncurrent = \"9 kA\"\n", "2600 A"),
        ("procedure = \"contact-resistance\"\n", "no circuit breaker"),
    ] {
        let text = format!("[plan]\ntitle = \"t\"\nasset = \"a\"\n[[test]]\nid = \"t\"\n{test}");
        let source = Source::new("plan", text.as_str());
        let error =
            PlanForm::load(&source, WINGS).and_then(|p| p.resolve(&source, &breaker)).unwrap_err();
        let told = error.problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; ");
        assert!(told.contains(words), "{test}: {told}");
    }
}

/// Whatever comes back, nothing is a pass that no current has shown.
#[test]
fn nonsense_never_passes() {
    let breaker = asset(ASSET);
    let capability = support::capability(RIG);
    for test in [LEVEL, OPENING, MAKING, JOINTS] {
        let plan = plan(WINGS, &breaker, test);
        let bench = Bench { asset: &breaker, capability: &capability };
        let mut procedure = plan.tests[0].procedure(bench).unwrap().unwrap();
        let mut found = Vec::new();
        for _ in 0..200 {
            match procedure.next() {
                Action::Inject(_) => found.extend(procedure.observe(&Observation::default())),
                Action::Ask(_) => procedure.answer(Answer::Confirmed),
                Action::Conclude(more) => found.extend(more),
                Action::Done => break,
                other => panic!("{other:?}"),
            }
        }
        assert_eq!(procedure.next(), Action::Done, "{test}");
        assert!(!found.is_empty(), "{test}");
        assert!(
            found.iter().all(|f| !matches!(f.verdict, Verdict::Pass | Verdict::Fail)),
            "{found:?}"
        );
    }
}

#[test]
fn files_to_begin_with_load() {
    use waltron_core::wing::{Depth, Wing};
    let text = waltron_breaker::BreakerWing
        .new_asset("dc-breaker", &waltron_core::defaults::Defaults::default())
        .unwrap();
    let breaker = asset(&text);
    for depth in [Depth::Routine, Depth::Commissioning] {
        let tests = waltron_breaker::BreakerWing
            .new_tests(&breaker, None, depth, &waltron_core::defaults::Defaults::default())
            .unwrap();
        let text = format!("[plan]\ntitle = \"t\"\nasset = \"a\"\n{tests}");
        let source = Source::new("plan", text.as_str());
        let plan =
            PlanForm::load(&source, WINGS).and_then(|p| p.resolve(&source, &breaker)).unwrap();
        assert_eq!(plan.tests.len(), 4);
    }
}

/// What it opened at on its way to the ramp bounds the setting and is none: other settings make no pass of it.
#[test]
fn a_level_that_only_bounds_the_setting_never_passes() {
    let low = healthy(&[("setting = \"3.96 kA\"", "setting = \"1.9 kA\"")]);
    let found = play(&low, RIG, LEVEL);
    let grade = of(&found, "setting").clone().graded(waltron_core::grading::Rule::Simple);
    assert_eq!(grade.verdict, Verdict::Fail);
    let capability = support::capability(RIG);
    for (setting, wanted) in [("4 kA", Verdict::Fail), ("2 kA", Verdict::Inconclusive)] {
        let breaker =
            asset(&changed(ASSET, &[("setting = \"4 kA\"", &format!("setting = \"{setting}\""))]));
        let plan = plan(WINGS, &breaker, LEVEL);
        let ProcedureSettings::Built(method) = &plan.tests[0].procedure else { panic!() };
        let bench = Bench { asset: &breaker, capability: &capability };
        let again = method.grade_again(bench, &grade, &[]).unwrap();
        assert_eq!(again.verdict, wanted, "{setting}: {}", again.reason);
    }
}
