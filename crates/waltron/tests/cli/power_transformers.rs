//! Power transformers from end to end: checked, run with answers, graded again, gone on with, reported.

use crate::support::{Site, points};

/// T2 with fewer positions.
fn site() -> Site {
    let site = Site::examples();
    let few = |id: &str| format!("id = \"{id}\"\n");
    site.edit(
        "t2.plan.toml",
        "procedure = \"turns-ratio\"\n",
        "procedure = \"turns-ratio\"\npositions = [\"6..9\"]\n",
    );
    site.edit(
        "t2.plan.toml",
        "winding = 1\ntemperature = \"16 degC\"\ncurrent = \"5 A\"\n",
        "winding = 1\ntemperature = \"16 degC\"\ncurrent = \"5 A\"\npositions = [\"11..13\"]\n",
    );
    assert!(site.read("t2.plan.toml").contains(&few("winding-2")));
    site
}

const FAILING: [&str; 5] =
    ["bushings/1V/C1", "bushings/1V/C1/capacitance", "ratio/7/V", "ratio/8/V", "winding-1/12-13/W"];

#[test]
fn a_day_at_a_transformer_is_run_reported_and_graded_again() {
    let site = site();
    let check = site.waltron(&["check", "t2.plan.toml"]).exits(0).out();
    assert!(check.contains("10 (principal)") && check.contains("5.5000"), "{check}");
    let run = ["run", "t2.plan.toml", "--yes", "--format", "json", "--record", "r.run.jsonl"];
    let run = site.waltron(&run).exits(1).json();
    for id in FAILING {
        assert_eq!(points(&run, id)[0]["verdict"], "fail", "{id}");
    }
    assert_eq!(run["summary"]["fail"], 5, "{}", run["summary"]);
    let group = &points(&run, "ratio/vector-group")[0];
    assert!(group["reason"].as_str().unwrap().starts_with("YNd5"), "{group}");
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    let page = site.read("r.html");
    for words in [
        "ratio over positions",
        "winding resistance over positions",
        "changes of tap under current",
        "it is what OLTC 8 must give",
        "Largest left to come",
        "losses over frequency",
        "At 20 °C by sweep",
        "Lines differ by",
        "Polarisation index",
        "Motor ran",
        "NEVER open a circuit that carries direct current",
    ] {
        assert!(page.contains(words), "{words}");
    }
    // Wider limits pass what was measured, without testing and without the samples.
    site.edit(
        "t2.asset.toml",
        "ratio = \"0.5 %\"",
        "ratio = \"2 %\"\nbushing_tan_delta = \"1 %\"\ncapacitance = \"12 %\"",
    );
    site.edit("t2.asset.toml", "interruption = \"1 ms\"", "interruption = \"1 s\"");
    for file in site.files().iter().filter(|f| f.ends_with(".cff") && f.starts_with("r.")) {
        std::fs::remove_file(site.dir.path().join(file)).unwrap();
    }
    let grade = ["grade", "r.run.jsonl", "--asset", "t2.asset.toml", "--format", "json"];
    let again = site.waltron(&grade).exits(0).json();
    for id in FAILING {
        assert_eq!(points(&again, id)[0]["verdict"], "pass", "{id}");
    }
    // A difference that is allowed no longer fails all that are graded together.
    site.edit("t2.asset.toml", "difference = \"2 %\"", "difference = \"0.05 %\"");
    let again = site.waltron(&grade).exits(1).json();
    assert_eq!(points(&again, "winding-1/12/difference")[0]["verdict"], "fail");
}

/// Somebody moves the tap changer and takes the leads along: each is asked for once, and who skips a position
/// gets no verdict of it and all others.
#[test]
fn what_somebody_moves_is_asked_for() {
    let site = Site::examples();
    site.edit(
        "at1.plan.toml",
        "procedure = \"turns-ratio\"\n",
        "procedure = \"turns-ratio\"\npositions = [\"1..3\"]\n",
    );
    site.write(
        "a.toml",
        "[[answer]]\nquestion = \"Set DETC to 3*\"\nanswer = \"skip: pointer stuck\"\n[[answer]]\nquestion = \"*\"\nanswer = \"ok\"\n",
    );
    let run = [
        "run",
        "at1.plan.toml",
        "--answers",
        "a.toml",
        "--format",
        "json",
        "--record",
        "r.run.jsonl",
        "--only",
        "ratio/*",
    ];
    let run = site.waltron(&run).exits(1).json();
    let record = site.read("r.run.jsonl");
    let asked = |words: &str| record.matches(&format!("\"text\":\"{words}")).count();
    // Each pair of terminals twice but the last one, and each position once in a row.
    assert_eq!(asked("Take the leads to 1U-1V / 2U-2N"), 2);
    assert_eq!(asked("Take the leads to 1W-1U / 2W-2N"), 1);
    // Where it stands already nobody sets it again; where it was not set it is asked for again.
    assert_eq!(asked("Set DETC to 2; outputs are off"), 1);
    assert_eq!(asked("Set DETC to 3; outputs are off"), 3);
    let skipped = &points(&run, "ratio/3/V")[0];
    assert_eq!(skipped["verdict"], "not_tested");
    assert!(skipped["reason"].as_str().unwrap().contains("pointer stuck"), "{skipped}");
    assert_eq!(points(&run, "ratio/2/V")[0]["verdict"], "pass");
    assert_eq!(points(&run, "ratio/2/exciting")[0]["verdict"], "fail");
}

/// Broken off in the middle of a phase and gone on with: what was graded stays, the rest comes, and each phase is
/// charged anew.
#[test]
fn a_resistance_test_that_was_broken_off_goes_on() {
    let site = site();
    site.write(
        "a.toml",
        "[[answer]]\nquestion = \"Set OLTC to 13*\"\nanswer = \"stop\"\n[[answer]]\nquestion = \"*\"\nanswer = \"ok\"\n",
    );
    site.edit("t2.rig.toml", "switches_leads = true\n", "");
    let only = ["--only", "winding-1/*", "--record", "r.run.jsonl", "--format", "json"];
    let first =
        site.waltron(&[&["run", "t2.plan.toml", "--answers", "a.toml"][..], &only].concat());
    // U goes up to 13 under current, V begins there with nothing flowing.
    let first = first.json();
    assert_eq!(points(&first, "winding-1/13/U")[0]["verdict"], "measured");
    let rest =
        ["run", "t2.plan.toml", "--yes", "--resume", "--record", "r.run.jsonl", "--format", "json"];
    let rest = site.waltron(&rest).exits(1).json();
    for position in [11, 12, 13] {
        let id = format!("winding-1/{position}/difference");
        assert_eq!(points(&rest, &id)[0]["verdict"], "pass", "{id}");
    }
    assert_eq!(points(&rest, "winding-1/12-13/W")[0]["verdict"], "fail");
    // A change by itself is made again, from the position that it leaves.
    let redo = [
        "run",
        "t2.plan.toml",
        "--yes",
        "--redo",
        "winding-1/12-13/W",
        "--record",
        "r.run.jsonl",
        "--format",
        "json",
    ];
    let redo = site.waltron(&redo).exits(1).json();
    let change = points(&redo, "winding-1/12-13/W");
    assert_eq!(change.last().unwrap()["verdict"], "fail");
    assert_eq!(change.last().unwrap()["attempt"], 2, "{change:?}");
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
}

/// The plan of the day follows from the file, and runs.
#[test]
fn a_plan_is_derived_and_runs() {
    let site = Site::examples();
    let new =
        ["new", "plan", "--for", "at1.asset.toml", "--rig", "at1.rig.toml", "-o", "own.plan.toml"];
    site.waltron(&new).exits(0);
    let plan = site.read("own.plan.toml");
    assert!(
        plan.contains("turns-ratio") && plan.matches("winding-resistance").count() == 2,
        "{plan}"
    );
    let order = ["insulation-resistance", "turns-ratio", "impedance", "winding-resistance"];
    let places: Vec<usize> = order.iter().map(|word| plan.find(word).unwrap()).collect();
    assert!(places.is_sorted(), "what magnetises comes last: {plan}");
    assert!(plan.trim_end().ends_with("core-demagnetisation\""), "{plan}");
    // What nobody reads is not tested, and everything else is.
    let run = ["run", "own.plan.toml", "--yes", "--format", "json", "--record", "r.run.jsonl"];
    let run = site.waltron(&run).json();
    assert_eq!(run["summary"]["not_tested"], 6, "{}", run["summary"]);
    site.waltron(&["new", "asset", "power-transformer", "-o", "own.asset.toml"]).exits(0);
    site.write("own2.plan.toml", "[plan]\ntitle = \"t\"\nasset = \"own.asset.toml\"\nrig = \"t2.rig.toml\"\n[[test]]\nid = \"r\"\nprocedure = \"turns-ratio\"\n");
    site.waltron(&["check", "own2.plan.toml"]).exits(0);
}

/// Everything at AT1 with a file of answers: what somebody reads is told with who it was, is graded again by limits that
/// the file gets later, and stands against an earlier run.
#[test]
fn what_somebody_reads_is_graded_again_and_compared() {
    let site = Site::examples();
    let answered = ["run", "at1.plan.toml", "--answers", "at1.answers.toml", "--format", "json"];
    let with = |record: &'static str, seed: &'static str| {
        let mut args = answered.to_vec();
        args.extend(["--record", record, "--seed", seed]);
        site.waltron(&args).exits(1).json()
    };
    let run = with("r.run.jsonl", "1");
    assert_eq!(run["summary"]["not_tested"], 0, "{}", run["summary"]);
    let read = &points(&run, "insulation-resistance/H")[0];
    assert_eq!(read["measured"]["resistance_ohm"], 4.6e9, "{read}");
    // By hand: 8 K below 20 °C, halved for 10 K.
    let told = read["measured"]["resistance_20_ohm"].as_f64().unwrap();
    assert!((told / (4.6e9 * 2f64.powf(-0.8)) - 1.0).abs() < 1e-9, "{told}");
    assert!(read["reason"].as_str().unwrap().contains("read by R. Amsel"), "{read}");
    let index = &points(&run, "insulation-resistance/H/polarisation-index")[0];
    assert!((index["measured"]["index"].as_f64().unwrap() - 7.4 / 4.6).abs() < 1e-12, "{index}");
    site.edit(
        "at1.asset.toml",
        "ratio = \"0.5 %\"",
        "ratio = \"0.5 %\"\ninsulation_resistance = \"2 GOhm\"\npolarisation_index = 1.6",
    );
    let grade = ["grade", "r.run.jsonl", "--asset", "at1.asset.toml", "--format", "json"];
    let again = site.waltron(&grade).exits(1).json();
    for (id, verdict) in [
        ("insulation-resistance/H", "pass"),
        ("insulation-resistance/H/polarisation-index", "pass"),
        ("insulation-resistance/L", "fail"),
        ("insulation-resistance/L/polarisation-index", "fail"),
    ] {
        let point = &points(&again, id)[0];
        assert_eq!(point["verdict"], verdict, "{point}");
        assert!(point["reason"].as_str().unwrap().contains("read by R. Amsel"), "{point}");
    }
    with("later.run.jsonl", "2");
    let report = ["report", "later.run.jsonl", "--against", "r.run.jsonl", "-o", "both.html"];
    site.waltron(&report).exits(0);
    let page = site.read("both.html");
    assert!(page.contains("Against the run of 2026-05-04"), "{}", &page[..2000]);
    assert!(page.contains("The largest change is that of"));
    // A run of another kind of asset is no comparison.
    site.waltron(&["run", "q05-cb.plan.toml", "--yes", "--record", "f1.run.jsonl"]).exits(1);
    let itself = ["report", "later.run.jsonl", "--against", "./later.run.jsonl", "-o", "no.html"];
    assert!(site.waltron(&itself).exits(2).err().contains("this is the run itself"));
    let other = ["report", "later.run.jsonl", "--against", "f1.run.jsonl", "-o", "no.html"];
    assert!(site.waltron(&other).exits(2).err().contains("another kind of asset"));
}

/// Losses and impedances of a record under another temperature, table and nameplate: nothing is measured again.
#[test]
fn losses_are_told_again_by_another_temperature_and_table() {
    let site = Site::examples();
    let only = ["--only", "insulation", "--only", "impedance", "--only", "zero-sequence"];
    let mut run =
        vec!["run", "t2.plan.toml", "--yes", "--format", "json", "--record", "r.run.jsonl"];
    run.extend(only);
    let before = site.waltron(&run).exits(0).json();
    let at = |run: &serde_json::Value, id: &str, name: &str| {
        points(run, id)[0]["measured"][name].as_f64().unwrap_or(f64::NAN)
    };
    // The oil was colder than somebody wrote down: less of its losses is warmth.
    site.edit(
        "t2.plan.toml",
        "procedure = \"tan-delta\"\ntemperature = \"31 degC\"",
        "procedure = \"tan-delta\"\ntemperature = \"26 degC\"",
    );
    site.edit("t2.asset.toml", "class = \"sealed\"", "class = \"breathing\"");
    site.edit("t2.asset.toml", "impedance = \"10.4 %\"", "impedance = \"8 %\"");
    let grade = [
        "grade",
        "r.run.jsonl",
        "--asset",
        "t2.asset.toml",
        "--plan",
        "t2.plan.toml",
        "--format",
        "json",
    ];
    let again = site.waltron(&grade).exits(1).json();
    let (was, is) =
        (at(&before, "insulation/HL", "by_sweep_pct"), at(&again, "insulation/HL", "by_sweep_pct"));
    assert!(is > 1.1 * was, "{was} {is}");
    let [was, is] = [&before, &again].map(|run| at(run, "insulation/HL", "tan_delta_pct"));
    assert!((was / is - 1.0).abs() < 1e-6, "as it was measured: {was} {is}");
    // By hand: between 1 and 0.72 at 30 °C, by the logarithm, six tenths of the way.
    let factor = 0.72f64.powf(0.6);
    let table =
        at(&again, "insulation/HL", "by_table_pct") / at(&again, "insulation/HL", "tan_delta_pct");
    assert!((table / factor - 1.0).abs() < 1e-6, "{table} {factor}");
    assert_eq!(points(&again, "impedance/10/impedance")[0]["verdict"], "fail");
    // A table of one's own stands beside the asset's file, and in the record.
    site.write("own.correction.toml", "[correction]\nname = \"own\"\n[[class]]\nid = \"a\"\nfactors = [[\"20 degC\", \"1 x\"], [\"40 degC\", \"0.25 x\"]]\n");
    site.edit(
        "t2.asset.toml",
        "correction = \"oil-paper\"\nclass = \"breathing\"",
        "correction = \"own.correction.toml\"",
    );
    let again = site.waltron(&grade).exits(1).json();
    let table =
        at(&again, "insulation/HL", "by_table_pct") / at(&again, "insulation/HL", "tan_delta_pct");
    assert!((table / 0.25f64.powf(0.3) - 1.0).abs() < 1e-6, "{table}");
    site.write("own.correction.toml", "[correction]\nname = \"own\"\nclass = 3\n");
    let broken = site.waltron(&["check", "t2.plan.toml"]).exits(2).err();
    assert!(broken.contains("own.correction.toml:"), "{broken}");
}

/// A stop between two parts loses none that was read; what was skipped is offered again, and a stop of the tester is no
/// verdict.
#[test]
fn a_stop_loses_nothing_that_was_typed() {
    let site = Site::examples();
    let answers = site.read("at1.answers.toml");
    let (part, last) = ("H: L measured, tank guarded after 60 s", "answer = \"7.9 GOhm\"");
    assert!(answers.contains(part) && answers.contains(last));
    site.write("stop.toml", &answers.replace(last, "answer = \"stop\""));
    site.write("skip.toml", &answers.replace(last, "answer = \"skip: instrument flat\""));
    let run = |answers: &str, record: &str, code: i32| {
        let all = ["run", "at1.plan.toml", "--only", "insulation-resistance", "--answers"];
        let args: Vec<&str> =
            all.into_iter().chain([answers, "--record", record, "--format", "json"]).collect();
        site.waltron(&args).exits(code).json()
    };
    let stopped = run("stop.toml", "r.run.jsonl", 4);
    let ids: Vec<&str> = points(&stopped, "insulation-resistance")
        .iter()
        .map(|p| p["id"].as_str().unwrap())
        .collect();
    assert_eq!(ids, ["insulation-resistance/H", "insulation-resistance/H/polarisation-index"]);
    let resume = ["run", "at1.plan.toml", "--resume", "--only", "insulation-resistance"];
    let more = ["--answers", "at1.answers.toml", "--record", "r.run.jsonl", "--format", "json"];
    let args: Vec<&str> = resume.into_iter().chain(more).collect();
    let whole = site.waltron(&args).exits(0).json();
    assert_eq!(whole["summary"]["measured"], 6, "{}", whole["summary"]);
    let skipped = run("skip.toml", "s.run.jsonl", 5);
    assert_eq!(skipped["summary"]["not_tested"], 4, "{}", skipped["summary"]);
    let skipped = "[[answer]]\nquestion = \"*skipped before*\"\nanswer = \"test it now\"\n\n";
    site.write("redo.toml", &format!("{skipped}{answers}"));
    let resume = ["run", "at1.plan.toml", "--redo", "not-passed"];
    let more = ["--answers", "redo.toml", "--record", "s.run.jsonl", "--format", "json"];
    let args: Vec<&str> = resume.into_iter().chain(more).collect();
    let whole = site.waltron(&args).exits(0).json();
    assert_eq!(whole["summary"]["not_tested"], 0, "{}", whole["summary"]);
}

/// The sheet names every place that the run goes to for certain, and draws it; what is only looked for is not on it.
#[test]
fn every_place_stands_on_the_sheet() {
    let site = Site::examples();
    site.waltron(&["hookup", "t2.plan.toml", "-o", "h.html"]).exits(0);
    let page = site.read("h.html");
    assert!(page.contains("dashed with V is read") && page.contains(">2W</text>"), "drawn");
    for (plan, least) in [("t2.plan.toml", 20), ("q01-vt.plan.toml", 6)] {
        let sheet = site.waltron(&["hookup", plan]).exits(0).out();
        let record = format!("{plan}.run.jsonl");
        let code = site.waltron(&["run", plan, "--yes", "--record", &record]).code();
        assert!(code < 2, "{plan}: {code}");
        let mut places = std::collections::BTreeSet::new();
        for line in site.read(&record).lines() {
            let line: serde_json::Value = serde_json::from_str(line).unwrap();
            if let Some(place) = line["program"]["connection"].as_str() {
                places.insert(place.to_owned());
            }
        }
        assert!(places.len() >= least, "{places:?}");
        for place in &places {
            let line = sheet.lines().any(|line| line.trim_end().ends_with(&format!(" {place}")));
            assert!(line, "{place}: {sheet}");
        }
        // The nine that look for another group are no part of it.
        assert!(!sheet.contains("1U-1N / 2U-2V"), "{sheet}");
    }
}

/// Graded again by the same files nothing changes: neither what passes nor what proves nothing.
#[test]
fn the_same_files_give_the_same_verdicts() {
    let site = Site::examples();
    site.waltron(&["run", "t2.plan.toml", "--yes", "--record", "r.run.jsonl"]).exits(1);
    let answered = ["run", "at1.plan.toml", "--answers", "at1.answers.toml", "--record"];
    let args: Vec<&str> = answered.into_iter().chain(["s.run.jsonl"]).collect();
    site.waltron(&args).exits(1);
    for (record, name) in [("r.run.jsonl", "t2"), ("s.run.jsonl", "at1")] {
        let (asset, plan) = (format!("{name}.asset.toml"), format!("{name}.plan.toml"));
        let args = ["grade", record, "--asset", asset.as_str(), "--plan", plan.as_str()];
        let again = site.waltron(&args).exits(1).out();
        assert!(again.contains("no verdict changed"), "{again}");
        assert!(!site.read(record).contains("not graded again"), "{record}");
    }
}

/// The sheet of one test lists what is to be seen to because of it, and not because of the others; of what somebody
/// reads by hand, too, of which nothing is connected.
#[test]
fn the_sheet_of_one_test_lists_its_own_precautions() {
    let site = Site::examples();
    let sheet = |args: &[&str]| site.waltron(&[&["hookup"], args].concat()).exits(0).out();
    let of = |test: &str| sheet(&["t2.plan.toml", "--test", test]);
    let (losses, winding) = ("Clean and dry the bushings", "While a resistance is measured");
    let whole = sheet(&["t2.plan.toml"]);
    assert!(whole.contains(losses) && whole.contains(winding), "{whole}");
    assert!(of("insulation").contains(losses) && !of("insulation").contains(winding));
    assert!(of("winding-1").contains(winding) && !of("winding-1").contains(losses));
    // What has no tap changer has none to be put back.
    let stand = "Write down where the tap changers stand";
    assert!(whole.contains(stand) && whole.contains("Put the tap changers back"), "{whole}");
    let plain = Site::examples();
    let text = plain.read("t2.asset.toml");
    let from = text.find("[[tap_changer]]").unwrap();
    let to = from + 2 + text[from + 2..].find("\n[").unwrap();
    plain.write("t2.asset.toml", &format!("{}{}", &text[..from], &text[to..]));
    let without = plain.waltron(&["hookup", "t2.plan.toml", "--test", "impedance"]);
    let without = without.exits(0).out();
    assert!(without.contains("Earth all bushings"), "{without}");
    assert!(!without.contains("tap changer"), "{without}");
    // Each stands once, however many tests want it.
    assert_eq!(whole.matches(losses).count(), 1, "{whole}");
    // It stands under the tests that want it; what all of them want stands above.
    let under = |what: &str| {
        let lines = whole.lines().take_while(|line| !line.contains(what));
        lines.filter(|l| l.starts_with("For ") || *l == "Before connecting").last()
    };
    assert_eq!(under(losses), Some("For tests insulation, bushings"));
    assert_eq!(under(winding), Some("For tests winding-1, winding-2"));
    assert_eq!(under("four wires"), Some("Before connecting"));
    let by_hand = sheet(&["at1.plan.toml", "--test", "insulation-resistance"]);
    assert!(by_hand.contains("Nothing of the rig is connected"), "{by_hand}");
    // What somebody puts on is as dangerous as what the rig does.
    for line in [
        "dead, isolated and earthed",
        "fence the whole transformer off",
        "Earth all bushings before",
        "5 kV on H: L+tank measured",
        "500 V on L: H+tank measured",
    ] {
        assert!(by_hand.contains(line), "{line} is not in\n{by_hand}");
    }
    assert!(by_hand.contains("earth what was energised for four times as long"), "{by_hand}");
}

/// Graded again, the samples of a change of tap are taken from beside the record; without them it is no worse.
#[test]
fn a_change_of_tap_is_graded_again_with_its_samples() {
    let site = Site::examples();
    let run = ["run", "t2.plan.toml", "--yes", "--record", "r.run.jsonl", "--only", "winding-1/1*"];
    let code = site.waltron(&run).code();
    assert!([0, 1, 5].contains(&code));
    let again = site.waltron(&["grade", "r.run.jsonl", "--format", "json"]).json();
    let changes = again["points"].as_array().unwrap().iter();
    let changes: Vec<_> = changes.filter(|p| p["criterion"] == "tap_change").collect();
    assert!(!changes.is_empty());
    for point in &changes {
        let reason = point["reason"].as_str().unwrap();
        assert!(!reason.contains("samples"), "{reason}");
    }
    // Without its files it is told by what the record holds, and no worse.
    let kept = site.files().into_iter().filter(|file| file.ends_with(".cff"));
    kept.for_each(|file| std::fs::remove_file(site.dir.path().join(file)).unwrap());
    let lost = site.waltron(&["grade", "r.run.jsonl", "--format", "json"]).json();
    for point in lost["points"].as_array().unwrap() {
        let before = again["points"].as_array().unwrap().iter().find(|p| p["id"] == point["id"]);
        assert_eq!(point["verdict"], before.unwrap()["verdict"], "{}", point["id"]);
    }
}
