//! Files of breakers: what makes no sense is refused where it stands, and files to begin with load as they are.

mod support;

use support::{ASSET, WINGS, asset, capability, rig};
use waltron_core::plan::PlanForm;
use waltron_core::procedure::Bench;
use waltron_core::text::document::Source;
use waltron_core::wing::{Depth, Wing};

const LV_ASSET: &str = include_str!("../../../examples/ns1-q1.asset.toml");
const LV_RIG: &str = include_str!("../../../examples/ns1-q1.rig.toml");

#[test]
fn assets_that_make_no_sense_are_refused_with_what_is_wrong() {
    let refused = |from: &str, to: &str, words: &str| {
        assert!(ASSET.contains(from), "{from}");
        let text = ASSET.replacen(from, to, 1);
        let error = WINGS.asset(&Source::new("a", text.as_str())).unwrap_err();
        let told: Vec<&str> = error.problems.iter().map(|p| p.message.as_str()).collect();
        assert!(told.iter().any(|t| t.contains(words)), "{words}: {told:?}");
    };
    refused("id = \"trip 2\"", "id = \"trip 1\"", "two coils are called `trip 1`");
    refused("id = \"52b\"", "id = \"52a\"", "two contacts are called `52a`");
    refused("bounce_time = { max = \"2 ms\" }", "bounce_time = {}", "neither `min` nor `max`");
    let turned = "opening_time = { min = \"40 ms\", max = \"32 ms\" }";
    let usual = "opening_time = { min = \"18 ms\", max = \"32 ms\" }";
    refused(usual, turned, "the least lies above the most");
    refused("max = \"2 ms\"", "max = \"-2 ms\"", "nothing lies below a negative limit");
    refused("max = \"2 ms\"", "max = \"2 A\"", "a current");
    let at = "[[limits.at]]\nvoltage = \"70 %\"\n";
    let twice = format!("{usual}\nrequired = [\"openning_time\"]");
    refused(usual, &twice, "nothing is called `openning_time`");
    let end = "overtravel = { max = \"6 deg\" }\n";
    refused(end, &format!("{end}{at}{at}"), "two tables of limits are of this voltage");
    let breaker = "mechanism = \"spring\"\n";
    refused(breaker, "poles = []\n", "at least one pole");
    refused(breaker, "poles = [\"L1\", \"L1\"]\n", "two poles are called `L1`");
    refused(breaker, "poles = [\"L1/2\"]\n", "`L1/2` is no name for a pole");
    refused(breaker, "units = 1.5\n", "whole number of interrupting units");
    refused("voltage = \"24 kV\"", "voltage = \"0 kV\"", "must be");
}

#[test]
fn tests_that_make_no_sense_are_refused_before_anything_is_put_out() {
    let refused = |of: &str, test: &str, words: &str| {
        let asset = asset(of);
        let text = format!("[plan]\ntitle = \"t\"\nasset = \"a\"\n[[test]]\nid = \"t\"\n{test}");
        let source = Source::new("plan", text.as_str());
        let plan = PlanForm::load(&source, WINGS).and_then(|p| p.resolve(&source, &asset));
        let error = plan.err().unwrap_or_else(|| panic!("{test} is taken"));
        let told: Vec<&str> = error.problems.iter().map(|p| p.message.as_str()).collect();
        assert!(told.iter().any(|t| t.contains(words)), "{words}: {told:?}");
    };
    let operation = |keys: &str| format!("procedure = \"operation\"\n{keys}\n");
    for (keys, words) in [
        ("operations = [\"CC\"]", "`CC` is no operation"),
        ("operations = [\"C\", \"C\"]", "stands there twice"),
        ("voltage = [\"120 %\"]", "withstands 110 %"),
        ("repeat = 1.5", "a whole number of times"),
        ("coil = \"trip 3\"", "no coil that trips is called `trip 3`"),
        ("first = true", "is one operation, made once"),
        ("pause = \"-1 s\"", "must be"),
    ] {
        refused(ASSET, &operation(keys), words);
    }
    let no_trip = ASSET.replace("does = \"trip\"", "does = \"close\"");
    refused(&no_trip, &operation("operations = [\"O\"]"), "no coil that trips the breaker");
    let resistance = "procedure = \"contact-resistance\"\ncurrent";
    refused(ASSET, &format!("{resistance} = \"10 A\"\n"), "less than 50 A");
    refused(ASSET, &format!("{resistance} = \"5 kA\"\n"), "the breaker carries 1250 A");
    let pickup = "procedure = \"lowest-pickup\"\n";
    refused(ASSET, &format!("{pickup}from = \"90 %\"\nto = \"80 %\"\n"), "lower than the last");
    refused(ASSET, &format!("{pickup}step = \"0.01 %\"\n"), "more than 400 pulses");
    refused(ASSET, "procedure = \"counter\"\n", "has no `counter`");
    let still = ASSET.replace("[motor]\nvoltage = \"110 V\"\n", "");
    refused(&still, "procedure = \"motor\"\n", "has no `[motor]`");
    refused(ASSET, "procedure = \"long-time\"\n", "is no low-voltage breaker");
    refused(LV_ASSET, &operation(""), "is no circuit breaker");
    let long = |keys: &str| format!("procedure = \"long-time\"\n{keys}\n");
    refused(LV_ASSET, &long("at = [\"0.9 x\"]"), "nothing is timed");
    refused(LV_ASSET, &long("poles = [\"L9\"]"), "no pole is called `L9`");
    let off = LV_ASSET.replacen("delay = \"12 s\"", "delay = \"12 s\"\nenabled = false", 1);
    refused(&off, &long(""), "`long-time` is off");
    let pulses = "procedure = \"instantaneous\"\n";
    refused(LV_ASSET, &format!("{pulses}from = \"110 %\"\n"), "below the band");
    refused(LV_ASSET, &format!("{pulses}step = \"0.01 %\"\n"), "more than a thousand pulses");
}

/// Whatever rig and depth: what is derived loads, and can be set up where it was derived for.
#[test]
fn files_to_begin_with_load_and_plans_follow_from_them() {
    let wing = waltron_breaker::BreakerWing;
    for (kind, rig) in [("circuit-breaker", rig()), ("lv-breaker", LV_RIG.to_owned())] {
        let asset = asset(
            &wing
                .new_asset(kind, &waltron_core::defaults::Defaults::default())
                .expect("a file to begin with"),
        );
        assert_eq!(asset.kind, kind);
        let rig = capability(&rig);
        let mut counts = Vec::new();
        for depth in [Depth::Commissioning, Depth::Routine, Depth::Quick] {
            let tests = wing
                .new_tests(&asset, Some(&rig), depth, &waltron_core::defaults::Defaults::default())
                .expect("tests");
            let text = format!("[plan]\ntitle = \"t\"\nasset = \"a\"\n{tests}");
            let source = Source::new("plan", text.as_str());
            let plan = PlanForm::load(&source, WINGS).and_then(|p| p.resolve(&source, &asset));
            let plan = plan.unwrap_or_else(|e| panic!("{e:?}\n{text}"));
            for test in &plan.tests {
                let bench = Bench { asset: &asset, capability: &rig };
                let procedure =
                    test.procedure(bench).unwrap_or_else(|e| panic!("{}: {e}", test.id));
                assert!(!procedure.expect("no sequence").planned().is_empty(), "{}", test.id);
            }
            counts.push(plan.tests.len());
        }
        assert!(counts.is_sorted_by(|a, b| a >= b) && counts[2] >= 2, "{kind}: {counts:?}");
    }
    assert_eq!(wing.new_asset("relay", &waltron_core::defaults::Defaults::default()), None);
    // What the rig has not got is not planned.
    let asset = asset(
        &wing
            .new_asset("circuit-breaker", &waltron_core::defaults::Defaults::default())
            .expect("a file"),
    );
    let bare =
        capability(&rig().replace("meaning = \"pole current\"\nrange", "meaning = \"x\"\nrange"));
    let tests = wing
        .new_tests(
            &asset,
            Some(&bare),
            Depth::Commissioning,
            &waltron_core::defaults::Defaults::default(),
        )
        .expect("tests");
    assert!(!tests.contains("contact-resistance") && tests.contains("lowest-pickup"), "{tests}");
}
