//! What programs rely on: JSON, exit codes, equal seeds giving equal bytes.

use crate::support::Site;
use serde_json::Value;

#[test]
fn a_run_as_json_holds_what_the_contract_says() {
    let site = Site::new();
    let args = ["run", "q07-f1.plan.toml", "--format", "json", "--record", "r.run.jsonl"];
    let run = site.waltron(&args).exits(1).json();
    assert_eq!(run["record"], "r.run.jsonl");
    assert_eq!(run["exit"], 1);
    assert!(run["simulated_s"].as_f64().unwrap() > 100.0);
    assert_eq!(
        run["summary"]["pass"].as_u64().unwrap() + run["summary"]["fail"].as_u64().unwrap(),
        57
    );
    let find = |id: &str| -> Value {
        run["points"].as_array().unwrap().iter().find(|p| p["id"] == id).unwrap().clone()
    };
    let time = find("51P-times/A-N/2x");
    assert_eq!(time["test"], "51P-times");
    assert_eq!(time["element"], "51P");
    assert_eq!(time["loop"], "A-N");
    assert_eq!(time["attempt"], 1);
    assert_eq!(time["expected"]["time_s"], 4.05);
    assert!(time["measured"]["time_s"].as_f64().unwrap() > 4.4);
    assert!(time["limits"]["earliest_s"].is_f64() && time["limits"]["latest_s"].is_f64());
    let none = find("51P-times/A-N/0.95x");
    assert_eq!(none["expected"], serde_json::json!({}), "absent means unknown, never 0");
    assert_eq!(none["measured"], serde_json::json!({}));
    let pickup = find("51P-pickup/A-N");
    assert_eq!(pickup["expected"]["current_a"], 1.2);
    assert!(pickup["limits"]["lower_a"].is_f64() && pickup["limits"]["upper_a"].is_f64());
}

#[test]
fn the_same_seed_gives_the_same_bytes() {
    let site = Site::new();
    let run = |seed: &str| {
        let record = "r.run.jsonl";
        let done = site.waltron(&[
            "run",
            "q07-f1.plan.toml",
            "--seed",
            seed,
            "--record",
            record,
            "--format",
            "json",
        ]);
        let text = site.read(record);
        std::fs::remove_file(site.dir.path().join(record)).unwrap();
        (done.exits(1).out(), text)
    };
    assert_eq!(run("7"), run("7"));
    assert_ne!(run("7").1, run("8").1);
    assert!(run("7").1.contains("2026-05-04T08:00:00.000Z"));
}

#[test]
fn curves_follow_the_standards_formulas_and_invert() {
    let site = Site::new();
    let shapes = [
        ("iec", "normal-inverse", 0.14, 0.0, 0.02),
        ("iec", "very-inverse", 13.5, 0.0, 1.0),
        ("iec", "extremely-inverse", 80.0, 0.0, 2.0),
        ("iec", "long-time-inverse", 120.0, 0.0, 1.0),
        ("iec", "short-time-inverse", 0.05, 0.0, 0.04),
        ("ieee", "moderately-inverse", 0.0515, 0.114, 0.02),
        ("ieee", "very-inverse", 19.61, 0.491, 2.0),
        ("ieee", "extremely-inverse", 28.2, 0.1217, 2.0),
    ];
    for (family, shape, k, c, alpha) in shapes {
        let curve = [
            "--family", family, "--shape", shape, "--tms", "0.3", "--pickup", "1.2 A", "--format",
            "json",
        ];
        let mut args = vec!["curve", "time"];
        args.extend(curve);
        args.extend(["--at", "1.2 A", "--at", "1.5 A", "--at", "2.4 A", "--at", "30 x"]);
        let times = site.waltron(&args).exits(0).json();
        assert!(times["points"][0].get("time_s").is_none(), "does not operate at pickup");
        for (i, m) in [(1, 1.25f64), (2, 2.0), (3, 30.0)] {
            let expected = 0.3 * (k / (m.powf(alpha) - 1.0) + c);
            let time = times["points"][i]["time_s"].as_f64().unwrap();
            assert!((time / expected - 1.0).abs() < 1e-9, "{family} {shape} at {m}: {time}");
            let text = format!("{time} s");
            let mut args = vec!["curve", "current"];
            args.extend(curve);
            args.extend(["--time", &text]);
            let back = site.waltron(&args).exits(0).json();
            let current = back["points"][0]["current_a"].as_f64().unwrap();
            assert!((current / (1.2 * m) - 1.0).abs() < 1e-6);
        }
    }
    let args = [
        "curve",
        "time",
        "--asset",
        "q07-f1.asset.toml",
        "--element",
        "51P",
        "--at",
        "2.4 A",
        "--at",
        "6 A",
        "--format",
        "json",
    ];
    let from_file = site.waltron(&args).exits(0).json();
    assert_eq!(
        from_file["points"][0],
        serde_json::json!({"multiple": 2.0, "current_a": 2.4, "time_s": 4.05})
    );
}

#[test]
fn schemas_describe_the_sample_files() {
    let site = Site::new();
    for (kind, key) in
        [("asset", "ratings"), ("plan", "test"), ("rig", "input"), ("specimen", "noise")]
    {
        let schema = site.waltron(&["schema", kind]).exits(0).json();
        assert!(schema["properties"][key].is_object(), "{kind}");
        let described = schema["properties"][key]["description"]
            .as_str()
            .or(schema["properties"][key]["$ref"].as_str());
        assert!(described.is_some(), "{kind} {key} tells an editor what it is");
    }
}

#[test]
fn every_command_has_help_with_examples_a_manual_and_completions() {
    let site = Site::new();
    for command in ["demo", "check", "run", "report", "plot", "schema", "completions", "man"] {
        assert!(
            site.waltron(&[command, "--help"]).exits(0).out().contains("Examples:"),
            "{command}"
        );
    }
    assert!(site.waltron(&["man"]).exits(0).out().contains(".TH"));
    assert!(site.waltron(&["completions", "bash"]).exits(0).out().contains("waltron"));
    site.waltron(&["man", "pages"]).exits(0);
    assert!(site.dir.path().join("pages/waltron-run.1").is_file());
    assert!(site.waltron(&["--version"]).exits(0).out().starts_with("waltron "));
    assert!(site.waltron(&["chek"]).exits(2).err().contains("check"));
}

/// What a plan does besides its outputs is told before it is confirmed: of a quantity the span of all
/// that it may be set to, and where that follows from a reading all that the rig takes.
#[test]
fn what_is_set_besides_is_told_with_its_lowest_and_highest_value() {
    let site = Site::examples();
    let also = |site: &Site| {
        let check = site.waltron(&["check", "dc1.plan.toml", "--format", "json"]).exits(0).json();
        assert_eq!(check["maxima"], serde_json::json!({}), "no output is used");
        check["also"].clone()
    };
    let switched = |to: &str| serde_json::json!({ "switches": "supply.output", "to": to });
    let set = |low: f64, high: f64| serde_json::json!({ "sets": "supply.voltage", "lowest_v": low, "highest_v": high });
    assert_eq!(also(&site), serde_json::json!([switched("on"), switched("off"), set(20.0, 29.5)]));
    let text = site.waltron(&["check", "dc1.plan.toml"]).exits(0).out();
    assert!(text.contains("sets supply.voltage to 20 V … 29.5 V"), "{text}");
    site.write(
        "readings.seq",
        "set supply.output = on\nread u = supply.voltage\nset supply.voltage = 2 * u\nexpect u >= 0 V as \"p\"\n",
    );
    assert_eq!(also(&site)[2], set(-30.0, 30.0));
}

/// What is said to come next can be typed as it stands, whatever the file is called.
#[cfg(unix)]
#[test]
fn the_next_command_works_as_it_is_shown() {
    let site = Site::new();
    let record = "May 4th's run.run.jsonl";
    let args = ["run", "q07-f1.plan.toml", "--only", "51N-pickup", "--record", record];
    let text = site.waltron(&args).exits(0).out();
    let next = text.lines().find_map(|l| l.strip_prefix("Next    waltron ")).unwrap();
    let done = std::process::Command::new("sh")
        .args(["-c", &format!("'{}' {next}", env!("CARGO_BIN_EXE_waltron"))])
        .current_dir(site.dir.path())
        .status()
        .unwrap();
    assert!(done.success(), "{next}");
    assert!(site.files().contains(&"May 4th's run.html".to_owned()), "{:?}", site.files());
}

/// Where nobody is there to be asked, a question without an answer is told before anything is put out.
#[test]
fn unanswered_questions_are_told_before_anything_is_energised() {
    let site = Site::examples();
    site.write(
        "readings.seq",
        "set supply.output = on\nwait 1 s\nask tap: number \"Which tap?\" from 1 to 5\n\
         expect tap > 0 as \"tap\"\n",
    );
    let run = |more: &[&str]| {
        let args = ["run", "dc1.plan.toml", "--only", "readings/*", "--record", "r.run.jsonl"];
        site.waltron(&[&args[..], more].concat())
    };
    let refused = |more: &[&str], message: &str| {
        let err = run(more).exits(2).err();
        assert!(err.contains(message), "{message} is not in {err}");
        assert!(!site.files().contains(&"r.run.jsonl".to_owned()), "nothing was begun");
    };
    refused(&["--yes"], "--yes has no answer to `Which tap?`");
    let answers = |text: &str| site.write("a.toml", text);
    answers("[[answer]]\nquestion = \"Which phase?\"\nanswer = \"3\"\n");
    refused(&["--answers", "a.toml"], "no answer to `Which tap?`");
    for wrong in ["7", "three", "3 A"] {
        answers(&format!("[[answer]]\nquestion = \"Which tap?\"\nanswer = \"{wrong}\"\n"));
        refused(&["--answers", "a.toml"], &format!("`{wrong}` does not answer `Which tap?`"));
    }
    answers("[[answer]]\nquestion = \"Which tap?\"\nanswer = \"3\"\n");
    run(&["--answers", "a.toml"]).exits(0);
    let check = site.waltron(&["check", "dc1.plan.toml"]).exits(0).out();
    assert!(check.contains("asks Which tap?"), "{check}");
    // A question that tells what was measured is known only when it is asked.
    site.edit("readings.seq", "ask tap", "read u = supply.voltage\nask tap");
    site.edit("readings.seq", "Which tap?", "At {u}, which tap?");
    std::fs::remove_file(site.dir.path().join("r.run.jsonl")).unwrap();
    answers("[[answer]]\nquestion = \"At 2*, which tap?\"\nanswer = \"3\"\n");
    run(&["--answers", "a.toml"]).exits(0);
}

/// What is done otherwise than the words of the command say is told.
#[test]
fn a_sequence_that_runs_whole_and_another_rig_are_told() {
    let site = Site::examples();
    let args = ["run", "dc1.plan.toml", "--record", "r.run.jsonl", "--yes"];
    let part = site.waltron(&[&args[..], &["--only", "readings/mean of eight"]].concat()).exits(0);
    assert!(
        part.err().contains("measured together with: readings/eight readings"),
        "{}",
        part.err()
    );
    let lines: Vec<String> = site.read("r.run.jsonl").lines().map(str::to_owned).collect();
    site.write("r.run.jsonl", &(lines[..lines.len() - 6].join("\n") + "\n"));
    site.edit(
        "dc1.rig.toml",
        "name = \"Virtual supply and meters\"",
        "name = \"Rig of the other bay\"",
    );
    let on = site.waltron(&[&args[..], &["--resume"]].concat());
    assert!(
        on.err().contains("Rig of the other bay now, Virtual supply and meters then"),
        "{}",
        on.err()
    );
}

/// A loop goes round a whole number of times.
#[test]
fn rounds_are_whole_numbers() {
    let site = Site::examples();
    for (times, message) in
        [("-1", "-1 is no number of rounds"), ("2.5", "2.5 is no number of rounds")]
    {
        site.write(
            "readings.seq",
            &format!("repeat {times} times\n  wait 1 s\nend\nexpect 1 == 1 as \"p\"\n"),
        );
        let err = site.waltron(&["check", "dc1.plan.toml"]).exits(2).err();
        assert!(err.contains(message) && err.contains("readings.seq:1:8"), "{err}");
    }
}

/// Whoever asks for JSON gets it, of mistakes on the command line too.
#[test]
fn wrong_usage_is_told_in_the_format_that_was_asked_for() {
    let site = Site::new();
    for args in [
        &["check", "q07-f1.plan.toml", "--bogus", "--format", "json"][..],
        &["run", "--format=json"],
        &["wave", "info", "--format", "json"],
    ] {
        let done = site.waltron(args).exits(2);
        let error = &done.json()["error"];
        assert_eq!(error["kind"], "usage", "{error}");
        assert!(!error["message"].as_str().unwrap().contains("error:"), "{error}");
        assert_eq!(done.err(), "");
    }
    assert!(site.waltron(&["check", "--bogus"]).exits(2).err().contains("--bogus"));
}

/// A verdict that could not be written is none; a reader that went away wanted no more.
#[cfg(target_os = "linux")]
#[test]
fn results_that_cannot_be_written_are_trouble() {
    use std::process::{Command, Stdio};
    let site = Site::new();
    let into = |out: Stdio, args: &[&str]| {
        let mut program = Command::new(env!("CARGO_BIN_EXE_waltron"));
        program.args(args).current_dir(site.dir.path()).stdin(Stdio::null()).stdout(out);
        program.output().unwrap()
    };
    let full = || std::fs::File::options().write(true).open("/dev/full").unwrap().into();
    for format in ["text", "json"] {
        let done = into(full(), &["check", "q07-f1.plan.toml", "--format", format]);
        assert_eq!(done.status.code(), Some(3), "{format}");
        assert!(String::from_utf8_lossy(&done.stderr).contains("could not be written"));
    }
    let (reader, writer) = std::io::pipe().unwrap();
    drop(reader);
    assert_eq!(into(writer.into(), &["check", "q07-f1.plan.toml"]).status.code(), Some(0));
}
