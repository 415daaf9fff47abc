//! What a record holds, graded again without testing.

use crate::support::{Done, Site, points};
use serde_json::Value;

const RUN: [&str; 6] = ["run", "q07-f1.plan.toml", "--record", "r.run.jsonl", "--format", "json"];

fn again(site: &Site, more: &[&str]) -> Done {
    site.waltron(&[&["grade", "r.run.jsonl", "--format", "json"], more].concat())
}

/// What a grade says: id, verdict, limits, expected and measured values, deviation.
fn said(run: &Value) -> Vec<(String, Vec<Value>)> {
    let all = run["points"].as_array().unwrap().iter();
    let keys = ["verdict", "limits", "expected", "measured", "deviation", "reason"];
    all.map(|p| (p["id"].as_str().unwrap().into(), keys.map(|k| p[k].clone()).to_vec())).collect()
}

/// The same but for the last digits of numbers.
fn alike(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => {
            let (a, b) = (a.as_f64().unwrap(), b.as_f64().unwrap());
            (a - b).abs() <= 1e-9 * a.abs().max(1.0)
        }
        (Value::Object(a), Value::Object(b)) => {
            a.len() == b.len() && a.iter().all(|(k, v)| b.get(k).is_some_and(|w| alike(v, w)))
        }
        (a, b) => a == b,
    }
}

#[track_caller]
fn assert_alike(a: &[(String, Vec<Value>)], b: &[(String, Vec<Value>)]) {
    assert_eq!(a.len(), b.len());
    for ((id, one), (other_id, other)) in a.iter().zip(b) {
        let same = one.iter().zip(other).all(|(a, b)| alike(a, b));
        assert!(id == other_id && same, "{id}: {one:?}\n{other_id}: {other:?}");
    }
}

/// Grading again by the run's own settings gives the run's verdicts; by other tolerances it gives what
/// a run gives that was made with them.
#[test]
fn grading_again_is_grading() {
    let site = Site::new();
    let first = site.waltron(&RUN).exits(1).json();
    let same = again(&site, &[]).exits(1).json();
    assert_alike(&said(&same), &said(&first));
    assert_eq!(same["summary"], first["summary"]);
    site.edit("q07-f1.asset.toml", "time = \"5 % or 40 ms\"", "time = \"7 % or 30 ms\"");
    let other = again(&site, &["--asset", "q07-f1.asset.toml"]).json();
    let mut fresh = RUN;
    fresh[3] = "fresh.run.jsonl";
    let fresh = site.waltron(&fresh).json();
    // Points below the pickup wait longer where the band is wider; what they say besides is the same.
    let told = |run: &Value| {
        let mut all = said(run);
        all.retain(|(_, said)| !said[5].as_str().unwrap().starts_with("no operation for"));
        all
    };
    assert_alike(&told(&other), &told(&fresh));
    assert!(told(&other).len() > 40);
    assert_eq!(other["summary"], fresh["summary"]);
    let names: Vec<&str> =
        other["changes"].as_array().unwrap().iter().map(|c| c["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["51P", "50P", "51N"].map(|e| format!("{e}.tolerance.time")));
    // Both stand in the record, whose chain holds, and in the report; the run itself is what it was.
    let record = site.read("r.run.jsonl");
    assert_eq!(record.matches("\"event\":\"graded-again\"").count(), 2);
    let done = site.waltron(&[&RUN[..4], &["--resume"]].concat()).exits(2);
    assert!(done.err().contains("waltron grade"), "{}", done.err());
    site.edit("q07-f1.asset.toml", "time = \"7 % or 30 ms\"", "time = \"5 % or 40 ms\"");
    let resumed = site.waltron(&[&RUN[..], &["--resume"]].concat()).exits(1).json();
    assert_alike(&said(&resumed), &said(&first));
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    let page = site.read("r.html");
    for part in ["as tested", "graded again", "Graded again, 2026", "51P.tolerance.time"] {
        assert!(page.contains(part), "{part}");
    }
    assert!(!page.contains("changed after the test"));
}

/// Another pickup makes the same current another multiple: very inverse, 13.5 · TMS / (M − 1)
/// (IEC 60255-151, A.1), worked out here. A point that waited too short proves nothing.
#[test]
fn what_was_put_out_is_seen_by_the_new_settings() {
    let site = Site::new();
    site.waltron(&RUN).exits(1);
    site.edit("q07-f1.asset.toml", "pickup = \"1.2 A\"", "pickup = \"1.1 A\"");
    let graded =
        again(&site, &["--asset", "q07-f1.asset.toml", "--reason", "typed wrongly"]).json();
    let point = |id: &str| points(&graded, id)[0].clone();
    let five = point("51P-times/A-N/5x");
    let expected = 13.5 * 0.30 / (6.0 / 1.1 - 1.0);
    assert!((five["expected"]["time_s"].as_f64().unwrap() - expected).abs() < 1e-9, "{five}");
    assert!((five["stimulus"]["multiple"].as_f64().unwrap() - 6.0 / 1.1).abs() < 1e-9, "{five}");
    // 0.95 x 1.2 A is above 1.1 A: it may take minutes, and nothing was waited for that long.
    let below = point("51P-times/A-N/0.95x");
    assert_eq!(below["verdict"], "inconclusive", "{below}");
    // 1.2 A was measured, 2 % or 5 mA around 1.1 A are allowed.
    let pickup = point("51P-pickup/A-N");
    assert_eq!(pickup["verdict"], "fail");
    assert!((pickup["limits"]["upper_a"].as_f64().unwrap() - 1.122).abs() < 1e-9, "{pickup}");
    assert!((pickup["measured"]["current_a"].as_f64().unwrap() - 1.2).abs() < 0.01);
    // Nothing of this is of the earth-fault element.
    assert_eq!(point("51N-times/A-N/2x")["verdict"], "pass");
    let text = site.waltron(&["grade", "r.run.jsonl", "--asset", "q07-f1.asset.toml"]).out();
    assert!(text.contains("51P.pickup  1.2 A → 1.1 A") && text.contains("(was pass)"), "{text}");
    assert!(text.contains("verdicts changed"), "{text}");
}

/// A sequence is played once more with what was seen, as long as it puts out what was put out.
#[test]
fn a_sequence_is_judged_again_by_what_it_put_out() {
    let site = Site::new();
    let plan = site.read("q07-f1.plan.toml");
    let head = plan[..plan.find("[[test]]").unwrap()].to_owned();
    let script = "ask level: current \"How much?\" default 3 A from 1 A to 4 A\n\
                  fault A-N with i = level until trip, at most 9 s then off\n\
                  expect time(inception -> trip) within band(51P) as \"time\"\n\
                  wait 1 s\nhold ia = 0.9 * 51P.pickup for 1 s then off\nexpect not trip as \"below\"\n";
    site.write("own.seq", script);
    site.write(
        "q07-f1.plan.toml",
        &format!("{head}[[test]]\nid = \"own\"\nprocedure = \"sequence\"\nscript = \"own.seq\"\n"),
    );
    let first = site.waltron(&[&RUN[..], &["--yes"]].concat()).json();
    assert_alike(&said(&again(&site, &[]).json()), &said(&first));
    // The file may be gone or another: the record has its own copy.
    site.write("own.seq", "off\n");
    site.edit("q07-f1.asset.toml", "time = \"5 % or 40 ms\"", "time = \"20 %\"");
    let wide = again(&site, &["--asset", "q07-f1.asset.toml"]).exits(0).json();
    assert_eq!(points(&wide, "own/time")[0]["verdict"], "pass");
    assert_eq!(points(&first, "own/time")[0]["verdict"], "fail");
    site.edit("q07-f1.asset.toml", "pickup = \"1.2 A\"", "pickup = \"1.25 A\"");
    let other = again(&site, &["--asset", "q07-f1.asset.toml"]).exits(5).json();
    let below = points(&other, "own/below")[0];
    assert_eq!(below["verdict"], "not_tested");
    assert!(
        below["reason"].as_str().unwrap().contains("something else would be put out"),
        "{below}"
    );
    assert_eq!(points(&other, "own/time")[0]["verdict"], "pass");
}

/// What the run itself was asked before it put anything out is no answer to the sequence; what a step
/// set is part of what it put out.
#[test]
fn answers_and_settings_of_a_sequence_are_its_own() {
    let site = Site::examples();
    site.edit("dc1.rig.toml", "seed = 10382", "seed = 10382\nconfirm = true");
    site.write(
        "own.seq",
        "ask level: number \"Which share?\" default 1 from 0.5 to 1\nset supply.output = on\n\
         set supply.voltage = level * nominal.voltage\nwait 5 s\nread u = supply.voltage\n\
         expect u is level * nominal.voltage within 1 % as \"voltage\"\n",
    );
    let plan = site.read("dc1.plan.toml");
    let head = plan[..plan.find("[[test]]").unwrap()].to_owned();
    let own = "[[test]]\nid = \"own\"\nprocedure = \"sequence\"\nscript = \"own.seq\"\n";
    site.write("dc1.plan.toml", &format!("{head}{own}"));
    site.write(
        "answers.toml",
        "[[answer]]\nquestion = \"Which share?\"\nanswer = \"0.9\"\n\
         [[answer]]\nquestion = \"*\"\nanswer = \"yes\"\n",
    );
    let run = ["run", "dc1.plan.toml", "--answers", "answers.toml", "--record", "r.run.jsonl"];
    let first = site.waltron(&[&run[..], &["--format", "json"]].concat()).exits(0).json();
    assert_alike(&said(&again(&site, &[]).exits(0).json()), &said(&first));
    let asset = site.read("dc1.asset.toml");
    assert!(asset.contains("voltage = \"24 V\""), "{asset}");
    site.write("other.asset.toml", &asset.replace("voltage = \"24 V\"", "voltage = \"23 V\""));
    let other = again(&site, &["--asset", "other.asset.toml"]).exits(5).json();
    let point = points(&other, "own/voltage")[0];
    assert!(
        point["reason"].as_str().unwrap().contains("something else would be put out"),
        "{point}"
    );
}

/// The latest attempt is what is graded, of a record that was cut, gone on with and done again; a test
/// that broke off is graded as far as it came.
#[test]
fn every_kind_of_record_is_graded_again() {
    let site = Site::new();
    let whole = site.waltron(&RUN).exits(1).json();
    let text = site.read("r.run.jsonl");
    let half = text[..text.len() / 2].rfind('\n').unwrap();
    site.write("r.run.jsonl", &text[..half + 40]);
    let cut = again(&site, &[]);
    assert!(cut.code() == 1, "{}", cut.out());
    let cut = cut.json();
    let graded = cut["points"].as_array().unwrap().len();
    assert!(graded > 10 && graded < whole["points"].as_array().unwrap().len(), "{graded}");
    assert_alike(&said(&cut), &said(&whole)[..graded]);
    let resumed = site.waltron(&[&RUN[..], &["--resume"]].concat()).exits(1).json();
    assert_alike(&said(&again(&site, &[]).json()), &said(&resumed));
    // A run that lost its last event alone gets it, though it was graded again meanwhile.
    let lines = site.read("r.run.jsonl");
    let end = lines.rfind("\"event\":\"run-ended\"").unwrap();
    site.write("r.run.jsonl", &lines[..lines[..end].rfind('\n').unwrap() + 1]);
    again(&site, &[]).exits(1);
    let ended = site.waltron(&[&RUN[..], &["--resume"]].concat()).exits(1).json();
    assert_eq!((&ended["outcome"], &ended["not_reached"]), (&"completed".into(), &0.into()));
    let record = site.read("r.run.jsonl");
    assert!(record.rfind("run-ended").unwrap() > record.rfind("graded-again").unwrap());
    // The relay was mended before the failures were done again.
    site.edit("q07-f1.specimen.toml", "tms = 0.33", "tms = 0.30");
    let redone = site.waltron(&[&RUN[..], &["--redo", "failed"]].concat()).exits(0).json();
    let latest = again(&site, &[]).exits(0).json();
    assert_alike(&said(&latest), &said(&redone));
    let twice = points(&latest, "51P-times/A-N/2x")[0];
    assert_eq!(twice["attempt"], 2, "{twice}");
    // Two runs at once do not write one record.
    let held = std::fs::File::options().append(true).open(site.dir.path().join("r.run.jsonl"));
    let held = held.unwrap();
    held.lock().unwrap();
    assert!(again(&site, &[]).exits(2).out().contains("a run is writing this record"));
    // What a clause of the arguments lacks is told before anything is written.
    drop(held);
    let before = site.read("r.run.jsonl");
    let refused = again(&site, &["--asset", "q07-f1.plan.toml"]).exits(2).out();
    assert!(refused.contains("this is a plan, and an asset is wanted"), "{refused}");
    assert_eq!(site.read("r.run.jsonl"), before);
}

/// What a run was not asked for is a part of its plan: graded again it is no pass either, nor on the report.
#[test]
fn a_part_of_a_plan_graded_again_is_no_pass() {
    let site = Site::new();
    site.waltron(&[&RUN[..], &["--only", "51N-times"]].concat()).exits(0);
    let told = again(&site, &[]).exits(5).json();
    let left_out = told["left_out"].as_array().unwrap().len();
    assert!(left_out > 3 && told["not_reached"] == 0, "{told}");
    let words = site.waltron(&["grade", "r.run.jsonl"]).exits(5).out();
    assert!(words.contains("NOT ALL TESTED") && words.contains("not asked for"), "{words}");
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    let page = site.read("r.html");
    assert_eq!(
        page.matches("<strong>NOT FULLY TESTED</strong>").count(),
        2,
        "as tested, and again"
    );
    assert!(!page.contains("<strong>PASS</strong>"));
}

#[test]
fn another_rule_grades_again_and_what_was_changed_is_refused() {
    let site = Site::new();
    site.waltron(&RUN).exits(1);
    site.edit("q07-f1.plan.toml", "[ambient]", "[grading]\nrule = \"guarded\"\n[ambient]");
    let guarded = again(&site, &["--plan", "q07-f1.plan.toml"]).json();
    let mut fresh = RUN;
    fresh[3] = "fresh.run.jsonl";
    assert_alike(&said(&guarded), &said(&site.waltron(&fresh).json()));
    assert!(guarded["changes"].to_string().contains("\"rule\""), "{}", guarded["changes"]);
    let before = site.read("r.run.jsonl");
    site.edit("q07-f1.asset.toml", "id = \"50P\"", "id = \"50X\"");
    let gone = again(&site, &["--asset", "q07-f1.asset.toml"]).exits(2);
    assert!(gone.out().contains("no element `50P`"), "{}", gone.out());
    assert_eq!(site.read("r.run.jsonl"), before, "nothing is appended where nothing was graded");
    site.write("r.run.jsonl", &before.replacen("\"verdict\":\"pass\"", "\"verdict\":\"fail\"", 1));
    assert!(again(&site, &[]).exits(2).out().contains("changed after the test"));
    assert!(site.waltron(&["grade", "no.run.jsonl"]).exits(2).err().contains("no such record"));
}

/// The form of the asset's file has moved on: what it meant stands in the record, and is reported.
#[test]
fn a_record_is_reported_without_reading_its_files() {
    let site = Site::new();
    site.waltron(&RUN).exits(1);
    let text = site.read("r.run.jsonl");
    let old = text.replacen("measures = \\\"phase\\\"", "looks_at = \\\"phase\\\"", 1);
    assert_ne!(text, old);
    site.write("r.run.jsonl", &old);
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    let page = site.read("r.html");
    for part in
        ["Q07-F1", "300-11874", "51P.pickup", "1.2 A", "IEC very-inverse, TMS 0.3", "51P-times"]
    {
        assert!(page.contains(part), "{part}");
    }
    // Which points an injection serves stands beside it.
    let observed = text.lines().filter(|l| l.contains("\"event\":\"observed\""));
    let mut count = 0;
    for line in observed {
        let line: Value = serde_json::from_str(line).unwrap();
        let served = line["points"].as_array().unwrap();
        assert!(
            served.iter().all(|p| p.as_str().unwrap().starts_with(line["test"].as_str().unwrap()))
        );
        count += 1;
    }
    assert!(count > 50, "{count}");
}
