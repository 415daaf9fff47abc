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
        "procedure = \"winding-resistance\"\ntemperature = \"16 degC\"\ncurrent = \"5 A\"\n",
        "procedure = \"winding-resistance\"\ntemperature = \"16 degC\"\ncurrent = \"5 A\"\npositions = [\"11..13\"]\n",
    );
    assert!(site.read("t2.plan.toml").contains(&few("winding-2")));
    site
}

const FAILING: [&str; 3] = ["ratio/7/V", "ratio/8/V", "winding-1/12-13/W"];

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
    assert_eq!(run["summary"]["fail"], 3, "{}", run["summary"]);
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
        "NEVER open a circuit that carries direct current",
    ] {
        assert!(page.contains(words), "{words}");
    }
    // Wider limits pass what was measured, without testing and without the samples.
    site.edit("t2.asset.toml", "ratio = \"0.5 %\"", "ratio = \"2 %\"");
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
    let run = ["run", "own.plan.toml", "--yes", "--format", "json", "--record", "r.run.jsonl"];
    let run = site.waltron(&run).json();
    assert_eq!(run["summary"]["not_tested"], 0, "{}", run["summary"]);
    site.waltron(&["new", "asset", "power-transformer", "-o", "own.asset.toml"]).exits(0);
    site.write("own2.plan.toml", "[plan]\ntitle = \"t\"\nasset = \"own.asset.toml\"\nrig = \"t2.rig.toml\"\n[[test]]\nid = \"r\"\nprocedure = \"turns-ratio\"\n");
    site.waltron(&["check", "own2.plan.toml"]).exits(0);
}
