//! The demo, and what the runs of its relays show.

use crate::support::{Site, points};
use waltron_core::quantity::significant;

#[test]
fn the_demo_tests_both_relays_and_writes_records_and_reports() {
    let site = Site::new();
    let done = site.waltron(&["demo", "first"]).exits(0);
    assert!(done.out().contains("What to look at next"));
    let dir = site.dir.path().join("first");
    for name in [
        "q07-f1.run.jsonl",
        "q07-f1.html",
        "q08-f2.run.jsonl",
        "q05-t2.html",
        "dc1.html",
        "q01-ct.html",
        "q01-vt.html",
    ] {
        assert!(dir.join(name).is_file(), "{name}");
    }
    let page = std::fs::read_to_string(dir.join("q07-f1.html")).unwrap();
    assert!(page.contains(">FAIL<") && page.contains("37 of 57 points pass"));
    assert!(page.contains("51P-times/A-N/2x") && page.contains("too late"));
    assert!(!page.contains("src=\"http") && !page.contains("href=\"http"), "self-contained");
    let supply = std::fs::read_to_string(dir.join("dc1.html")).unwrap();
    assert!(supply.contains("7 of 7 points pass") && !supply.contains("Trip time against current"));
    let again = site.waltron(&["demo", "first"]).exits(2);
    assert!(again.err().contains("--force"));
    site.waltron(&["demo", "first", "--force"]).exits(0);
}

#[test]
fn the_hidden_defect_fails_the_times_of_its_stage_and_nothing_else() {
    let site = Site::new();
    let run = site.waltron(&["run", "q07-f1.plan.toml", "--format", "json"]).exits(1).json();
    for point in run["points"].as_array().unwrap() {
        let id = point["id"].as_str().unwrap();
        let slow = id.starts_with("51P-times/") && !id.ends_with("/0.95x");
        let expected = if slow { "fail" } else { "pass" };
        assert_eq!(point["verdict"], expected, "{id}: {}", point["reason"]);
    }
    let healthy = site.waltron(&["run", "q08-f2.plan.toml", "--format", "json"]).exits(0).json();
    assert_eq!(healthy["summary"]["pass"], 38);
}

#[test]
fn a_pickup_five_percent_off_is_found_within_a_step() {
    let site = Site::new();
    site.edit("q08-f2.specimen.toml", "3.985 A", "4.2 A");
    site.edit("q08-f2.specimen.toml", "current = \"0.15 %\"", "current = \"0 %\"");
    let run = site.waltron(&["run", "q08-f2.plan.toml", "--format", "json"]).exits(1).json();
    let pickups: Vec<_> =
        points(&run, "51P-pickup/").into_iter().filter(|p| p["criterion"] == "pickup").collect();
    assert_eq!(pickups.len(), 3);
    for point in pickups {
        let measured = point["measured"]["current_a"].as_f64().unwrap();
        let step = point["stimulus"]["step_current_a"].as_f64().unwrap();
        assert!(measured >= 4.2 && measured <= 4.2 + step + 1e-9, "{measured} step {step}");
        assert_eq!(point["verdict"], "fail");
    }
}

#[test]
fn a_function_that_is_off_is_not_tested_and_the_run_is_no_pass() {
    let site = Site::new();
    site.edit("q08-f2.asset.toml", "id = \"46\"", "id = \"46\"\nenabled = false");
    let run = site.waltron(&["run", "q08-f2.plan.toml", "--format", "json"]).exits(5).json();
    let off = points(&run, "46-");
    assert_eq!(off.len(), 14);
    assert!(off.iter().all(|p| p["verdict"] == "not_tested"));
    assert!(off[0]["reason"].as_str().unwrap().contains("switched off"));
}

#[test]
fn a_record_cut_off_is_reported_up_to_its_last_whole_event() {
    let site = Site::new();
    site.waltron(&["run", "q07-f1.plan.toml", "--record", "whole.run.jsonl"]).exits(1);
    let text = site.read("whole.run.jsonl");
    let start = text.find('\n').unwrap() + 1;
    for (i, share) in [0.1, 0.33, 0.5, 0.77, 0.999].into_iter().enumerate() {
        let cut = start + ((text.len() - start) as f64 * share) as usize;
        site.write("cut.run.jsonl", &String::from_utf8_lossy(&text.as_bytes()[..cut]));
        let page = format!("cut{i}.html");
        let done = site.waltron(&["report", "cut.run.jsonl", "-o", &page]).exits(0);
        assert!(
            done.err().contains("cut off") || done.err().contains("ends before"),
            "{}",
            done.err()
        );
        assert!(site.read(&page).contains("The run did not come to its end"));
    }
    site.write("cut.run.jsonl", &text[..start / 2]);
    assert!(
        site.waltron(&["report", "cut.run.jsonl", "-o", "x.html"])
            .exits(2)
            .err()
            .contains("no whole event")
    );
    site.write(
        "changed.run.jsonl",
        &text.replacen("\"verdict\":\"fail\"", "\"verdict\":\"pass\"", 1),
    );
    let done = site.waltron(&["report", "changed.run.jsonl", "-o", "changed.html"]).exits(0);
    assert!(done.err().contains("changed after the test"));
    assert!(site.read("changed.html").contains("The record was changed after the test"));
}

#[test]
fn plots_of_runs_and_assets_are_written_as_svg_and_png() {
    let site = Site::new();
    let run = ["run", "q07-f1.plan.toml", "--record", "r.run.jsonl", "--format", "json"];
    let run = site.waltron(&run).exits(1).json();
    site.waltron(&["plot", "r.run.jsonl", "-o", "run.svg"]).exits(0);
    let svg = site.read("run.svg");
    assert_eq!(svg.matches("class=\"point\"").count(), 37, "25 points of 51P, 12 of 50P");
    let time = points(&run, "51P-times/A-N/2x")[0]["measured"]["time_s"].as_f64().unwrap();
    let measured = format!("measured {} s", significant(time, 4));
    assert!(svg.contains(&measured) && svg.contains("acceptance band"), "{measured}");
    site.waltron(&["plot", "q08-f2.asset.toml", "-o", "asset.png", "--size", "640x400"]).exits(0);
    let png = std::fs::read(site.dir.path().join("asset.png")).unwrap();
    assert_eq!(&png[1..4], b"PNG");
    assert_eq!(u32::from_be_bytes(png[16..20].try_into().unwrap()), 640);
    let wrong = site.waltron(&["plot", "r.run.jsonl", "-o", "x.svg", "--element", "50Q"]).exits(2);
    assert!(wrong.err().contains("51P, 50P, 51N"));
}

#[test]
fn a_killed_run_keeps_every_point_that_was_shown() {
    use std::io::{BufRead, BufReader};
    use std::process::{Command, Stdio};
    let site = Site::new();
    // Points of 0.3 s each in real time, so that the kill falls into the run.
    site.write(
        "short.plan.toml",
        "[plan]\ntitle = \"short\"\nasset = \"q08-f2.asset.toml\"\nrig = \"q08-f2.rig.toml\"\n\
         [[test]]\nid = \"t\"\nprocedure = \"trip-time\"\nelement = \"50P\"\nloops = [\"A-N\"]\nat = [\"2 x\"]\n\
         repeat = 100\nrest = \"0 s\"\n",
    );
    site.edit("q08-f2.asset.toml", ", reset = \"curve\"", "");
    let mut child = Command::new(env!("CARGO_BIN_EXE_waltron"))
        .args(["run", "short.plan.toml", "--pace", "real", "--record", "k.run.jsonl"])
        .current_dir(site.dir.path())
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let lines = BufReader::new(child.stdout.take().unwrap()).lines();
    let shown = lines
        .map_while(Result::ok)
        .filter(|l| l.contains("50P") || l.contains("t/A-N"))
        .take(3)
        .count();
    child.kill().unwrap();
    child.wait().unwrap();
    assert_eq!(shown, 3);
    let record = site.read("k.run.jsonl");
    assert!(record.matches("\"event\":\"graded\"").count() >= shown);
    assert!(!record.contains("run-ended"));
    site.waltron(&["report", "k.run.jsonl", "-o", "k.html"]).exits(0);
    assert!(site.read("k.html").contains("INCOMPLETE"));
    site.waltron(&["run", "short.plan.toml", "--record", "k.run.jsonl"]).exits(2);
}

#[test]
fn check_shows_what_will_be_put_out_and_writes_nothing() {
    let site = Site::new();
    let before = site.files();
    let text = site.waltron(&["check", "q08-f2.plan.toml"]).exits(0).out();
    for part in [
        "51P-times/A-N/1.5x",
        "8.09 s",
        "3.2 A → 4.8 A by 16 mA",
        "ia 28.8 A",
        "Points    38",
        "13 min",
    ] {
        assert!(text.contains(part), "{part}: {text}");
    }
    let json = site.waltron(&["check", "q08-f2.plan.toml", "--format", "json"]).exits(0).json();
    assert_eq!(json["points"], 38);
    assert!((json["maxima"]["ia_a"].as_f64().unwrap() - 28.8).abs() < 1e-9);
    let negative_sequence = json["injections"]
        .as_array()
        .unwrap()
        .iter()
        .find(|i| i["points"][0] == "46-times/A-N/1.5x")
        .unwrap();
    // |I2| = I/3 on A-N: three times 1.2 A.
    assert!((negative_sequence["stimulus"]["current_a"].as_f64().unwrap() - 3.6).abs() < 1e-9);
    assert_eq!(site.files(), before);
}
