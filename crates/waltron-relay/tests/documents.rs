//! What the files of relays and of their plans say, and what is said of mistakes in them.

#![allow(clippy::unwrap_used, reason = "a test that cannot be set up has failed")]

use proptest::prelude::*;
use waltron_core::asset::Asset;
use waltron_core::characteristic::{Form as Curve, Reset};
use waltron_core::plan::PlanForm;
use waltron_core::quantity::Measure;
use waltron_core::text::document::{DocumentError, Problem, Source};
use waltron_relay::{AssetForm, Overcurrent};

const HEAD: &str = r#"
[asset]
kind = "relay"
tag = "Q01"

[ratings]
frequency = "50 Hz"
"#;

fn element(rest: &str) -> String {
    format!(
        "{HEAD}[[element]]\nid = \"51P\"\nfunction = \"overcurrent\"\nmeasures = \"phase\"\n{rest}\n"
    )
}

fn asset(text: &str) -> Result<Asset, DocumentError> {
    AssetForm::load(&Source::new("q01.asset.toml", text))
}

fn messages(text: &str) -> Vec<String> {
    let error = asset(text).unwrap_err();
    let show = |p: &Problem| {
        let (line, _) = error.source_file.position(p.span.start);
        format!("{line}: {}; {}", p.message, p.help.as_deref().unwrap_or(""))
    };
    error.problems.iter().map(show).collect()
}

#[test]
fn a_small_asset_gets_its_defaults() {
    let asset =
        asset(&element("pickup = \"1 A\"\ncurve = { family = \"definite\", delay = \"0 s\" }"))
            .unwrap();
    let e = asset.element("51P").unwrap().of::<Overcurrent>().unwrap();
    assert!(e.enabled && e.trip == "trip" && e.start.as_ref().is_some_and(|s| *s == "start"));
    assert_eq!(e.pickup.si(), 1.0);
    assert_eq!(e.tolerances.time.to_string(), "5 % or 40 ms");
}

#[test]
fn every_family_is_read() {
    let curve = |text: &str| {
        let asset = asset(&element(&format!("pickup = \"1 A\"\ncurve = {{ {text} }}"))).unwrap();
        asset.elements[0].of::<Overcurrent>().unwrap().characteristic.clone()
    };
    let ieee = curve(r#"family = "ieee", shape = "very-inverse", tms = "2", reset = "curve""#);
    assert_eq!(ieee.reset, Reset::Curve(waltron_core::quantity::seconds(43.2)));
    let delayed = curve(r#"family = "i2t", k = "100 s", reset = "200 ms", minimum_time = "50 ms""#);
    assert_eq!(delayed.operate_time(10.0).unwrap().si(), 1.0);
    assert_eq!(delayed.operate_time(1000.0).unwrap().si(), 0.05);
    let formula = curve(r#"family = "formula", k = "13.5 s", alpha = 1, tms = 0.3"#);
    assert!((formula.operate_time(2.0).unwrap().si() - 4.05).abs() < 1e-12);
    assert!(
        matches!(curve(r#"family = "thermal", tau = "10 min", preload = "0.5 x""#).form, Curve::Thermal { preload, .. } if preload == 0.5)
    );
    let table = curve(
        r#"family = "table", points = [["2 x", "8 s"], ["8 x", "2 s"]], upper = "6 x", lower = "2.5 x""#,
    );
    assert_eq!(table.operate_time(2.4), None);
    assert_eq!(table.operate_time(7.0), table.operate_time(6.0));
}

#[test]
fn all_mistakes_show_at_once_with_their_lines() {
    let text = element(
        "pickup = \"200 ms\"\nreset_ratio = \"120 %\"\ncurve = { family = \"iec\", shape = \"very\", tms = 0 }",
    );
    let found = messages(&text);
    assert_eq!(found.len(), 4, "{found:?}");
    assert!(found[0].starts_with("12: `200 ms` is a time, but a current"));
    assert!(found[1].starts_with("13: the reset ratio must not exceed"));
    assert!(found[2].starts_with("14: family `iec` has no shape `very`"));
    assert!(found[3].starts_with("14: 0 must be above zero"));
}

#[test]
fn shape_errors_name_the_nearest_key_and_what_is_missing() {
    let found =
        messages(&element("pickp = \"1 A\"\nenabled = \"yes\"\ncurve = { familly = \"iec\" }"));
    let has = |part: &str| assert!(found.iter().any(|m| m.contains(part)), "{part}: {found:?}");
    has("unknown key `pickp`; did you mean `pickup`?");
    has("element `51P` has no `pickup`");
    has("`enabled` must be true or false, not text in quotes");
    has("did you mean `family`?");
    let numbers =
        messages(&element("pickup = 1.2\ncurve = { family = \"definite\", delay = \"1 s\" }"));
    assert!(numbers[0].contains("must be text in quotes") && numbers[0].contains("\"1.2 A\""));
    let wrong_word =
        messages(&element("pickup = \"1 A\"\ncurve = { family = \"definit\", delay = \"1 s\" }"));
    assert!(wrong_word[0].contains("`definit` is no valid `family`; did you mean `definite`?"));
}

#[test]
fn keys_of_another_family_and_bad_tables_are_refused() {
    let curve = |text: &str| messages(&element(&format!("pickup = \"1 A\"\ncurve = {{ {text} }}")));
    assert!(curve(r#"family = "definite", delay = "1 s", tms = 0.3"#)[0].contains("takes delay"));
    assert!(curve(r#"family = "iec", shape = "very-inverse""#)[0].contains("needs `tms`"));
    assert!(
        curve(r#"family = "thermal", tau = "1 min", preload = "1 x""#)[0].contains("below 1 x")
    );
    assert!(
        curve(r#"family = "table", points = [["2 x", "1 s"], ["3 x", "2 s"]]"#)[0]
            .contains("point 2")
    );
    assert!(
        curve(r#"family = "iec", shape = "very-inverse", tms = 1, reset = "curve""#)[0]
            .contains("no reset curve")
    );
    assert!(
        curve(r#"family = "definite", delay = "1 s", lower = "3 x", upper = "2 x""#)[0]
            .contains("upper range limit")
    );
}

#[test]
fn syntax_errors_are_all_found() {
    let found = messages("[asset]\nkind = relay\ntag = \"x\"\nbay = Q1\n");
    assert_eq!(found.len(), 2, "{found:?}");
    assert!(found[0].starts_with("2:") && found[1].starts_with("4:"));
}

#[test]
fn plans_are_checked_against_the_asset() {
    let asset =
        asset(&element("pickup = \"1 A\"\ncurve = { family = \"definite\", delay = \"1 s\" }"))
            .unwrap();
    let plan = |tests: &str| {
        let source = Source::new("p", format!("[plan]\ntitle = \"t\"\nasset = \"a\"\n{tests}"));
        PlanForm::load(&source, waltron_relay::WINGS)?.resolve(&source, &asset)
    };
    let test = |rest: &str| {
        plan(&format!("[[test]]\nid = \"t\"\nelement = \"51P\"\n{rest}"))
            .map(|p| p.tests.len())
            .map_err(|e| {
                e.problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; ")
            })
    };
    assert_eq!(
        test("procedure = \"trip-time\"\nloops = [\"A-N\"]\nat = [\"2 x\", \"3 A\"]"),
        Ok(1)
    );
    let refused = |rest: &str, part: &str| {
        let message = test(rest).unwrap_err();
        assert!(message.contains(part), "{message}");
    };
    refused("procedure = \"trip-time\"\nloops = [\"A-N\"]\nat = []", "needs levels");
    refused("procedure = \"trip-time\"\nloops = [\"A-N\"]\nat = [\"-1 x\"]", "above zero");
    refused("procedure = \"trip-time\"\nloops = [\"A-N\"]\nat = [\"1 s\"]", "is a time");
    refused(
        "procedure = \"trip-time\"\nloops = [\"A-N\"]\nat = [\"1 x\"]\nrepeat = 0",
        "at least 1",
    );
    refused(
        "procedure = \"trip-time\"\nloops = [\"A-N\"]\nat = [\"1 x\"]\nrepeat = 4000000",
        "more than 100000",
    );
    refused("procedure = \"pickup\"\nloops = [\"A-M\", \"A-N\", \"A-N\"]\n", "no loop `A-M`");
    refused("procedure = \"pickup\"\nloops = [\"A-N\"]\nat = [\"1 x\"]", "does not belong");
    refused("procedure = \"pickup\"\nloops = [\"A-N\"]\nfrom = \"1.3 x\"", "not below");
    refused("procedure = \"pickup\"\nloops = [\"A-N\"]\nstep = \"1 uA\"", "10 000 levels");
    assert!(plan("").unwrap_err().problems[0].message.contains("no tests"));
}

proptest! {
    /// Arbitrary text, also built from the words of the format, is read or refused; never a panic.
    #[test]
    fn any_text_is_survived(words in prop::collection::vec(
        prop::sample::select(vec!["[asset]", "[[element]]", "\n", "kind", "=", "\"relay\"", "curve", "{", "}", "[", "]",
            "family", "\"iec\"", "pickup", "\"1 A\"", "tag", ",", "é", "\"", "1e999", "reset", "#", "'''", "\u{0}"]), 0..60)) {
        let text = words.concat();
        let source = Source::new("any", text);
        if let Err(error) = AssetForm::load(&source) {
            for problem in &error.problems {
                prop_assert!(problem.span.end <= source.text.len());
                source.position(problem.span.start);
            }
        }
    }
}
