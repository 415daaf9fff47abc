//! Circuit breakers from end to end: counter, charts with what was kept, an earlier run, graded again.

use crate::support::{Site, points};
use serde_json::Value;
use std::fmt::Write as _;

/// Answers that are given in their order; one that ends in `!` is to a question that is asked once more.
fn answers(site: &Site, readings: &[&str]) {
    let mut text = String::new();
    for reading in readings {
        let question =
            if reading.ends_with('!') { "The operations counter*" } else { "What the operations*" };
        let answer = reading.trim_end_matches('!');
        let _ = writeln!(
            text,
            "[[answer]]\nquestion = \"{question}\"\nanswer = \"{answer}\"\ntimes = 1"
        );
    }
    text.push_str("[[answer]]\nquestion = \"*\"\nanswer = \"ok\"\n");
    site.write("answers.toml", &text);
}

/// Some operations, with what the counter read before and after.
fn run(site: &Site, record: &str, readings: &[&str]) -> Value {
    answers(site, readings);
    let args = ["run", "q05-cb.plan.toml", "--record", record, "--answers", "answers.toml"];
    let only = ["counter-before/*", "operation/*", "motor/*", "counter-after/*"];
    let only: Vec<&str> = only.into_iter().flat_map(|test| ["--only", test]).collect();
    site.waltron(&[&args[..], &["--format", "json"], &only].concat()).json()
}

#[test]
fn a_counter_must_go_on_by_what_was_operated() {
    // By hand from the plan, from closed: C; C, before the second coil's O; C, before O-C-O; the C in it;
    // the one that lets the spring go.
    for (readings, verdict, words) in [
        (&["1040", "1045"][..], "pass", "5 closings, as the run has made"),
        (&["1040", "1046"], "fail", "6 closings, and the run has made 5"),
        (&["1040", "1004", "1045!"], "pass", "from 1040 to 1045"),
        (&["1040", "1004", "1004!"], "fail", "backwards"),
        (&["unknown", "1045"], "measured", "no reading of this run before it"),
        (&["1040", "unknown"], "not_tested", "nobody read"),
    ] {
        let run = run(&Site::examples(), "r.run.jsonl", readings);
        let point = points(&run, "counter-after/")[0];
        let (is, why) = (point["verdict"].as_str().unwrap(), point["reason"].as_str().unwrap());
        assert!(is == verdict && why.contains(words), "{readings:?}: {is}, {why}");
    }
    // Read once more it is held against the reading before the operations, not against itself.
    let site = Site::examples();
    run(&site, "r.run.jsonl", &["1040", "1046"]);
    site.write("again.toml", "[[answer]]\nquestion = \"*\"\nanswer = \"1046\"\n");
    let redo = ["run", "q05-cb.plan.toml", "--redo", "counter-after/*", "--record", "r.run.jsonl"];
    let args = [&redo[..], &["--answers", "again.toml", "--format", "json"]].concat();
    let again = site.waltron(&args).json();
    let point = points(&again, "counter-after/")[0];
    assert!(point["verdict"] == "fail" && point["attempt"] == 2, "{point}");
    assert!(point["reason"].as_str().unwrap().contains("the run has made 5"), "{point}");
}

#[test]
fn operations_are_drawn_with_what_was_kept_and_graded_again() {
    let site = Site::examples();
    run(&site, "r.run.jsonl", &["1040", "1045"]);
    run(&site, "earlier.run.jsonl", &["1035", "1040"]);
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html", "--against", "earlier.run.jsonl"])
        .exits(0);
    let page = site.read("r.html");
    for words in [
        "Q05-Q0 · operation/O-C-O/trip-1",
        "Coil current, A",
        "Travel, deg",
        "Motor current, A",
        "Hollow bars",
        "L2 last at",
    ] {
        assert!(page.contains(words), "{words}");
    }
    assert!(!page.contains("vc, as put out"), "what the wing draws is not drawn again");
    // Without its samples, what contacts and grades tell is drawn all the same.
    std::fs::remove_file(site.dir.path().join("r.operation C.cff")).unwrap();
    site.waltron(&["plot", "r.run.jsonl", "--element", "operation/C", "-o", "c.svg"]).exits(0);
    let picture = site.read("c.svg");
    assert!(picture.contains("52a") && !picture.contains("Coil current"));
    let err =
        site.waltron(&["plot", "r.run.jsonl", "--element", "x", "-o", "d.svg"]).exits(2).err();
    assert!(err.contains("operation/O/trip-1"), "{err}");
    // A limit that is wider passes what failed, from the record.
    site.edit(
        "q05-cb.asset.toml",
        "pole_spread_closing = { max = \"2 ms\" }",
        "pole_spread_closing = { max = \"4 ms\" }",
    );
    site.edit(
        "q05-cb.asset.toml",
        "coil_peak = { min = \"1 A\", max = \"2 A\" }",
        "coil_peak = { max = \"1.2 A\" }",
    );
    let out =
        site.waltron(&["grade", "r.run.jsonl", "--asset", "q05-cb.asset.toml"]).exits(1).out();
    for words in
        ["operation/C/pole-spread-closing", "(was FAIL)", "operation/O/trip-2/coil-peak/trip-2"]
    {
        assert!(out.contains(words), "{words}\n{out}");
    }
}

/// A band of one's own stands in a file beside the asset's; the record holds it, so that it is reported and graded
/// again wherever the record is.
#[test]
fn a_band_of_ones_own_stands_in_the_record() {
    let site = Site::examples();
    let band = |upper: &str| {
        format!(
            "[band]\nname = \"sheet 7\"\nnote = \"read off on site\"\n[[region]]\nfunction = \"long-time\"\npickup = [\"105 %\", \"120 %\"]\nshape = \"points\"\nlower = [[\"1.2 x\", \"200 s\"], [\"3 x\", \"30 s\"]]\nupper = [[\"1.2 x\", \"400 s\"], [\"3 x\", \"{upper}\"]]\n[[region]]\nfunction = \"instantaneous\"\npickup = [\"80 %\", \"120 %\"]\nshape = \"at-once\"\n"
        )
    };
    site.edit("ns1-q1.asset.toml", "band = \"halden-lt\"", "band = \"sheet.band.toml\"");
    let run = [
        "run",
        "ns1-q1.plan.toml",
        "--yes",
        "--record",
        "r.run.jsonl",
        "--only",
        "long-time/3x/L1/*",
    ];
    let err = site.waltron(&run).exits(2).err();
    assert!(
        err.contains("no file `sheet.band.toml`") && err.contains("ns1-q1.asset.toml:"),
        "{err}"
    );
    site.write("sheet.band.toml", &band("20 s"));
    let err = site.waltron(&run).exits(2).err();
    assert!(err.contains("at 3 x the lower limit lies above the upper one"), "{err}");
    site.write("sheet.band.toml", &band("50 s"));
    site.waltron(&run).exits(0);
    let narrow = band("40 s");
    site.write("sheet.band.toml", &narrow);
    // A part of the plan only.
    site.waltron(&["grade", "r.run.jsonl"]).exits(5);
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    assert!(site.read("r.html").contains("sheet 7: read off on site"));
    // By the narrower one it took too long.
    let out =
        site.waltron(&["grade", "r.run.jsonl", "--asset", "ns1-q1.asset.toml"]).exits(1).out();
    assert!(out.contains("above the upper limit"), "{out}");
}

/// A direct-current breaker's waveforms stand beside the record: they are drawn from there, can be measured afterwards,
/// and the record is graded again without them.
#[test]
fn pulses_of_a_dc_breaker_are_kept_drawn_and_graded_again() {
    let site = Site::examples();
    let run = ["run", "tr1-q1.plan.toml", "--yes", "--record", "r.run.jsonl"];
    let out = site.waltron(&run).exits(1);
    let all = format!("{}{}", out.out(), out.err());
    assert!(all.contains("8 of 9 points pass, 1 fail"), "{all}");
    assert!(all.contains("25 files, ") && all.contains("r.*.cff"), "{all}");
    let step = "r.opening-time step 1 of 3.cff";
    let info = site.waltron(&["wave", "info", step]).exits(0).out();
    for words in ["main current", "main voltage", "20000 a second"] {
        assert!(info.contains(words), "{words}: {info}");
    }
    // The largest current of the step, by the file: it opens at about 6.2 kA.
    let line = info.lines().find(|l| l.trim_start().starts_with("main current")).unwrap();
    assert!(line.contains("62") || line.contains("61") || line.contains("6.2 kA"), "{line}");
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    let page = site.read("r.html");
    for words in [
        "TR1-Q1 · level at which it opens",
        "TR1-Q1 · opening on a step",
        "TR1-Q1 · closing against a current",
        "extrapolated to no rise",
        "contacts part",
        "Contacts and joints",
    ] {
        assert!(page.contains(words), "{words}");
    }
    let plot = |element: &str| {
        site.waltron(&["plot", "r.run.jsonl", "--element", element, "-o", "p.svg", "--force"])
    };
    plot("opening-time/opening-time").exits(0);
    assert!(site.read("p.svg").contains("pulse 3"));
    // Another limit passes what was measured; the waveforms are not needed for that.
    site.edit("tr1-q1.asset.toml", "max = \"7 ms\"", "max = \"10 ms\"");
    for file in site.files().iter().filter(|f| f.starts_with("r.") && f.ends_with(".cff")) {
        std::fs::remove_file(site.dir.path().join(file)).unwrap();
    }
    let out =
        site.waltron(&["grade", "r.run.jsonl", "--asset", "tr1-q1.asset.toml"]).exits(0).out();
    assert!(out.contains("opening-time/opening-time"), "{out}");
    // Without them the means are drawn, and nothing else is.
    site.waltron(&["report", "r.run.jsonl", "-o", "bare.html"]).exits(0);
    let bare = site.read("bare.html");
    assert!(bare.contains("level at which it opens") && !bare.contains("opening on a step"));
}

/// What a source cannot give is told by `check`, with the way out.
#[test]
fn a_pulse_longer_than_the_source_gives_is_refused_by_check() {
    let site = Site::examples();
    site.edit("tr1-q1.rig.toml", "longest = \"3 s\"", "longest = \"0.8 s\"");
    let checked = site.waltron(&["check", "tr1-q1.plan.toml"]);
    let all = checked.exits(2);
    let all = format!("{}{}", all.out(), all.err());
    assert!(all.contains("is on for 800 ms at once at most"), "{all}");
}

/// What the sequence language has no words for is not shown as a script that does nothing.
#[test]
fn a_test_without_words_is_no_empty_script() {
    let site = Site::examples();
    for (plan, test) in [
        ("q05-cb.plan.toml", "motor"),
        ("ns1-q1.plan.toml", "long-time"),
        ("tr1-q1.plan.toml", "trip-level"),
        ("q07-ct.plan.toml", "class"),
    ] {
        let text = site.read(plan);
        let test = if text.contains(&format!("id = \"{test}\"")) {
            test.to_owned()
        } else {
            let at = text.find("\nid = \"").unwrap() + 7;
            text[at..].split('"').next().unwrap().to_owned()
        };
        let done = site.waltron(&["check", plan, "--test", &test, "--as-script"]);
        let done = done.exits(2);
        assert!(
            done.out().is_empty() && done.err().contains("has no words for"),
            "{plan}: {}",
            done.err()
        );
    }
}
