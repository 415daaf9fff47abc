//! Sequences: the examples, built-in procedures shown as scripts, layout, mistakes.

use crate::support::{Site, points};
use serde_json::Value;

/// Id and verdict of every point, and what was measured.
fn outcome(run: &Value) -> Vec<(String, String, Option<f64>)> {
    let measured = |p: &Value| {
        let measured = p["measured"].as_object()?;
        measured.get("reset_ratio_pct").or(measured.values().next())?.as_f64()
    };
    let all = run["points"].as_array().unwrap().iter();
    all.map(|p| {
        (p["id"].as_str().unwrap().into(), p["verdict"].as_str().unwrap().into(), measured(p))
    })
    .collect()
}

#[test]
fn every_example_runs_and_passes_for_many_seeds() {
    let site = Site::examples();
    for plan in ["q05-t2.plan.toml", "dc1.plan.toml"] {
        let check = site.waltron(&["check", plan, "--format", "json"]).exits(0).json();
        for seed in 1..=20 {
            let (record, seed) = (format!("{plan}-{seed}.jsonl"), seed.to_string());
            let args =
                ["run", plan, "--seed", &seed, "--record", &record, "--format", "json", "--yes"];
            let run = site.waltron(&args).exits(0).json();
            // What the preview announced is what was graded.
            assert_eq!(
                check["points"],
                run["points"].as_array().unwrap().len(),
                "{plan} seed {seed}"
            );
        }
    }
}

#[test]
fn the_guard_switches_a_supply_off_that_draws_too_much() {
    let site = Site::examples();
    let args = [
        "run",
        "dc1.plan.toml",
        "--rig",
        "dc1-heavy.rig.toml",
        "--format",
        "json",
        "--yes",
        "--record",
        "r.jsonl",
    ];
    let run = site.waltron(&args).exits(1).json();
    let first = points(&run, "settling")[0];
    assert_eq!(first["verdict"], "fail");
    assert_eq!(first["reason"], "more than 1.2 A while the supply settles");
    let record = site.read("r.jsonl");
    let order: Vec<usize> = ["\"switch\":true", "at_least", "\"switch\":false", "\"told\""]
        .iter()
        .map(|event| record.find(event).unwrap_or_else(|| panic!("no {event}")))
        .collect();
    assert!(order.is_sorted(), "{order:?}");
}

#[test]
fn the_harmonics_that_were_put_out_are_read_back_apart() {
    let site = Site::examples();
    let run =
        site.waltron(&["run", "q05-t2.plan.toml", "--format", "json", "--yes"]).exits(0).json();
    let value = |id: &str| points(&run, id)[0]["measured"]["value_pct"].as_f64().unwrap();
    for (id, given) in [
        ("harmonics/phase A, third", 20.0),
        ("harmonics/phase B, fifth", 8.0),
        ("harmonics/phase C, fifth", 12.0),
    ] {
        let found = value(id);
        assert!((found - given).abs() < 0.2, "{id}: {found}");
    }
}

/// Every test of both sample plans, run as itself and as the script that it is shown as.
#[test]
fn built_in_procedures_give_the_same_verdicts_as_their_scripts() {
    let site = Site::new();
    // Scatter is drawn injection by injection, and the two inject in different company.
    for relay in ["q07-f1", "q08-f2"] {
        let specimen = format!("{relay}.specimen.toml");
        let text = site.read(&specimen);
        let (before, after) = text.split_once("[noise]").unwrap();
        let end = after.find("\n[").unwrap();
        site.write(&specimen, &format!("{before}{}", &after[end..]));
    }
    let mut compared = 0;
    for (relay, tests) in [
        (
            "q07-f1",
            vec!["51P-pickup", "51P-times", "50P-pickup", "50P-times", "51N-pickup", "51N-times"],
        ),
        ("q08-f2", vec!["51P-pickup", "51P-times", "50P-times", "46-pickup", "46-times"]),
    ] {
        let plan = site.read(&format!("{relay}.plan.toml"));
        let head = &plan[..plan.find("[[test]]").unwrap()];
        for test in tests {
            let from = plan.find(&format!("id = \"{test}\"")).unwrap();
            let end = plan[from..].find("[[test]]").map_or(plan.len(), |n| from + n);
            site.write("one.plan.toml", &format!("{head}[[test]]\n{}", &plan[from..end]));
            let script = site
                .waltron(&["check", "one.plan.toml", "--test", test, "--as-script"])
                .exits(0)
                .out();
            let long = |w: &str| w.chars().filter(char::is_ascii_digit).count() > 6;
            assert!(!script.split_whitespace().any(long), "as a person writes it: {script}");
            site.write("one.seq", &script);
            site.waltron(&["fmt", "one.seq"]).exits(0);
            let as_sequence = format!(
                "{head}[[test]]\nid = \"{test}\"\nprocedure = \"sequence\"\nscript = \"one.seq\"\n"
            );
            site.write("two.plan.toml", &as_sequence);
            let run = |plan: &str| {
                let record = format!("{relay}-{test}-{plan}.jsonl");
                let done =
                    site.waltron(&["run", plan, "--format", "json", "--yes", "--record", &record]);
                outcome(&done.json())
            };
            let (own, shown) = (run("one.plan.toml"), run("two.plan.toml"));
            assert_eq!(own.len(), shown.len(), "{relay} {test}: {own:?} {shown:?}");
            for (a, b) in own.iter().zip(&shown) {
                assert_eq!((&a.0, &a.1), (&b.0, &b.1), "{relay} {test}");
                if let (Some(x), Some(y)) = (a.2, b.2) {
                    // A reset ratio is in percent on one side.
                    let y = if a.0.ends_with("/reset") { y * 100.0 } else { y };
                    assert!((x - y).abs() <= 1e-6 * x.abs(), "{relay} {}: {x} {y}", a.0);
                }
                compared += 1;
            }
        }
    }
    assert!(compared > 70, "{compared}");
}

#[test]
fn mistakes_show_at_their_line_of_the_script_or_of_the_plan() {
    let site = Site::examples();
    site.edit(
        "underfrequency.seq",
        "until `frequency trip`, at most 2 s",
        "until `frequency trip`",
    );
    site.edit("underfrequency.seq", "0.1 Hz/s", "0.1 A/s");
    let done = site.waltron(&["check", "q05-t2.plan.toml"]).exits(2);
    assert!(
        done.err().contains("underfrequency.seq:7:")
            && done.err().contains("underfrequency.seq:13:"),
        "{}",
        done.err()
    );
    assert_eq!(done.err().matches("error:").count(), 2, "no follow-up mistakes: {}", done.err());
    let site = Site::examples();
    site.edit("q05-t2.plan.toml", "balanced(0.8 A)", "balanced(0.8 s)");
    let done = site.waltron(&["run", "q05-t2.plan.toml", "--format", "json"]).exits(2);
    let error = &done.json()["error"];
    let line = site.read("q05-t2.plan.toml").lines().position(|l| l.contains("0.8 s")).unwrap() + 1;
    assert_eq!(
        (error["line"].as_u64(), &error["file"]),
        (Some(line as u64), &"q05-t2.plan.toml".into())
    );
    assert!(error["message"].as_str().unwrap().contains("not three phasors of time"), "{error}");
    assert!(
        !site.files().iter().any(|f| f.ends_with(".jsonl")),
        "nothing is written when loading fails"
    );
}

#[test]
fn layout_is_checked_and_a_broken_file_is_left_alone() {
    let site = Site::examples();
    let all: Vec<String> = site.files().into_iter().filter(|f| f.ends_with(".seq")).collect();
    let mut args = vec!["fmt", "--check"];
    args.extend(all.iter().map(String::as_str));
    site.waltron(&args).exits(0);
    site.write("a.seq", "for m in [1,2]   # twice\nwait 2s\nend\n");
    site.waltron(&["fmt", "--check", "a.seq"]).exits(1);
    site.waltron(&["fmt", "a.seq"]).exits(0);
    assert_eq!(site.read("a.seq"), "for m in [1, 2]  # twice\n  wait 2 s\nend\n");
    site.write("b.seq", "for m in [1,2\nwait  2s\n");
    let done = site.waltron(&["fmt", "b.seq"]).exits(2);
    assert!(done.err().contains("b.seq:1:"), "{}", done.err());
    assert_eq!(site.read("b.seq"), "for m in [1,2\nwait  2s\n");
}

#[test]
fn values_in_a_plan_may_be_expressions_of_settings_and_of_each_other() {
    let site = Site::new();
    let plan = "[let]\nload = \"0.4 * nominal.current\"\ntwice = \"2 * load\"\n\n[[test]]\nid = \"51P-pickup\"";
    site.edit("q07-f1.plan.toml", "[[test]]\nid = \"51P-pickup\"", plan);
    site.edit("q07-f1.plan.toml", "prefault = \"0.5 A\"", "prefault = \"twice - 0.3 A\"");
    site.edit("q07-f1.asset.toml", "pickup = \"9.6 A\"", "pickup = \"8 * 51P.pickup\"");
    let check = site
        .waltron(&["check", "q07-f1.plan.toml", "--format", "json", "--timeline"])
        .exits(0)
        .json();
    let of_times =
        check["injections"].as_array().unwrap().iter().find(|i| i["test"] == "51P-times").unwrap();
    let load = &of_times["segments"][1]["profile"]["hold"][0]["rms_a"];
    assert!((load.as_f64().unwrap() - 0.5).abs() < 1e-12, "{load}");
    site.edit("q07-f1.plan.toml", "twice - 0.3 A", "twice - 0.3 s");
    let done = site.waltron(&["check", "q07-f1.plan.toml"]).exits(2);
    assert!(done.err().contains("a time cannot be subtracted from a current"), "{}", done.err());
    assert!(done.err().contains("q07-f1.plan.toml:"), "{}", done.err());
}

#[test]
fn one_off_injections_show_ask_put_out_and_read_back() {
    let site = Site::examples();
    let with = |more: &[&str]| {
        let mut args = vec!["inject"];
        args.extend(more);
        args.extend(["--rig", "q05-t2.rig.toml", "--asset", "q05-t2.asset.toml"]);
        site.waltron(&args)
    };
    let fault = with(&[
        "ia=2.4 A",
        "--prefault",
        "i=0.5 A",
        "--until",
        "trip",
        "--for",
        "10 s",
        "--yes",
        "--format",
        "json",
    ])
    .exits(0)
    .json();
    let trip =
        fault["contacts"].as_array().unwrap().iter().find(|c| c["signal"] == "trip").unwrap();
    assert!((trip["time_s"].as_f64().unwrap() - 3.43).abs() < 0.1, "timed from inception: {trip}");
    let shown = with(&[
        "i=1 A",
        "--harmonic",
        "ib=5:20%@90deg",
        "--frequency",
        "51 Hz",
        "--for",
        "1 s",
        "--yes",
    ])
    .exits(0)
    .out();
    assert!(shown.contains("ib: true RMS 1.02 A, THD 20 %"), "{shown}");
    assert!(shown.find("Maxima").unwrap() < shown.find("Measured at the end").unwrap());
    // Nobody answers: nothing is put out.
    let silent = with(&["ia=1 A", "--for", "1 s"]).exits(4);
    assert!(silent.err().contains("nothing was put out") && !silent.out().contains("Measured"));
    assert!(
        with(&["ia=50 A", "--for", "1 s", "--yes"])
            .exits(2)
            .err()
            .contains("above the rig's range")
    );
    assert!(
        with(&["ia=5 V", "--for", "1 s", "--yes"])
            .exits(2)
            .err()
            .contains("a current, not a voltage")
    );
    assert!(with(&["ia=5 A", "--yes"]).exits(2).err().contains("how long"));
    assert!(with(&["ia=1 A", "--watch"]).exits(2).err().contains("needs a terminal"));
}

/// The language's chapter: every block is a whole script, run on the bench it names.
#[test]
fn every_example_of_the_guide_runs_and_passes() {
    let site = Site::examples();
    let guide = std::fs::read_to_string(
        std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/sequences.md"),
    )
    .unwrap();
    let mut count = 0;
    for block in guide.split("```seq ").skip(1) {
        let (bench, rest) = block.split_once('\n').unwrap();
        let script = &rest[..rest.find("```").unwrap()];
        site.write("block.seq", script);
        site.waltron(&["fmt", "--check", "block.seq"]).exits(0);
        let plan = site.read(&format!("{bench}.plan.toml"));
        let head = &plan[..plan.find("[[test]]").unwrap()];
        site.write(
            "block.plan.toml",
            &format!(
                "{head}[[test]]\nid = \"b\"\nprocedure = \"sequence\"\nscript = \"block.seq\"\n"
            ),
        );
        count += 1;
        let record = format!("{count}.jsonl");
        let done = site.waltron(&[
            "run",
            "block.plan.toml",
            "--yes",
            "--format",
            "json",
            "--record",
            &record,
        ]);
        let passes = done.code() == 0 || (done.code() == 5 && !script.contains("expect"));
        assert!(passes, "{script}\n{}\n{}", done.out(), done.err());
    }
    assert!(count >= 18, "{count} examples");
}

/// A plan that runs one script on the demo relay; `play.seq` and `play.plan.toml`.
fn scripted(site: &Site, script: &str) {
    let plan = site.read("q07-f1.plan.toml");
    let head = plan[..plan.find("[[test]]").unwrap()].replace("q07-f1.rig", "q05-t2.rig");
    site.write("play.seq", script);
    site.write(
        "play.plan.toml",
        &format!("{head}[[test]]\nid = \"p\"\nprocedure = \"sequence\"\nscript = \"play.seq\"\n"),
    );
    if !site.files().iter().any(|f| f == "q07-f1.asset.toml") {
        let demo = Site::new();
        site.write("q07-f1.asset.toml", &demo.read("q07-f1.asset.toml"));
    }
}

#[test]
fn what_cannot_be_played_of_a_recording_is_told_at_its_line() {
    let site = Site::examples();
    site.write("q07-f1.plan.toml", &Site::new().read("q07-f1.plan.toml"));
    for (rest, because) in [
        ("with ia = \"ia\", ia = \"ib\" for 100 ms", "`ia` is played twice"),
        ("with ia = \"ia\" from 2 s to 3 s", "2 s lies outside the recording, which lasts 200 ms"),
        ("with ia = \"ia\" from 0 s to 0.3 s", "300 ms lies outside"),
        ("with ia = \"ia\" from 50 ms to 20 ms", "nothing is left to play"),
        ("with ia = \"ia\" repeat -1 times", "a whole number of times"),
        ("with ia = \"ia\" repeat 2.5 times", "a whole number of times"),
        ("with ia = \"no\"", "no channel `no`"),
    ] {
        scripted(&site, &format!("\nplayback \"inrush.cff\" {rest}\n"));
        let err = site.waltron(&["check", "play.plan.toml"]).exits(2).err();
        assert!(err.contains(because) && err.contains("play.seq:2:"), "{rest}: {err}");
    }
}

/// Layout moves no line, since points without a name are called by theirs.
#[test]
fn layout_keeps_the_names_of_points() {
    let site = Site::examples();
    site.write("q07-f1.plan.toml", &Site::new().read("q07-f1.plan.toml"));
    scripted(&site, "\n\n\nhold  ia=0.2 A for 3 cycles   then off\n\n\nexpect not trip\n\n\n");
    let ids = |site: &Site| {
        let run = ["run", "play.plan.toml", "--format", "json", "--record", "r.jsonl"];
        let run = site.waltron(&run).exits(0).json();
        std::fs::remove_file(site.dir.path().join("r.jsonl")).unwrap();
        outcome(&run)
    };
    let before = ids(&site);
    site.waltron(&["fmt", "play.seq"]).exits(0);
    assert_eq!(
        site.read("play.seq"),
        "\n\n\nhold ia = 0.2 A for 3 cycles then off\n\n\nexpect not trip\n"
    );
    assert_eq!(ids(&site), before);
    assert_eq!(before[0].0, "p/line 7");
}

/// Three cycles of 50 Hz are 60 ms; frequencies that differ are shown channel by channel; chance is
/// drawn from the seed of the command line, and of the record where it is gone on with.
#[test]
fn cycles_frequencies_and_chance_are_what_they_say() {
    let site = Site::examples();
    site.write("q07-f1.plan.toml", &Site::new().read("q07-f1.plan.toml"));
    scripted(
        &site,
        "hold v = balanced(60 V), va.f = 51 Hz, ia = 1 A for 3 cycles\n\
         fault A-N with i = 6 A after prefault v = balanced(60 V) for 500 ms inception random \
         until trip, at most 5 s\nexpect trip as \"trips\"\n",
    );
    let check = site.waltron(&["check", "play.plan.toml", "--timeline", "--format", "json"]);
    let check = check.exits(0).json();
    let held = &check["injections"][0]["segments"][0];
    assert!((held["longest_s"].as_f64().unwrap() - 0.06).abs() < 1e-12, "{held}");
    let shown = site.waltron(&["check", "play.plan.toml", "--timeline"]).exits(0).out();
    for part in ["va 60 V at 51 Hz", "vb 60 V @ -120 deg at 50 Hz", "ia 1 A at 50 Hz"] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    let angle = |seed: Option<&str>, record: &str| {
        let mut args = vec!["run", "play.plan.toml", "--record", record];
        match seed {
            Some(seed) => args.extend(["--seed", seed]),
            None => args.extend(["--redo", "p/trips"]),
        }
        site.waltron(&args).exits(0);
        let text = site.read(record);
        let at = text.rfind("\"at_angle\":{").unwrap();
        text[at..].split('}').next().unwrap().to_owned()
    };
    let (one, two) = (angle(Some("1"), "1.jsonl"), angle(Some("2"), "2.jsonl"));
    assert_ne!(one, two);
    assert_eq!(angle(Some("1"), "3.jsonl"), one);
    assert_eq!(angle(None, "2.jsonl"), two);
}

/// The time of a step that waited is the time until that came true: neither its time-out, nor the
/// nothing after which a contact is found that was closed before.
#[test]
fn a_time_that_tells_nothing_does_not_pass() {
    let site = Site::examples();
    site.write("q07-f1.plan.toml", &Site::new().read("q07-f1.plan.toml"));
    scripted(
        &site,
        "hold i = 0.1 A until trip, at most 2 s then off as quiet\n\
         expect quiet.time < 3 s as \"in vain\"\n\
         hold i = 3 A until trip, at most 5 s as overload\n\
         hold i = 3 A until trip, at most 5 s then off as stuck\n\
         expect overload.time < 5 s as \"trips\"\nexpect stuck.time < 3 s as \"closed before\"\n\
         hold i = 0.1 A for 1 s then off as plain\nexpect plain.time <= 1.1 s as \"held\"\n",
    );
    let run = site.waltron(&["run", "play.plan.toml", "--format", "json"]).exits(1).json();
    let verdicts: Vec<String> = outcome(&run).into_iter().map(|(_, verdict, _)| verdict).collect();
    assert_eq!(verdicts, ["fail", "pass", "inconclusive", "pass"]);
    let reason = |i: usize| run["points"][i]["reason"].as_str().unwrap().to_owned();
    assert!(reason(0).contains("waited 2 s in vain for"), "{}", reason(0));
    assert!(reason(2).contains("already when the step began"), "{}", reason(2));
}

/// Another function on the contact may be faster than the one whose band is asked for: that is told
/// before, at the line, and not where the contact itself is graded.
#[test]
fn a_faster_function_on_the_same_contact_is_told_before() {
    let site = Site::new();
    site.write("q05-t2.rig.toml", &site.read("q07-f1.rig.toml"));
    scripted(
        &site,
        "fault A-N with i = 3 A until trip, at most 8 s then off\n\
         expect time(inception -> trip) within band(51P) as \"own\"\nwait 1 s\n\
         fault A-N with i = 12 A until trip, at most 8 s then off\n\
         expect time(inception -> trip) within band(51P) as \"another\"\n\
         expect time(inception -> trip) within band(trip) as \"contact\"\n",
    );
    let err = site.waltron(&["check", "play.plan.toml"]).exits(0).err();
    // 60 ms less 40 ms: the earliest of the high-set element at 12 A, with 9.6 A as its pickup.
    assert!(err.contains("50P may operate from 20 ms on, on the same contact `trip`"), "{err}");
    assert!(err.contains("play.seq:5:") && err.matches("warning").count() == 1, "{err}");
}
