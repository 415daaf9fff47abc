//! Instrument transformers from end to end: curves read, notes added, graded again, reported.

use crate::support::{Site, points};

/// The measuring core of phase A, and the whole winding of the protection core.
fn tested() -> Site {
    let site = Site::examples();
    site.edit(
        "q01-ct.plan.toml",
        "temperature = \"17 degC\"\n",
        "temperature = \"17 degC\"\nresolution = \"quick\"\nphase = \"A\"\n",
    );
    site.edit(
        "q01-ct.asset.toml",
        "[[core.tap]]\nterminals = \"1S1-1S2\"\nprimary = \"200 A\"\nburden = \"2.5 VA\"\n\n",
        "",
    );
    let only = ["class/A/1S1-1S6/*", "class/A/2S1-2S2/*"];
    let args = [
        "run",
        "q01-ct.plan.toml",
        "--record",
        "r.run.jsonl",
        "--only",
        only[0],
        "--only",
        only[1],
    ];
    site.waltron(&args).exits(0);
    site
}

#[test]
fn a_curve_is_read_both_ways_and_notes_stay_with_the_record() {
    let site = tested();
    let read = |args: &[&str]| {
        let all = ["curve", "excitation", "r.run.jsonl", "--format", "json"];
        site.waltron(&[&all[..], args].concat()).exits(0).json()
    };
    let at = read(&["--at", "240 V", "--at", "100 mA", "--place", "A 1S1-1S6"]);
    let rows = at["rows"].as_array().unwrap();
    assert_eq!(rows[0]["emf_v"], 240.0);
    assert_eq!(rows[0].get("above"), None, "below every knee point");
    assert!(rows[1]["above"].as_array().unwrap().iter().any(|k| k == "10/50 %"), "{rows:?}");
    // What is read at a voltage is read back at its current.
    let current = format!("{} A", rows[0]["current_a"]);
    let back = read(&["--at", &current, "--place", "A 1S1-1S6"]);
    let volts = back["rows"][0]["emf_v"].as_f64().unwrap();
    assert!((volts - 240.0).abs() < 0.01, "{volts}");
    let beyond = read(&["--at", "9 kV", "--place", "A 1S1-1S6"]);
    let told = beyond["rows"][0]["lacks"].as_str().unwrap();
    assert!(told.contains("beyond what was measured"), "{told}");
    assert_eq!(read(&[])["rows"].as_array().unwrap().len(), 30, "fifteen of each place");
    let whole = read(&["--whole", "--place", "A 2S1-2S2"]);
    assert!(whole["rows"].as_array().unwrap().len() > 35);
    let text =
        site.waltron(&["curve", "excitation", "r.run.jsonl", "--at", "240 V"]).exits(0).out();
    assert!(text.contains("below every one") && text.contains("A 1S1-1S6"), "{text}");
    for (args, told) in [
        (&["--at", "5 Hz"][..], "neither a voltage nor a current"),
        (&["--place", "A 9S1-9S2"], "no curve was measured at"),
        (&["--at", "x"], "--at"),
    ] {
        let all = ["curve", "excitation", "r.run.jsonl"];
        let err = site.waltron(&[&all[..], args].concat()).exits(2).err();
        assert!(err.contains(told), "{err}");
    }
    site.waltron(&["note", "r.run.jsonl", "terminal <4> was loose", "--by", "R. Amsel"]).exits(0);
    let err = site.waltron(&["note", "r.run.jsonl", "  "]).exits(2).err();
    assert!(err.contains("nothing to note"), "{err}");
    let err = site.waltron(&["note", "none.run.jsonl", "x"]).exits(2).err();
    assert!(err.contains("no such record"), "{err}");
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    let page = site.read("r.html");
    for words in [
        "terminal &lt;4&gt; was loose",
        "Verdict of every place",
        "class 5P20 is met",
        "Classes that would be met",
        "core 1 · excitation",
        "core 2 · errors against current",
        "accuracy limit against burden",
    ] {
        assert!(page.contains(words), "{words}");
    }
    // What stands behind the note vouches for it.
    let text = site.read("r.run.jsonl");
    site.write("r.run.jsonl", &text.replace("was loose", "was tight"));
    let err = site.waltron(&["note", "r.run.jsonl", "x"]).exits(2).err();
    assert!(err.contains("was changed after the test"), "{err}");
}

#[test]
fn a_record_is_graded_again_by_another_class_and_not_by_another_unit() {
    let site = tested();
    site.edit("q01-ct.asset.toml", "class = \"0.2S\"", "class = \"0.5\"");
    site.edit(
        "q01-ct.asset.toml",
        "class = \"5P20\"\nburden = \"15 VA\"",
        "class = \"5P20\"\nburden = \"60 VA\"",
    );
    let args = ["grade", "r.run.jsonl", "--asset", "q01-ct.asset.toml", "--format", "json"];
    let again = site.waltron(&args).exits(1).json();
    let of = |id: &str| points(&again, id)[0]["verdict"].as_str().unwrap().to_owned();
    assert_eq!(of("class/A/1S1-1S6/composite-error"), "fail");
    assert_eq!(of("class/A/2S1-2S2/class"), "pass");
    assert!(points(&again, "class/A/2S1-2S2/ratio-error-1%").is_empty(), "0.5 has no point there");
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    let page = site.read("r.html");
    assert!(page.contains("Graded again") && page.contains("2S1-2S2.class"), "both verdicts stand");
    site.edit("q01-ct.asset.toml", "tag = \"Q01-T1\"", "tag = \"Q02-T1\"");
    let err = site.waltron(&args[..4]).exits(2).err();
    assert!(err.contains("Q01-T1") && err.contains("Q02-T1"), "{err}");
}

/// A rig that does not switch its leads has somebody take them, with outputs off; who skips it gets no
/// verdict of that place.
#[test]
fn leads_are_asked_for_where_the_rig_does_not_switch_them() {
    let site = Site::examples();
    site.edit("q01-ct.rig.toml", "switches_leads = true\n", "");
    site.edit(
        "q01-ct.plan.toml",
        "temperature = \"17 degC\"\n",
        "temperature = \"17 degC\"\nresolution = \"quick\"\ncore = \"2\"\n",
    );
    site.write(
        "a.toml",
        "[[answer]]\nquestion = \"Take the leads to A 2S1-2S2*\"\nanswer = \"ok\"\n[[answer]]\nquestion = \"Take the leads to B*\"\nanswer = \"skip: terminals painted over\"\n[[answer]]\nquestion = \"Take the leads to C*\"\nanswer = \"ok\"\n",
    );
    let args = [
        "run",
        "q01-ct.plan.toml",
        "--answers",
        "a.toml",
        "--format",
        "json",
        "--record",
        "r.run.jsonl",
        "--only",
        "class",
    ];
    let run = site.waltron(&args).exits(5).json();
    let of = |id: &str| points(&run, id)[0].clone();
    assert_eq!(of("class/A/2S1-2S2/class")["verdict"], "pass");
    let skipped = of("class/B/2S1-2S2/class");
    assert_eq!(skipped["verdict"], "not_tested");
    assert!(skipped["reason"].as_str().unwrap().contains("painted over"));
    assert_eq!(of("class/C/2S1-2S2/class")["verdict"], "pass");
    // Once for each place, not for each stage.
    let record = site.read("r.run.jsonl");
    assert_eq!(record.matches("\"event\":\"asked\"").count(), 3);
}

/// Waves on demand: kept beside the record, drawn in the report, and as peaked as a saturated core's are.
#[test]
fn waves_of_a_saturated_core_are_kept_on_demand() {
    let site = Site::examples();
    site.edit("q01-ct.plan.toml", "procedure = \"class\"\ntemperature = \"17 degC\"\n", "procedure = \"excitation\"\nresolution = \"quick\"\nwaveforms = true\nphase = \"A\"\ntap = \"1S1-1S6\"\n");
    site.waltron(&["run", "q01-ct.plan.toml", "--record", "r.run.jsonl"]).exits(0);
    let kept = site.files().into_iter().find(|name| name.contains("saturated")).unwrap();
    let harmonics =
        site.waltron(&["wave", "harmonics", &kept, "--at", "200ms", "--format", "json"]).exits(0);
    assert!(harmonics.out().contains("secondary current"), "{}", harmonics.out());
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    assert!(site.read("r.html").contains("A 1S1-1S6 saturated"));
}

/// Where the plan does not tell the windings' temperature, somebody is asked; what depends on it is open
/// where nobody knows. Grading again knows what was answered.
#[test]
fn a_temperature_that_nobody_wrote_down_is_asked() {
    let site = Site::examples();
    site.edit(
        "q01-ct.plan.toml",
        "temperature = \"17 degC\"\n",
        "resolution = \"quick\"\nphase = \"A\"\ncore = \"2\"\n",
    );
    let args = |record: &'static str| {
        vec!["run", "q01-ct.plan.toml", "--only", "class", "--format", "json", "--record", record]
    };
    let asked = site.waltron(&["check", "q01-ct.plan.toml"]).exits(0).out();
    assert!(asked.contains("How warm are the windings (class)"), "{asked}");
    let unknown = site.waltron(&[&args("u.run.jsonl")[..], &["--yes"]].concat()).exits(5).json();
    let of = |run: &serde_json::Value, what: &str| {
        points(run, &format!("class/A/2S1-2S2/{what}"))[0].clone()
    };
    for (what, verdict) in
        [("ratio", "pass"), ("resistance", "inconclusive"), ("class", "inconclusive")]
    {
        assert_eq!(of(&unknown, what)["verdict"], verdict, "{what}");
    }
    let answer =
        |said: &str| format!("[[answer]]\nquestion = \"How warm*\"\nanswer = \"{said}\"\n");
    for (said, why) in [("17", "unit"), ("900 degC", "-50 °C to 150 °C"), ("17 A", "temperature")]
    {
        site.write("a.toml", &answer(said));
        let more = ["--answers", "a.toml"];
        let err = site.waltron(&[&args("x.run.jsonl")[..], &more].concat()).exits(2);
        assert!(err.err().contains(why) || err.out().contains(why), "{said}: {}", err.err());
    }
    site.write("a.toml", &answer("17 degC"));
    let run = site
        .waltron(&[&args("r.run.jsonl")[..], &["--answers", "a.toml"]].concat())
        .exits(0)
        .json();
    let warm = of(&run, "resistance")["measured"]["resistance_ohm"].as_f64().unwrap();
    // 3.90 Ohm at the specimen's temperature, by hand to 75 °C.
    assert!((warm / (3.90 * 310.0 / 252.0) - 1.0).abs() < 1e-3, "{warm}");
    let again = site.waltron(&["grade", "r.run.jsonl", "--format", "json"]).exits(5).json();
    assert_eq!(of(&again, "resistance")["measured"]["resistance_ohm"].as_f64(), Some(warm));
    // What a plan tells afterwards comes first.
    site.edit("q01-ct.plan.toml", "core = \"2\"\n", "core = \"2\"\ntemperature = \"60 degC\"\n");
    let args = ["grade", "r.run.jsonl", "--plan", "q01-ct.plan.toml", "--format", "json"];
    let again = site.waltron(&args).json();
    let colder = of(&again, "resistance")["measured"]["resistance_ohm"].as_f64().unwrap();
    assert!((colder / (3.90 * 310.0 / 295.0) - 1.0).abs() < 1e-3, "{colder}");
}
