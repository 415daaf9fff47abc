//! Going on with a run, testing points again, answering prompts, skipping, settings read back.

use crate::support::{Site, points};
use serde_json::Value;

const RUN: [&str; 6] = ["run", "q07-f1.plan.toml", "--record", "r.run.jsonl", "--format", "json"];

fn run(site: &Site, more: &[&str]) -> crate::support::Done {
    site.waltron(&[&RUN[..], more].concat())
}

/// The record's text up to some share of it: what a power failure may leave.
fn cut(site: &Site, share: f64) -> String {
    let text = site.read("r.run.jsonl");
    let mut at = (text.len() as f64 * share) as usize;
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    text[..at].to_owned()
}

fn without_attempts(points: &Value) -> Vec<(String, Value, Value)> {
    let all = points.as_array().unwrap().iter();
    all.map(|p| (p["id"].as_str().unwrap().to_owned(), p["verdict"].clone(), p["measured"].clone()))
        .collect()
}

/// Wherever the record is cut, going on gives what an undisturbed run gives, and repeats nothing
/// but a pickup whose ramp down is missing.
#[test]
fn a_run_goes_on_from_any_cut_as_if_nothing_had_happened() {
    let site = Site::new();
    let whole = run(&site, &[]).exits(1).json();
    let text = site.read("r.run.jsonl");
    let expected = without_attempts(&whole["points"]);
    for share in [0.15, 0.3, 0.42, 0.5, 0.61, 0.77, 0.9, 0.999] {
        site.write("r.run.jsonl", &text);
        let left = cut(&site, share);
        site.write("r.run.jsonl", &left);
        let done = run(&site, &["--resume"]).exits(1);
        assert!(share > 0.99 || done.err().contains("Going on with r.run.jsonl"), "{}", done.err());
        let again = done.json();
        let found = without_attempts(&again["points"]);
        assert_eq!(found.len(), expected.len(), "{share}");
        for ((id, verdict, _), (known, was, _)) in found.iter().zip(&expected) {
            assert_eq!((id, verdict), (known, was), "{share}");
        }
        let repeated = again["points"].as_array().unwrap().iter().filter(|p| p["attempt"] != 1);
        for point in repeated {
            assert!(point["id"].as_str().unwrap().contains("-pickup"), "{share}: {point}");
        }
        // The whole lines before the cut are still there, as they were.
        let kept = &left[..left.rfind('\n').unwrap() + 1];
        assert!(site.read("r.run.jsonl").starts_with(kept));
        site.waltron(&["report", "r.run.jsonl", "-o", "r.html", "--force"]).exits(0);
        let nothing = site.waltron(&[&RUN[..4], &["--resume"]].concat()).exits(1);
        assert!(nothing.out().contains("nothing was left to do"), "{}", nothing.out());
    }
}

#[test]
fn failed_points_are_tested_again_and_every_attempt_is_kept() {
    let site = Site::new();
    let first = run(&site, &["--only", "51P-times/*-N"]).exits(1).json();
    assert_eq!(first["points"].as_array().unwrap().len(), 15);
    let again = run(&site, &["--redo", "failed"]).exits(1).json();
    let all = points(&again, "51P-times/");
    assert_eq!(all.len(), 15);
    for point in &all {
        let failed = point["verdict"] == "fail";
        assert_eq!(point["attempt"], if failed { 2 } else { 1 }, "{point}");
    }
    let summary = &again["summary"];
    assert_eq!(summary["pass"].as_u64().unwrap() + summary["fail"].as_u64().unwrap(), 15);
    let third = run(&site, &["--redo", "51P-times/A-N/0.95x"]).exits(1).json();
    assert_eq!(points(&third, "51P-times/A-N/0.95x")[0]["attempt"], 2);
    site.waltron(&["report", "r.run.jsonl", "-o", "all.html", "--attempts"]).exits(0);
    let page = site.read("all.html");
    assert!(page.contains("Earlier attempts") && page.contains("(attempt 1)"));
    site.waltron(&["report", "r.run.jsonl", "-o", "latest.html"]).exits(0);
    assert!(!site.read("latest.html").contains("Earlier attempts"));
    let none = run(&site, &["--redo", "51P-tmes"]).exits(2).json();
    assert!(none["error"]["help"].as_str().unwrap().contains("`51P-times`"));
}

/// Several patterns choose together; a run goes on with what is left of some; what did not pass, or was
/// never reached, is tested again.
#[test]
fn some_points_are_gone_on_with_and_what_did_not_pass_is_redone() {
    let site = Site::new();
    let ids = |run: &Value| {
        let all = run["points"].as_array().unwrap().iter();
        all.map(|p| p["id"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    let patterns = ["--only", "51N-pickup", "--only", "*-times/A-N/2x*"];
    let first = run(&site, &patterns).exits(1).json();
    let wanted = ["51P-times/A-N/2x#", "50P-times/A-N/2x#", "51N-pickup/A-N", "51N-times/A-N/2x"];
    for id in ids(&first) {
        assert!(wanted.iter().any(|w| id.starts_with(w.trim_end_matches('#'))), "{id}");
    }
    assert_eq!(ids(&first).len(), 6, "{first}");
    // The rest of the plan was not asked for, and is told.
    assert!(
        first["left_out"].as_array().unwrap().len() > 40 && first["not_reached"] == 0,
        "{first}"
    );
    let lines = site.read("r.run.jsonl");
    let cut = lines.find("50P-times/A-N/2x#1").unwrap();
    site.write("r.run.jsonl", &lines[..lines[..cut].rfind('\n').unwrap() + 1]);
    let wrong = run(&site, &["--resume", "--only", "51P-times/A-N/2x"]).exits(2).json();
    assert!(wrong["error"]["message"].as_str().unwrap().starts_with("no open point"), "{wrong}");
    let slip = run(&site, &["--resume", "--only", "51N-*", "--only", "52N"]).exits(2).json();
    assert!(slip["error"]["message"].as_str().unwrap().contains("`52N`"), "{slip}");
    // What one of the patterns names may be done already.
    let done = ["51N-pickup", "51N-times/A-N/2x", "51P-times/A-N/2x"];
    let done = done.map(|pattern| ["--only", pattern]).concat();
    let part = run(&site, &[&["--resume"], &done[..]].concat()).json();
    assert!(part["not_reached"] == 2 && ids(&part).len() == 4, "{part}");
    let open: Vec<&str> =
        part["open"].as_array().unwrap().iter().map(|o| o.as_str().unwrap()).collect();
    assert_eq!(open, ["50P-times/A-N/2x#1", "50P-times/A-N/2x#2"]);
    let rest = run(&site, &["--redo", "not-passed"]).json();
    assert_eq!(rest["not_reached"], 0, "{rest}");
    // Neither has asked for the rest of the plan.
    assert_eq!((&part["left_out"], &rest["left_out"]), (&first["left_out"], &first["left_out"]));
    for point in rest["points"].as_array().unwrap() {
        let again = point["attempt"] == 2;
        let of_first = points(&first, point["id"].as_str().unwrap())[0];
        assert_eq!(again, of_first["verdict"] == "fail", "{point}");
    }
}

/// A run that was stopped, of which only the failures are tested again, is not complete: what was never
/// reached is not a pass, whatever was redone.
#[test]
fn points_never_reached_are_never_a_pass() {
    let site = Site::new();
    // The relay is healthy at the second attempt.
    run(&site, &["--only", "51P-times"]).exits(1);
    let lines = site.read("r.run.jsonl");
    let whole = run(&site, &["--redo", "failed"]).exits(1);
    assert!(whole.code() == 1, "the slow multiplier is still there");
    // The same record as that of a whole run which was cut, and then mended.
    let cut: Vec<&str> = lines.lines().filter(|l| !l.contains("\"run-ended\"")).collect();
    site.write("r.run.jsonl", &(cut[..cut.len() / 2].join("\n") + "\n"));
    site.edit("q07-f1.specimen.toml", "tms = 0.33", "tms = 0.30");
    let redone = run(&site, &["--redo", "failed"]).exits(5).json();
    assert_eq!(redone["summary"]["fail"], 0);
    let open = redone["open"].as_array().unwrap();
    assert!(!open.is_empty() && redone["not_reached"] == open.len(), "{redone}");
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    let page = site.read("r.html");
    assert!(page.contains("NOT FULLY TESTED") && !page.contains(">PASS<"));
    for id in open.iter().map(|id| id.as_str().unwrap()) {
        assert!(page.contains(id.split_once('/').unwrap().1), "{id}");
    }
    let text = site.waltron(&[&RUN[..4], &["--redo", "failed"]].concat());
    assert!(text.out().contains("no point failed"), "{}", text.out());
    let rest = run(&site, &["--resume"]).exits(0).json();
    assert_eq!(rest["not_reached"], 0);
    assert_eq!(points(&rest, "51P-times/").len(), 25);
}

/// A redo that is skipped leaves what was measured standing; a point that was skipped before it was
/// ever measured is offered again.
#[test]
fn skipping_takes_nothing_back_and_settles_nothing() {
    let site = Site::new();
    site.write("asking.plan.toml", ASKING);
    let answers = |text: &str| site.write("a.toml", text);
    let with = |more: &[&str]| {
        let args = ["run", "asking.plan.toml", "--record", "s.run.jsonl", "--format", "json"];
        site.waltron(&[&args[..], &["--answers", "a.toml"], more].concat())
    };
    // The second question is answered by leaving the rest out.
    answers(
        "[[answer]]\nquestion = \"Reset*\"\nanswer = \"ok\"\ntimes = 1\n[[answer]]\nquestion = \"*\"\nanswer = \"skip: no access\"\n",
    );
    let first = with(&[]).exits(5).json();
    let skipped: Vec<&Value> = points(&first, "latched/")
        .into_iter()
        .filter(|p| p["skipped"] == Value::Bool(true))
        .collect();
    assert_eq!(skipped.len(), 2, "{first}");
    assert!(skipped.iter().all(|p| p["criterion"] == "trip_time"), "{skipped:?}");
    // Somebody is asked whether it is tested now; nobody there, it is left alone.
    answers("[[answer]]\nquestion = \"Reset*\"\nanswer = \"ok\"\n");
    let left = with(&["--resume"]).exits(5).json();
    assert_eq!(points(&left, "latched/").len(), 4);
    assert!(points(&left, "latched/").iter().any(|p| p["skipped"] == Value::Bool(true)), "{left}");
    let redone = with(&["--redo", "not-passed"]).exits(5).json();
    let is_skipped = |p: &&&Value| p["skipped"] == Value::Bool(true);
    assert_eq!(points(&redone, "latched/").iter().filter(is_skipped).count(), 2, "{redone}");
    answers(
        "[[answer]]\nquestion = \"2 points skipped before (no access)\"\nanswer = \"test it now\"\n[[answer]]\nquestion = \"Reset*\"\nanswer = \"ok\"\n",
    );
    let resumed = with(&["--resume"]).exits(0).json();
    assert_eq!(points(&resumed, "latched/").len(), 4);
    // Now one is measured as failed, and its redo is skipped.
    site.edit("q07-f1.specimen.toml", "delay = \"58 ms\"", "delay = \"580 ms\"");
    let failed = with(&["--redo", "latched/A-N/2x"]).exits(1).json();
    assert_eq!(points(&failed, "latched/A-N/2x")[0]["verdict"], "fail");
    answers("[[answer]]\nquestion = \"*\"\nanswer = \"skip: no time\"\n");
    let again = with(&["--redo", "latched/A-N/*"]).exits(1).json();
    assert_eq!(points(&again, "latched/A-N/2x")[0]["verdict"], "fail", "{again}");
}

/// Without a record's name the plan's latest one is taken.
#[test]
fn the_latest_record_of_the_plan_is_found() {
    let site = Site::new();
    let none = site.waltron(&["run", "q08-f2.plan.toml", "--resume"]).exits(2);
    assert!(none.err().contains("no record of this plan"));
    let done = site.waltron(&["run", "q07-f1.plan.toml", "--only", "51N-times"]);
    assert!(done.code() < 2 && done.out().contains("Record  q07-f1.2026"), "{}", done.out());
    let again = site.waltron(&["run", "q07-f1.plan.toml", "--redo", "51N-times/A-N/2x"]);
    assert!(again.err().contains("Going on with q07-f1.2026"), "{}", again.err());
}

#[test]
fn a_record_of_other_files_or_one_that_was_changed_is_refused_with_what_differs() {
    let site = Site::new();
    run(&site, &["--only", "51N-times"]);
    let before = site.read("r.run.jsonl");
    let refused = |site: &Site, because: &[&str]| {
        let err = site.waltron(&[&RUN[..4], &["--resume"]].concat()).exits(2).err();
        because.iter().for_each(|b| assert!(err.contains(b), "{b} is not in {err}"));
    };
    site.edit("q07-f1.asset.toml", "pickup = \"0.25 A\"", "pickup = \"0.26 A\"");
    refused(&site, &["asset q07-f1.asset.toml", "0.25 A", "0.26 A", "start a new record"]);
    site.edit("q07-f1.asset.toml", "pickup = \"0.26 A\"", "pickup = \"0.25 A\"");
    let other = ["run", "q08-f2.plan.toml", "--record", "r.run.jsonl", "--resume"];
    let err = site.waltron(&other).exits(2).err();
    assert!(err.contains("of the plan q07-f1.plan.toml"), "{err}");
    assert_eq!(site.read("r.run.jsonl"), before, "a record that is refused stays as it is");
    let line = 1 + before.lines().position(|l| l.contains("\"graded\"")).unwrap();
    site.write("r.run.jsonl", &before.replacen("\"verdict\":\"pass\"", "\"verdict\":\"fail\"", 1));
    refused(&site, &["was changed after the test", "does not follow"]);
    let err = site.waltron(&[&RUN[..4], &["--resume"]].concat()).err();
    let told: usize =
        err.split("line ").nth(1).unwrap().split(' ').next().unwrap().parse().unwrap();
    assert!(told > line && told <= line + 4, "the break is told at line {told}, after {line}");
    for (text, because) in [("", "holds no whole event"), ("not JSON\n", "holds no whole event")] {
        site.write("r.run.jsonl", text);
        refused(&site, &[because]);
    }
}

/// A plan is mended on site: what did not change stands, what changed begins anew, what is gone
/// counts no longer, and the record holds both texts.
#[test]
fn a_run_goes_on_with_a_plan_that_was_mended() {
    let site = Site::new();
    site.write("times.seq", "hold i = 0.2 A for 1 s then off\nexpect not trip as \"quiet\"\n");
    let plan = site.read("q07-f1.plan.toml");
    let sequence = "\n[[test]]\nid = \"own\"\nprocedure = \"sequence\"\nscript = \"times.seq\"\n";
    site.write("q07-f1.plan.toml", &(plan + sequence));
    let first = run(&site, &[]).exits(1).json();
    let before = site.read("r.run.jsonl");
    // Comments and titles make no test another one.
    site.edit("q07-f1.plan.toml", "annual test", "annual test, mended");
    let same = run(&site, &["--resume"]).exits(1);
    assert_eq!(without_attempts(&same.json()["points"]), without_attempts(&first["points"]));
    assert_eq!(site.read("r.run.jsonl"), before);
    site.edit("q07-f1.plan.toml", "at = [\"0.95 x\", \"2 x\", \"4 x\"]", "at = [\"3 x\", \"4 x\"]");
    site.edit("times.seq", "0.2 A", "0.3 A");
    let text = site.read("q07-f1.plan.toml");
    let gone = text.find("[[test]]\nid = \"50P-pickup\"").unwrap();
    let next = gone + 8 + text[gone + 8..].find("[[test]]").unwrap();
    site.write("q07-f1.plan.toml", &format!("{}{}", &text[..gone], &text[next..]));
    let resumed = run(&site, &["--resume"]);
    let told = resumed.err();
    assert!(told.contains("51N-times, own: changed since, and begins anew"), "{told}");
    assert!(told.contains("50P-pickup: not in the plan any more"), "{told}");
    let again = resumed.exits(1).json();
    let ids = |run: &Value, test: &str| {
        let of_test = points(run, test);
        of_test.iter().map(|p| p["id"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert!(ids(&again, "50P-pickup/").is_empty());
    let wanted = ["A-N", "B-N", "C-N"].map(|l| [3, 4].map(|x| format!("51N-times/{l}/{x}x")));
    assert_eq!(ids(&again, "51N-times/"), wanted.as_flattened());
    for point in again["points"].as_array().unwrap() {
        let id = point["id"].as_str().unwrap();
        let redone = id.ends_with("/4x") && id.starts_with("51N") || id.starts_with("own/");
        assert_eq!(point["attempt"], if redone { 2 } else { 1 }, "{point}");
    }
    let counted = again["summary"].as_object().unwrap().values().map(|n| n.as_u64().unwrap());
    assert_eq!(counted.sum::<u64>() as usize, again["points"].as_array().unwrap().len());
    let record = site.read("r.run.jsonl");
    assert!(
        record.starts_with(&before)
            && record.contains("\"changed\":[\"50P-pickup\",\"51N-times\",\"own\"]")
    );
    assert_eq!(
        (record.matches("at = [\\\"3 x\\\"").count(), record.matches("0.3 A for 1 s").count()),
        (1, 1)
    );
    // The record knows the plan that it went on with.
    let nothing = run(&site, &["--resume"]).exits(1);
    assert_eq!(without_attempts(&nothing.json()["points"]), without_attempts(&again["points"]));
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html", "--attempts"]).exits(0);
    let page = site.read("r.html");
    assert!(
        page.contains("The plan was changed during the run") && page.contains("Earlier attempts")
    );
    site.edit("q07-f1.plan.toml", "[ambient]", "[grading]\nrule = \"guarded\"\n[ambient]");
    let err = site.waltron(&[&RUN[..4], &["--resume"]].concat()).exits(2).err();
    assert!(err.contains("another rule") && err.contains("waltron grade"), "{err}");
}

/// Only one run writes a record.
#[test]
fn two_runs_never_write_one_record() {
    let site = Site::new();
    run(&site, &["--only", "51N-times"]);
    let held =
        std::fs::File::options().append(true).open(site.dir.path().join("r.run.jsonl")).unwrap();
    held.lock().unwrap();
    let err = site.waltron(&[&RUN[..4], &["--redo", "*"]].concat()).exits(2).err();
    assert!(err.contains("another run is writing"), "{err}");
}

const ASKING: &str = r#"
[plan]
title = "Asking"
asset = "q07-f1.asset.toml"
rig = "q07-f1.rig.toml"
[[test]]
id = "latched"
procedure = "trip-time"
element = "50P"
loops = ["A-N", "B-N"]
at = ["1.2 x", "2 x"]
reset = "ask"
[[test]]
id = "after"
procedure = "trip-time"
element = "50P"
loops = ["A-N"]
at = ["1.5 x"]
"#;

#[test]
fn an_answers_file_speaks_for_the_attendant() {
    let site = Site::new();
    site.write("asking.plan.toml", ASKING);
    let go = |record: &str, answers: &str| {
        site.write("a.toml", answers);
        let args = ["run", "asking.plan.toml", "--answers", "a.toml", "--format", "json"];
        site.waltron(&[&args[..], &["--record", record]].concat())
    };
    let all = go("1.run.jsonl", "[[answer]]\nquestion = \"Reset*\"\nanswer = \"ok\"\n").exits(0);
    assert_eq!(all.json()["summary"]["pass"], 5);
    // One answer too few stops the run; it goes on where it was.
    let short = "[[answer]]\nquestion = \"Reset the relay\"\nanswer = \"\"\ntimes = 1\n";
    let stopped = go("2.run.jsonl", short).exits(4);
    assert!(stopped.err().contains("has no answer to `Reset the relay`"), "{}", stopped.err());
    let args = [
        "run",
        "asking.plan.toml",
        "--yes",
        "--resume",
        "--record",
        "2.run.jsonl",
        "--format",
        "json",
    ];
    let resumed = site.waltron(&args).exits(0).json();
    assert_eq!(resumed["summary"]["pass"], 5);
    assert!(resumed["points"].as_array().unwrap().iter().all(|p| p["attempt"] == 1));
    // One that is never asked for is told.
    let more = "[[answer]]\nquestion = \"Reset*\"\nanswer = \"ok\"\n[[answer]]\nquestion = \"Close the breaker\"\nanswer = \"ok\"\n";
    let told = go("3.run.jsonl", more).exits(0);
    assert!(told.err().contains("nobody asked for") && told.err().contains("Close the breaker"));
    // A skipped test says why, and the next one is still done.
    let skip = "[[answer]]\nquestion = \"*\"\nanswer = \"skip: no key to the panel\"\n";
    let skipped = go("4.run.jsonl", skip).exits(5).json();
    assert_eq!(skipped["summary"]["not_tested"], 3);
    assert_eq!(points(&skipped, "latched/B-N/2x")[0]["reason"], "skipped: no key to the panel");
    assert_eq!(points(&skipped, "after/")[0]["verdict"], "pass");
    let wrong = go("5.run.jsonl", "[[answer]]\nquestion = \"x\"\nanswer = 3\n").exits(2);
    assert!(wrong.out().contains("must be text"), "{}", wrong.out());
}

#[test]
fn a_failed_point_can_be_repeated_at_once() {
    let site = Site::new();
    let again = "[[answer]]\nquestion = \"Paused after 51P-times/A-N/2x (FAIL), outputs are off\"\nanswer = \"2\"\ntimes = 2\n\
                 [[answer]]\nquestion = \"Paused*\"\nanswer = \"1\"\n";
    site.write("a.toml", again);
    let done = run(&site, &["--only", "51P-times/A-N", "--pause-on-fail", "--answers", "a.toml"]);
    let json = done.exits(1).json();
    let tries: Vec<u64> =
        points(&json, "51P-times/A-N/2x").iter().map(|p| p["attempt"].as_u64().unwrap()).collect();
    assert_eq!(tries, [1, 2, 3]);
    assert_eq!(json["summary"]["fail"], 4, "the latest attempt counts, once");
}

#[test]
fn settings_that_the_device_tells_are_compared_and_the_answer_is_recorded() {
    let site = Site::new();
    let display = "[display]\n\"51P.pickup\" = \"1.25 A\"\n\"51P.tms\" = \"0.30\"\n\"50P.enabled\" = \"off\"\n";
    let specimen = site.read("q07-f1.specimen.toml");
    site.write(
        "q07-f1.specimen.toml",
        &specimen.replacen("[noise]", &format!("{display}\n[noise]"), 1),
    );
    let choose = |record: &str, answer: &str| {
        let text = format!("[[answer]]\nquestion = \"*settings differ*\"\nanswer = \"{answer}\"\n");
        site.write("a.toml", &text);
        let args = [
            "run",
            "q07-f1.plan.toml",
            "--answers",
            "a.toml",
            "--format",
            "json",
            "--record",
            record,
        ];
        site.waltron(&args)
    };
    let file = choose("file.run.jsonl", "1").exits(1);
    let err = file.err();
    assert!(err.contains("51P.pickup") && err.contains("1.2 A") && err.contains("1.25 A"), "{err}");
    assert!(!err.contains("51P.tms"), "what is the same is not listed");
    site.waltron(&["report", "file.run.jsonl", "-o", "f.html"]).exits(0);
    let page = site.read("f.html");
    assert!(page.contains("tested against those of the file") && page.contains("1.25 A"));
    let device = choose("device.run.jsonl", "2").exits(1).json();
    let off = points(&device, "50P-times/");
    assert!(off.iter().all(|p| p["verdict"] == "not_tested"));
    assert!(off[0]["reason"].as_str().unwrap().contains("50P is switched off"));
    let at2 = points(&device, "51P-times/A-N/2x")[0];
    assert_eq!(at2["stimulus"]["current_a"], 2.5, "twice the device's pickup");
    let record = site.read("device.run.jsonl");
    assert!(record.contains("\"settings-read\"") && record.contains("\"device_holds\":true"));
    site.waltron(&["report", "device.run.jsonl", "-o", "d.html"]).exits(0);
    assert!(site.read("d.html").contains("Settings read from the device held"));
    choose("stop.run.jsonl", "3").exits(4);
}

#[test]
fn guarded_verdicts_show_the_uncertainty() {
    let site = Site::new();
    site.edit("q07-f1.plan.toml", "[ambient]", "[grading]\nrule = \"guarded\"\n\n[ambient]");
    site.edit("q07-f1.rig.toml", "seed = 11874", "seed = 11874\ntiming_accuracy = \"10 %\"");
    let done = run(&site, &["--only", "51N-times/*/2x"]).exits(5).json();
    let all = points(&done, "51N-times/");
    assert!(all.iter().all(|p| p["verdict"] == "inconclusive"), "{all:?}");
    let time = all[0]["measured"]["time_s"].as_f64().unwrap();
    let u = all[0]["uncertainty"]["u_s"].as_f64().unwrap();
    // Of the time, a limit of 10 % anywhere within, and of the current along the curve: a little more than the
    // timing alone.
    let timing = 0.1 * time * 2.0 / 3f64.sqrt();
    assert!(u > timing && u < 1.1 * timing, "{u} of {time}");
    site.waltron(&["report", "r.run.jsonl", "-o", "g.html"]).exits(0);
    assert!(site.read("g.html").contains("U (k = 2)"));
}

/// Each part of U stands by itself, adds up to U, and a point that has none says why.
#[test]
fn a_budget_is_shown_part_by_part() {
    let site = Site::new();
    run(&site, &["--only", "51P-times/A-N/*", "--only", "51P-pickup/A-N/*"]);
    let show = |point: &str, rest: &[&str]| {
        let args = ["show", "r.run.jsonl", "--point", point, "--budget"];
        site.waltron(&[&args[..], rest].concat())
    };
    let out = show("51P-times/A-N/2x", &[]).exits(0).out();
    assert!(
        out.contains("ia size") && out.contains("limit 0.1 %") && out.contains("(k = 2)"),
        "{out}"
    );
    let json = show("51P-times/A-N/2x", &["--format", "json"]).exits(0).json();
    let parts = json["budget"].as_array().unwrap();
    let adds = |part: &serde_json::Value| {
        let own = |key: &str| part[key].as_f64();
        let standard = own("standard_s").or(own("standard_pct").map(|pct| pct / 100.0)).unwrap();
        standard * own("sensitivity").unwrap_or(1.0)
    };
    let root = parts.iter().map(|part| adds(part).powi(2)).sum::<f64>().sqrt();
    let u = json["uncertainty"]["u_s"].as_f64().unwrap();
    assert!(parts.len() == 4 && (2.0 * root / u - 1.0).abs() < 1e-9, "{json}");
    // A current ten times less sure is ten times as much of it, and nothing else is.
    let worse = Site::new();
    let rig = worse.read("q07-f1.rig.toml");
    let id = "id = \"ia\"\n";
    assert!(rig.contains(id) && !rig.contains("accuracy"), "{rig}");
    worse.write("q07-f1.rig.toml", &rig.replace(id, &format!("{id}accuracy = \"1 %\"\n")));
    let run_worse =
        ["run", "q07-f1.plan.toml", "--record", "r.run.jsonl", "--only", "51P-times/A-N/2x"];
    worse.waltron(&run_worse);
    let show =
        ["show", "r.run.jsonl", "--point", "51P-times/A-N/2x", "--budget", "--format", "json"];
    let other = worse.waltron(&show).exits(0).json();
    let of = |json: &serde_json::Value, source: &str| {
        let all = json["budget"].as_array().unwrap();
        let part = all.iter().find(|part| part["source"] == source).unwrap();
        adds(part)
    };
    assert!((of(&other, "ia size") / of(&json, "ia size") - 10.0).abs() < 0.5, "{other}");
    assert!((of(&other, "BI1 delay") / of(&json, "BI1 delay") - 1.0).abs() < 1e-9);
    let told = |point: &str| {
        let args = ["show", "r.run.jsonl", "--point", point, "--budget"];
        site.waltron(&args).exits(2).err()
    };
    assert!(told("51P-tims/A-N/2x").contains("is `51P-times/A-N/2x` meant?"));
    let report = ["report", "r.run.jsonl", "-o", "b.html", "--attempts"];
    site.waltron(&report).exits(0);
    assert!(site.read("b.html").contains("What the uncertainties are made of"));
}

/// An emergency stop by contact: the specimen's second stage closes it half way up.
#[test]
fn an_emergency_stop_contact_switches_off_and_stops_the_run() {
    let site = Site::new();
    site.edit(
        "q07-f1.rig.toml",
        "seed = 11874",
        "seed = 11874\nemergency_stop = \"stop button\"\nemergency_stop_by = \"closing\"",
    );
    let rig = site.read("q07-f1.rig.toml");
    site.write(
        "q07-f1.rig.toml",
        &(rig + "\n[[input]]\nid = \"BI9\"\nmeaning = \"stop button\"\n"),
    );
    let specimen = site.read("q07-f1.specimen.toml");
    let stage = "\n[[element]]\nid = \"button\"\nmeasures = \"phase\"\npickup = \"3 A\"\n\
                 curve = { family = \"definite\", delay = \"100 ms\" }\ntrip = \"stop button\"\nstart = \"none\"\n";
    site.write("q07-f1.specimen.toml", &(specimen + stage));
    let done = run(&site, &["--only", "51P-times/A-N"]).exits(4);
    let json = done.json();
    assert_eq!(json["outcome"], "stopped");
    assert_eq!(json["points"].as_array().unwrap().len(), 2, "those below 3 A");
    let record = site.read("r.run.jsonl");
    assert!(record.contains("Emergency stop: `stop button`; outputs are off"));
    let hookup = site.waltron(&["hookup", "q07-f1.plan.toml"]).exits(0).out();
    assert!(hookup.contains("Try the emergency stop once") && hookup.contains("stop button"));
    // Waited for the other way round it stands in its stopping state from the beginning.
    site.edit("q07-f1.rig.toml", "\"closing\"", "\"opening\"");
    let args = ["run", "q07-f1.plan.toml", "--yes", "--record", "wire.run.jsonl"];
    let done = site.waltron(&args).exits(4);
    let told =
        "`stop button` was open when the injection began: it is pressed, or its wire is broken";
    assert!(site.read("wire.run.jsonl").contains(told), "{}", done.out());
}

/// 30 A for 3 s is 2700 A²s of the 9000 allowed at that current; the asset gives 16 A²s a second
/// away. The fourth pulse finds 8100 A²s and needs 1800 of them gone: 112.5 s less its own rest.
#[test]
fn the_asset_cools_before_its_short_time_rating_is_used_up() {
    let site = Site::new();
    site.edit("q07-f1.asset.toml", "{ current = \"100 A\", for = \"1 s\" },", "");
    site.write("pulses.seq", "repeat 4 times\n  hold ia = 30 A for 3 s then off\nend\n");
    site.write(
        "pulses.plan.toml",
        "[plan]\ntitle = \"Pulses\"\nasset = \"q07-f1.asset.toml\"\nrig = \"q07-f1.rig.toml\"\n\
         [[test]]\nid = \"pulses\"\nprocedure = \"sequence\"\nscript = \"pulses.seq\"\n",
    );
    let go = |more: &[&str]| {
        let args = ["run", "pulses.plan.toml", "--record", "p.run.jsonl"];
        site.waltron(&[&args[..], more].concat());
        let record = site.read("p.run.jsonl");
        let events = record.lines().map(|l| serde_json::from_str::<Value>(l).unwrap());
        let rests = events.filter(|e| e["event"] == "rested");
        rests.map(|e| e["time_s"].as_f64().unwrap()).collect::<Vec<f64>>()
    };
    // Four times 3 s, the cooling of 112.5 s, and half a second after the test.
    let check = site.waltron(&["check", "pulses.plan.toml", "--format", "json"]).exits(0).json();
    assert!((check["likely_s"].as_f64().unwrap() - 125.0).abs() < 0.1, "{}", check["likely_s"]);
    let rested = go(&[]);
    assert_eq!(rested.len(), 1, "{rested:?}");
    assert!((rested[0] - 112.5).abs() < 0.1, "{rested:?}");
    // The record knows how warm the run left it: 3 s at 30 A are given off by 16 A² in 168.75 s.
    let again = go(&["--redo", "*"]);
    assert_eq!(again.len(), 5, "{again:?}");
    assert!(again[1..].iter().all(|t| (t - 168.75).abs() < 0.1), "{again:?}");
}

/// Of many short rests in a row the first is told, and each stands in the record.
#[test]
fn short_rests_in_a_row_are_told_once() {
    let site = Site::new();
    let plan = site.read("q07-f1.plan.toml");
    let head = &plan[..plan.find("[[test]]").unwrap()];
    let test = "[[test]]\nid = \"times\"\nprocedure = \"trip-time\"\nelement = \"51P\"\n\
                loops = [\"A-N\"]\nat = [\"7 x\"]\nrepeat = 320\n";
    site.write("many.plan.toml", &format!("{head}{test}"));
    let done = site.waltron(&["run", "many.plan.toml", "--record", "m.run.jsonl"]);
    let told = done.err().matches("Outputs stay off").count()
        + done.out().matches("Outputs stay off").count();
    let rested = site.read("m.run.jsonl").matches("\"event\":\"rested\"").count();
    assert!(told == 1 && rested > 10, "{told} of {rested}: {}", done.err());
}

#[test]
fn hook_up_sheets_of_every_format() {
    let site = Site::new();
    let text = site.waltron(&["hookup", "q07-f1.plan.toml"]).exits(0).out();
    for part in
        ["I1, N (ia)", "X1:1, X1:2", "19.2 A", "600:1", "X3:9", "Isolate the tripping circuits"]
    {
        assert!(text.contains(part), "{part} is not in {text}");
    }
    let one = site.waltron(&["hookup", "q07-f1.plan.toml", "--test", "51N-pickup"]).exits(0).out();
    assert!(one.contains("X2:7, X2:8") && !one.contains("X1:3"), "only what this test uses: {one}");
    // The other functions see the same current: their contacts are isolated too.
    let isolated = one.lines().find(|l| l.contains("Isolate the tripping circuits")).unwrap();
    for contact in ["trip", "start", "earth-fault trip", "earth-fault start"] {
        assert!(isolated.contains(contact), "{isolated}");
    }
    // Afterwards nothing can trip before the relay has its inputs back and was looked at.
    site.edit(
        "q07-f1.plan.toml",
        "[hookup]",
        "[hookup]\nfirst = [\"Ask the control room\"]\nafter = [\"Count the tools\"]",
    );
    let text = site.waltron(&["hookup", "q07-f1.plan.toml"]).exits(0).out();
    let order = [
        "Ask the control room",
        "Connect the rig's earth",
        "Take the connections off",
        "Close the relay's current circuits",
        "Count the tools",
        "none of its trip contacts is closed",
        "Close the tripping circuits last",
    ];
    let places: Vec<usize> = order.iter().map(|part| text.find(part).expect(part)).collect();
    assert!(places.is_sorted(), "{text}");
    for name in ["h.svg", "h.html", "h.txt"] {
        site.waltron(&["hookup", "q07-f1.plan.toml", "-o", name]).exits(0);
        let sheet = site.read(name);
        // Whatever the format, the lists that keep people safe are on it.
        for part in ["X1:1", "Ask the control room", "Count the tools", "tripping circuits last"] {
            assert!(sheet.contains(part), "{part} is not in {name}");
        }
    }
    for part in ["300-11874", "Brackwater 110/20 kV", "Connected by", "class=\"steps tick\""] {
        assert!(site.read("h.html").contains(part), "{part}");
    }
    site.waltron(&["hookup", "q07-f1.plan.toml", "-o", "h.pdf"]).exits(2);
    site.waltron(&["hookup", "q07-f1.plan.toml", "-o", "h.svg"]).exits(2);
    run(&site, &["--only", "51N-times"]);
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    assert!(site.read("r.html").contains("Hook-up"));
    assert!(
        site.waltron(&["run", "q07-f1.plan.toml", "--live"]).exits(2).err().contains("terminal")
    );
}

/// The end of a run is sealed: a change of its very last figures shows.
#[test]
fn a_change_of_the_end_of_a_record_shows() {
    let site = Site::new();
    run(&site, &["--only", "51N-pickup"]).exits(0);
    let record = site.read("r.run.jsonl");
    assert!(record.lines().last().unwrap().contains("\"sealed\""));
    let end = record.lines().count() - 1;
    site.write(
        "r.run.jsonl",
        &record.replace("\"outcome\":\"completed\"", "\"outcome\":\"stopped\""),
    );
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    let page = site.read("r.html");
    assert!(page.contains(&format!("line {} does not follow", end + 1)), "{page}");
    site.write("r.run.jsonl", &record);
    site.waltron(&["report", "r.run.jsonl", "-o", "s.html"]).exits(0);
    assert!(!site.read("s.html").contains("does not follow"));
    // Gone on with, it is sealed again behind its new end.
    run(&site, &["--redo", "51N-pickup"]).exits(0);
    let again = site.read("r.run.jsonl");
    assert!(again.starts_with(&record) && again.lines().last().unwrap().contains("\"sealed\""));
}

/// The disk is full in the middle of an event: what was whole before it is kept, and gone on with.
#[cfg(unix)]
#[test]
fn a_full_disk_stops_the_run_and_loses_no_graded_point() {
    let site = Site::new();
    let whole = run(&site, &[]).exits(1).json();
    std::fs::remove_file(site.dir.path().join("r.run.jsonl")).unwrap();
    // A limit on the file's size stands for the full disk: the write comes back short, then fails.
    let script = format!(
        "trap '' XFSZ; ulimit -f 60; exec '{}' {} --record r.run.jsonl",
        env!("CARGO_BIN_EXE_waltron"),
        RUN[..2].join(" ")
    );
    let done = std::process::Command::new("sh")
        .args(["-c", &script])
        .current_dir(site.dir.path())
        .env("SOURCE_DATE_EPOCH", "1777881600")
        .output()
        .unwrap();
    let err = String::from_utf8(done.stderr).unwrap();
    assert_eq!(done.status.code(), Some(3), "{err}");
    assert!(
        err.contains("cannot write the run record") && err.contains("outputs are off"),
        "{err}"
    );
    assert!(err.contains("--resume"), "{err}");
    let left = site.read("r.run.jsonl");
    let graded = left.matches("\"event\":\"graded\"").count();
    assert!(graded > 3 && graded < 50, "{graded}");
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    let resumed = run(&site, &["--resume"]).exits(1).json();
    let (found, expected) =
        (without_attempts(&resumed["points"]), without_attempts(&whole["points"]));
    let verdicts = |all: &[(String, Value, Value)]| -> Vec<(String, Value)> {
        all.iter().map(|(id, verdict, _)| (id.clone(), verdict.clone())).collect()
    };
    assert_eq!(verdicts(&found), verdicts(&expected));
}

/// Where the rig file asks for it, nothing is put out before the checklist and the maxima are
/// confirmed.
#[test]
fn outputs_are_confirmed_before_they_come_on() {
    let site = Site::new();
    site.edit("q07-f1.rig.toml", "seed = 11874", "seed = 11874\nconfirm = true");
    let go = |record: &str, answers: &str| {
        site.write("a.toml", answers);
        let args = ["--only", "51N-times", "--answers", "a.toml", "--format", "json"];
        let head = ["run", "q07-f1.plan.toml", "--record", record];
        site.waltron(&[&head[..], &args].concat())
    };
    // Neither a refusal nor a skip, of the whole or of a line of the checklist, puts anything out.
    for (n, word) in ["stop", "no", "n", "skip: x", "s", "ok", "", "quit"].into_iter().enumerate() {
        for question in ["Put this out on*", "Isolate the tripping circuits*"] {
            let answers = format!(
                "[[answer]]\nquestion = \"{question}\"\nanswer = \"{word}\"\n\
                 [[answer]]\nquestion = \"*\"\nanswer = \"yes\"\n"
            );
            let name = format!("no-{n}-{}.run.jsonl", question.len());
            go(&name, &answers).exits(4);
            let record = site.read(&name);
            assert!(record.contains("Isolate the tripping circuits"), "{word}");
            assert!(!record.contains("\"observed\""), "{word} at {question}");
        }
    }
    let yes = go("yes.run.jsonl", "[[answer]]\nquestion = \"*\"\nanswer = \"yes\"\n");
    assert!(yes.err().contains("Maxima"), "{}", yes.err());
    assert_eq!(yes.exits(0).json()["summary"]["pass"], 9);
}

/// A prompt waits for ever, unless it is told not to.
#[test]
fn prompts_time_out_only_when_told_to() {
    let site = Site::new();
    site.write("asking.plan.toml", ASKING);
    let begin = |more: &[&str], record: &str| {
        std::process::Command::new(env!("CARGO_BIN_EXE_waltron"))
            .args(["run", "asking.plan.toml", "--record", record])
            .args(more)
            .current_dir(site.dir.path())
            .stdin(std::process::Stdio::piped())
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::piped())
            .spawn()
            .unwrap()
    };
    let mut waits = begin(&[], "1.run.jsonl");
    let mut given_up = begin(&["--prompt-timeout", "300 ms"], "2.run.jsonl");
    // The pipe stays open; waiting would close it, which is an answer too.
    let _open = given_up.stdin.take();
    assert_eq!(given_up.wait().unwrap().code(), Some(4));
    let mut told = String::new();
    std::io::Read::read_to_string(&mut given_up.stderr.take().unwrap(), &mut told).unwrap();
    assert!(told.contains("nobody answered in time"), "{told}");
    assert_eq!(waits.try_wait().unwrap(), None, "the other one still waits");
    waits.kill().unwrap();
    waits.wait().unwrap();
    site.waltron(&["run", "asking.plan.toml", "--prompt-timeout", "3 A"]).exits(2);
}

/// What will be too uncertain is said before anything is put out, with what to mend.
#[test]
fn what_will_be_uncertain_is_said_before() {
    let site = Site::new();
    let check = |site: &Site| site.waltron(&["check", "q07-f1.plan.toml"]).exits(0).out();
    assert!(!check(&site).contains("Uncertain"));
    let rig = site.read("q07-f1.rig.toml");
    let id = "id = \"ia\"\n";
    site.write("q07-f1.rig.toml", &rig.replace(id, &format!("{id}accuracy = \"4 %\"\n")));
    let out = check(&site);
    let told =
        |test: &str| out.lines().find(|l| l.starts_with(&format!("Uncertain  {test}/"))).unwrap();
    // 4 % of a limit are 4.6 % of a current that may be 2 % off.
    let pickup = told("51P-pickup");
    assert!(
        pickup.contains("U will be 55.") && pickup.contains("231 % of the tolerance"),
        "{pickup}"
    );
    assert!(pickup.ends_with("inconclusive; most of it is `ia size`"), "{pickup}");
    assert!(told("51P-times").contains("and"), "{out}");
}

/// Nor is it left to the run where a ramp is too quick, or a breaker's times are looked at by a slow clock.
#[test]
fn what_is_too_quick_is_said_before() {
    let site = Site::new();
    let plan = |rate: &str| {
        format!(
            "[plan]\ntitle = \"t\"\nasset = \"q07-f1.asset.toml\"\nrig = \"q07-f1.rig.toml\"\n\
             [[test]]\nid = \"s\"\nprocedure = \"sequence\"\nscript = '''\n\
             hold i = balanced(0.5 A) for 1 s\nramp i from 0.5 A to 2 A {rate} until start as up\n\
             expect up.value is 51P.pickup within tolerance(51P) as \"pickup\"\noff\n'''\n"
        )
    };
    let check = |rate: &str| {
        site.write("s.plan.toml", &plan(rate));
        site.waltron(&["check", "s.plan.toml"]).exits(0).out()
    };
    // Half of five cycles at 1 A/s: 50 mA, a limit; 2 % of 1.2 A are 24 mA.
    let out = check("at 1 A/s");
    let line = out.lines().find(|l| l.starts_with("Uncertain  s/pickup")).unwrap();
    assert!(
        line.contains("U will be 57.7") && line.contains("`time to answer of start`"),
        "{line}"
    );
    assert!(check("by 5 mA every 10 ms").contains("`step of start`"));
    for slow in ["at 0.05 A/s", "by 5 mA every 200 ms"] {
        assert!(!check(slow).contains("Uncertain"), "{slow}");
    }
    let site = Site::examples();
    site.edit(
        "q05-cb.rig.toml",
        "timing_accuracy = \"0.01 % + 50 us\"",
        "timing_accuracy = \"5 ms\"",
    );
    let out = site.waltron(&["check", "q05-cb.plan.toml"]).exits(0).out();
    assert!(out.contains("Uncertain  first/O/opening-time/L1"), "{out}");
}
