//! Each mistake gets a clear message with its place and a way out, exit 2, and nothing is written.

use crate::support::Site;

/// Edits a sample file and expects the run to be refused with a message, nothing written.
#[track_caller]
fn refused(file: &str, from: &str, to: &str, message: &str) {
    let site = Site::new();
    site.edit(file, from, to);
    let before = site.files();
    let done = site.waltron(&["run", "q07-f1.plan.toml"]).exits(2);
    assert!(done.err().contains(message), "{}", done.err());
    assert!(
        done.err().contains(&format!("{file}:")) || done.err().contains("q07-f1.plan.toml:"),
        "{}",
        done.err()
    );
    assert_eq!(done.out(), "");
    assert_eq!(site.files(), before, "nothing is written");
}

#[test]
fn mistakes_in_the_asset() {
    let asset = "q07-f1.asset.toml";
    refused(asset, "pickup = \"1.2 A\"", "pickp = \"1.2 A\"", "did you mean `pickup`?");
    refused(asset, "pickup = \"1.2 A\"", "", "element `51P` has no `pickup`");
    refused(asset, "1.2 A", "1.2 amp", "did you mean `A`?");
    refused(asset, "1.2 A", "1.2 V", "`1.2 V` is a voltage, but a current is wanted");
    refused(asset, "1.2 A", "0 A", "must be above zero");
    refused(asset, "1.2 A", "-1.2 A", "must be above zero");
    refused(asset, "1.2 A", "NaN A", "not a finite number");
    refused(asset, "1.2 A", "inf A", "not a finite number");
    refused(asset, "tms = 0.30", "tms = 0", "must be above zero");
    refused(asset, "tms = 0.30", "tms = nan", "not a finite number");
}

#[test]
fn mistakes_in_the_plan() {
    let plan = "q07-f1.plan.toml";
    refused(plan, "0.95 x", "-0.95 x", "must be above zero");
    refused(plan, "id = \"51P-times\"", "id = \"51P/times\"", "a test's id has no `/`");
    let ramp = "element = \"51P\"\nfrom = \"0.001 x\"\nto = \"20000 x\"";
    refused(plan, "element = \"51P\"", ramp, "more than 100000 levels");
    refused(plan, "7 x\"]", "7 x\"]\nof = \"relay\"", "use one of element, contact");
    refused(plan, "element = \"51P\"", "element = \"51Q\"", "did you mean `51P`?");
    refused(plan, "\"A-B-C\"", "\"A-B-D\"", "there is no loop `A-B-D`");
    refused(plan, "q07-f1.asset.toml", "q99.asset.toml", "there is no file `q99.asset.toml`");
    refused(
        plan,
        "7 x\"]",
        "95 x\"]\nof = \"contact\"",
        "114 A on ia is above the rig's range of 32 A",
    );
    refused(
        plan,
        "7 x\"]",
        "95 x\"]\nof = \"contact\"",
        "above the asset's highest thermal rating, 100 A for 1 s",
    );
    refused(
        "q07-f1.rig.toml",
        "meaning = \"trip\"",
        "meaning = \"tripp\"",
        "no input of the rig is wired to 51P's contact `trip`",
    );
}

#[test]
fn all_mistakes_of_a_file_show_at_once() {
    let site = Site::new();
    site.edit("q07-f1.asset.toml", "1.2 A", "1.2 s");
    site.edit("q07-f1.asset.toml", "60 ms", "60 mA");
    let done = site.waltron(&["check", "q07-f1.plan.toml", "--format", "json"]).exits(2);
    let errors = done.json()["errors"].clone();
    assert_eq!(errors.as_array().unwrap().len(), 2);
    assert_eq!(errors[0]["file"], "q07-f1.asset.toml");
    let text = site.read("q07-f1.asset.toml");
    let line = 1 + text.lines().position(|l| l.contains("1.2 s")).unwrap();
    assert_eq!(errors[0]["line"], line);
    assert_eq!(errors[0]["column"], 10);
    assert!(errors[1]["message"].as_str().unwrap().contains("is a current, but a time"));
    assert!(done.err().is_empty());
}

#[test]
fn files_that_are_no_plans() {
    let site = Site::new();
    let refused = |name: &str, message: &str| {
        let err = site.waltron(&["run", name]).exits(2).err();
        assert!(err.contains(message) && err.contains(name), "{err}");
    };
    site.write("empty.plan.toml", "");
    refused("empty.plan.toml", "the file has no `[plan]`");
    site.write(
        "none.plan.toml",
        "[plan]\ntitle = \"x\"\nasset = \"q07-f1.asset.toml\"\nrig = \"q07-f1.rig.toml\"\n",
    );
    refused("none.plan.toml", "the plan has no tests");
    std::fs::write(site.dir.path().join("binary.plan.toml"), [0x7f, 0x45, 0xff, 0x00, 0xfe])
        .unwrap();
    refused("binary.plan.toml", "no UTF-8 text");
    std::fs::create_dir(site.dir.path().join("folder.plan.toml")).unwrap();
    refused("folder.plan.toml", "this is a folder");
    refused("q07-f1.plan.tom", "did you mean `q07-f1.plan.toml`?");
    let huge = std::fs::File::create(site.dir.path().join("huge.plan.toml")).unwrap();
    huge.set_len(200 << 20).unwrap();
    refused("huge.plan.toml", "200 MiB is too large");
}

#[test]
fn existing_files_are_never_written_over() {
    let site = Site::new();
    site.write("r.run.jsonl", "mine");
    site.waltron(&["run", "q08-f2.plan.toml", "--record", "r.run.jsonl"]).exits(2);
    assert_eq!(site.read("r.run.jsonl"), "mine");
    site.waltron(&["run", "q08-f2.plan.toml", "--record", "s.run.jsonl"]).exits(0);
    site.write("s.html", "mine");
    let done = site.waltron(&["report", "s.run.jsonl", "-o", "s.html"]).exits(2);
    assert!(done.err().contains("--force") && site.read("s.html") == "mine");
    site.waltron(&["report", "s.run.jsonl", "-o", "s.html", "--force"]).exits(0);
    assert!(
        site.waltron(&["report", "s.run.jsonl", "-o", "s.xyz"]).exits(2).err().contains(".html")
    );
    assert!(
        site.waltron(&["report", "q07-f1.asset.toml", "-o", "t.html"])
            .exits(2)
            .err()
            .contains("this is an asset, and a run record is wanted")
    );
}

#[test]
fn a_prompt_that_nobody_can_answer_stops_the_run_and_keeps_what_was_measured() {
    let site = Site::new();
    site.edit(
        "q08-f2.plan.toml",
        "at = [\"0.95 x\", \"1.5 x\"",
        "reset = \"ask\"\nat = [\"0.95 x\", \"1.5 x\"",
    );
    let stopped = site.waltron(&["run", "q08-f2.plan.toml", "--record", "r.run.jsonl"]).exits(4);
    assert!(stopped.err().contains("--yes") && stopped.out().contains("not reached"));
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    assert!(site.read("r.html").contains("The run was stopped"));
    site.waltron(&["run", "q08-f2.plan.toml", "--record", "y.run.jsonl", "--yes"]).exits(0);
}
