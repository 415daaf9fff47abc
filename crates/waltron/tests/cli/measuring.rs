//! Measuring by hand, and files to begin with.

use crate::support::Site;

const BENCH: [&str; 6] =
    ["--rig", "q07-ct.rig.toml", "--asset", "q07-ct.asset.toml", "--for", "1 min"];

fn inject<'a>(what: &'a str, more: &[&'a str]) -> Vec<&'a str> {
    let mut all = vec!["inject", what, "--yes"];
    all.extend(BENCH);
    all.extend(more);
    all
}

#[test]
fn two_readings_and_a_third_worked_out_from_them() {
    let site = Site::examples();
    let ratio = "ratio = secondary voltage / primary voltage";
    let args = inject(
        "vs=40 V",
        &["--read", "secondary voltage", "--read", "primary voltage", "--derive", ratio],
    );
    let out = site.waltron(&args).exits(0).out();
    assert!(out.contains("in phase: same polarity"), "{out}");
    let row = out.lines().find(|l| l.trim_start().starts_with("ratio")).unwrap();
    assert!(row.contains("599.9") || row.contains("600.0") || row.contains("599.8"), "{row}");
    assert!(!out.contains("burden voltage"), "what was not asked for is not shown\n{out}");
    let args: Vec<&str> = args.into_iter().chain(["--format", "json"]).collect();
    let json = site.waltron(&args).exits(0).json();
    let derived = &json["derived"]["ratio"];
    let (value, u) = (derived["value"]["value"].as_f64(), derived["uncertainty"]["value"].as_f64());
    let (value, u) = (value.unwrap(), u.unwrap());
    // 0.03 % of 40 V and 0.5 mV; 0.03 % of 67 mV and 10 uV: limits, added as squares.
    let parts: [f64; 4] = [0.0003, 0.0005 / 40.0, 0.0003, 10e-6 / (40.0 / 599.9)];
    let root = parts.iter().map(|part| part * part).sum::<f64>().sqrt();
    assert!((u / value - 2.0 / 3f64.sqrt() * root).abs() < 1e-6, "{u}");
    assert_eq!(json["readings"].as_array().unwrap().len(), 3);
    assert_eq!(derived["probe"]["of"]["quotient"][0], "secondary voltage");
}

#[test]
fn a_resistance_is_waited_for_by_hand() {
    let site = Site::examples();
    let until = "steady(dc(`secondary voltage` / `secondary current`), 0.1 %, 2 s)";
    let derive = "resistance = secondary voltage / secondary current";
    let args = inject("is.dc=0.5 A", &["--until", until, "--derive", derive, "--format", "json"]);
    let json = site.waltron(&args).exits(0).json();
    let ohms = json["derived"]["resistance"]["value"]["value_ohm"].as_f64().unwrap();
    assert!((ohms - 3.72).abs() < 0.01, "{ohms}");
    assert!(json["length_s"].as_f64().unwrap() < 30.0, "it did not wait for the end");
}

#[test]
fn what_cannot_be_measured_or_put_out_is_told_with_a_way_out() {
    let site = Site::examples();
    let cases: [(&str, &[&str], &str); 7] = [
        ("vs=40 V", &["--read", "primry voltage"], "is `primary voltage` meant?"),
        ("vs=40 V", &["--derive", "secondary voltage"], "has no name"),
        ("vs=40 V", &["--derive", "x = secondary voltage / 3"], "a quotient is of two signals"),
        (
            "vs=40 V",
            &["--derive", "x = secondary voltage - secondary current"],
            "different quantities",
        ),
        ("is=1 A", &[], "puts out DC only"),
        ("vs.dc=10 V", &[], "puts out AC only"),
        ("vs=101 V", &[], "above the asset's highest thermal rating"),
    ];
    for (what, more, wanted) in cases {
        let err = site.waltron(&inject(what, more)).exits(2).err();
        assert!(err.contains(wanted), "{what} {more:?}\n{err}");
        assert!(err.contains("help:"), "{err}");
    }
    let out =
        site.waltron(&inject("vs=40 V", &["--derive", "x = vs / burden voltage"])).exits(0).out();
    assert!(out.contains("no value: `burden voltage` shows no more than its meter"), "{out}");
}

#[test]
fn a_specimen_of_another_family_does_not_fit_the_wiring() {
    let site = Site::examples();
    let rig = std::fs::read_to_string(site.dir.path().join("q07-ct.rig.toml")).unwrap();
    site.write("odd.rig.toml", &rig.replace("q07-ct.specimen.toml", "q05-t2.specimen.toml"));
    let err = site.waltron(&["run", "q07-ct.plan.toml", "--rig", "odd.rig.toml"]).exits(2).err();
    assert!(
        err.contains("nothing called `secondary voltage`") && err.contains("odd.rig.toml:"),
        "{err}"
    );
    site.write("odd.rig.toml", &format!("{rig}\n[[meter]]\nid = \"M9\"\nmeaning = \"tertiary voltage\"\nmeasures = \"voltage\"\nrange = \"1 V\"\n"));
    let err = site.waltron(&["check", "q07-ct.plan.toml", "--rig", "odd.rig.toml"]).exits(2).err();
    assert!(err.contains("`tertiary voltage`; it has") && err.contains("burden voltage"), "{err}");
}

#[test]
fn a_new_asset_leads_to_a_plan_that_runs() {
    let site = Site::examples();
    for (kind, rig) in [("relay", "q05-t2.rig.toml"), ("current-transformer", "q07-ct.rig.toml")] {
        site.waltron(&["new", "asset", kind, "-o", "new.asset.toml", "--force"]).exits(0);
        let args = [
            "new",
            "plan",
            "--for",
            "new.asset.toml",
            "--rig",
            rig,
            "-o",
            "new.plan.toml",
            "--force",
        ];
        site.waltron(&args).exits(0);
        let plan = std::fs::read_to_string(site.dir.path().join("new.plan.toml")).unwrap();
        assert!(plan.contains("asset = \"new.asset.toml\"") && plan.contains(rig), "{plan}");
        if kind == "relay" {
            site.waltron(&["check", "new.plan.toml"]).exits(0);
        } else {
            site.waltron(&["run", "new.plan.toml", "--record", "new.run.jsonl"]).exits(0);
        }
        // What is there is not overwritten unasked.
        let args = ["new", "plan", "--for", "new.asset.toml", "-o", "new.plan.toml"];
        site.waltron(&args).exits(2);
    }
    let err = site.waltron(&["new", "asset", "rely"]).exits(2).err();
    assert!(err.contains("did you mean `relay`?"), "{err}");
    site.write("odd.asset.toml", "[asset]\nkind = \"current-transformr\"\ntag = \"x\"\n");
    let err = site.waltron(&["new", "plan", "--for", "odd.asset.toml"]).exits(2).err();
    assert!(
        err.contains("did you mean `current-transformer`?") && err.contains("odd.asset.toml:2"),
        "{err}"
    );
}

#[test]
fn what_is_only_measured_counts_neither_for_nor_against() {
    let site = Site::examples();
    let asset = std::fs::read_to_string(site.dir.path().join("q07-ct.asset.toml")).unwrap();
    let bare = asset.replace("resistance = \"4.5 Ohm\"\nreference = \"75 degC\"\n", "");
    site.write("q07-ct.asset.toml", &bare);
    let args = ["run", "q07-ct.plan.toml", "--record", "m.run.jsonl", "--format", "json"];
    let json = site.waltron(&args).exits(0).json();
    assert_eq!(json["summary"]["measured"], 1);
    assert_eq!(json["summary"]["pass"], 3);
    let args = ["run", "q07-ct.plan.toml", "--redo", "not-passed", "--record", "m.run.jsonl"];
    let again = site.waltron(&args);
    assert!(!again.out().contains("winding/resistance"), "{}", again.out());
    let args = ["run", "q07-ct.plan.toml", "--only", "winding/*", "--record", "w.run.jsonl"];
    let out = site.waltron(&args).exits(0).out();
    assert!(out.contains("MEASURED") && !out.contains("PASS"), "{out}");
    site.waltron(&["report", "w.run.jsonl", "-o", "w.html"]).exits(0);
    let html = std::fs::read_to_string(site.dir.path().join("w.html")).unwrap();
    assert!(html.contains("NOT FULLY TESTED") && html.contains("Not asked for"), "a part only");
    // Graded again with the maker's value it is held against that.
    site.write("q07-ct.asset.toml", &asset);
    let args = ["grade", "w.run.jsonl", "--asset", "q07-ct.asset.toml"];
    let out = site.waltron(&args).exits(5).out();
    assert!(out.contains("✓ pass"), "{out}");
}

#[test]
fn what_meters_saw_is_kept_beside_the_record_and_told_from_what_was_put_out() {
    let site = Site::examples();
    let plan = "[plan]\ntitle = \"c\"\nasset = \"q07-ct.asset.toml\"\nrig = \"q07-ct.rig.toml\"\n\
        [[test]]\nid = \"excite\"\nprocedure = \"sequence\"\nscript = \"\"\"\n\
        capture step\nhold vs = 40 V for 300 ms\n\
        read ratio = magnitude(`secondary voltage` / `primary voltage`)\n\
        expect ratio is 600 within 0.5 % as \"ratio\"\noff\n\"\"\"\n";
    site.write("c.plan.toml", plan);
    site.waltron(&["run", "c.plan.toml", "--record", "c.run.jsonl"]).exits(0);
    let file = site.dir.path().join("c.step.cff");
    let bytes = std::fs::read(&file).unwrap();
    let record = std::fs::read_to_string(site.dir.path().join("c.run.jsonl")).unwrap();
    let kept = record.lines().find(|l| l.contains("\"event\":\"kept\"")).unwrap();
    let kept: serde_json::Value = serde_json::from_str(kept).unwrap();
    assert_eq!(kept["file"], "c.step.cff");
    assert_eq!(kept["digest"], blake3::hash(&bytes).to_hex().as_str());
    assert_eq!(kept["measured"].as_array().unwrap().len(), 5);
    let info = site.waltron(&["wave", "info", "c.step.cff", "--format", "json"]).exits(0).json();
    let circuit = |id: &str| {
        let all = info["analog"].as_array().unwrap();
        all.iter().find(|c| c["id"] == id).unwrap()["circuit"].clone()
    };
    assert_eq!(circuit("vs"), "as put out");
    assert_eq!(circuit("primary voltage"), "measured");
    site.waltron(&["report", "c.run.jsonl", "-o", "c.html"]).exits(0);
    let html = std::fs::read_to_string(site.dir.path().join("c.html")).unwrap();
    assert!(html.contains("c.step.cff") && html.contains("primary voltage"));
    // It is drawn, what was measured apart from what was put out; another file in its place is not.
    assert!(html.contains("excite · step") && html.contains("vs, as put out"));
    std::fs::write(&file, &bytes[..bytes.len() - 1]).unwrap();
    site.waltron(&["report", "c.run.jsonl", "-o", "changed.html"]).exits(0);
    let changed = std::fs::read_to_string(site.dir.path().join("changed.html")).unwrap();
    assert!(changed.contains("is not the file that was kept"));
    std::fs::remove_file(&file).unwrap();
    site.waltron(&["report", "c.run.jsonl", "-o", "gone.html"]).exits(0);
    let gone = std::fs::read_to_string(site.dir.path().join("gone.html")).unwrap();
    assert!(gone.contains("is not beside the record"));
    assert!(!changed.contains("excite · step") && !gone.contains("excite · step"));
    // The uncertainty of the ratio is that of both meters, and stands with the point.
    let graded = record.lines().find(|l| l.contains("excite/ratio")).unwrap();
    assert!(record.contains("\"uncertainty\":{\"u\":") && graded.contains("excite/ratio"));
}

#[test]
fn what_was_measured_by_hand_becomes_a_record_and_a_report() {
    let site = Site::examples();
    let derive = "ratio = secondary voltage / primary voltage";
    let args = inject("vs=40 V", &["--derive", derive, "--record", "hand.run.jsonl"]);
    let out = site.waltron(&args).exits(0).out();
    assert!(out.contains("waltron report hand.run.jsonl"), "{out}");
    site.waltron(&["report", "hand.run.jsonl", "-o", "hand.html"]).exits(0);
    let html = std::fs::read_to_string(site.dir.path().join("hand.html")).unwrap();
    for told in
        ["MEASURED", "secondary voltage / primary voltage", "in phase: same polarity", "take-1"]
    {
        let at = html.find("stamp").unwrap_or(0);
        let stamps: String = html.chars().skip(at).take(300).collect();
        assert!(html.contains(told), "{told}: {stamps}");
    }
    // It is not written over, and nothing is put out for it.
    let err = site.waltron(&args).exits(2).err();
    assert!(err.contains("hand.run.jsonl") && !err.contains("--force"), "{err}");
}

#[test]
fn the_hook_up_sheet_tells_outputs_from_meters() {
    let site = Site::examples();
    let out = site.waltron(&["hookup", "q07-ct.plan.toml"]).exits(0).out();
    let row = |what: &str| {
        let found = out.lines().find(|l| l.contains(what) && l.contains("--"));
        found.unwrap_or_else(|| panic!("{what}\n{out}")).to_owned()
    };
    assert!(row("measures primary voltage").contains("<--"), "what is measured comes to the rig");
    assert!(row("burden current              1 A").contains("-->"));
    for told in ["Lift the primary earth", "four wires", "it must never be open"] {
        assert!(out.contains(told), "{told}\n{out}");
    }
    assert!(!out.contains("tripping circuits"), "a transformer trips nothing\n{out}");
}

/// A supply knows no frequency; what alternates then says its own, and a relay cannot do without.
#[test]
fn a_frequency_is_required_where_it_means_something() {
    let site = Site::examples();
    let inject = |more: &[&str]| {
        let files = ["--rig", "q07-ct.rig.toml", "--asset", "dc1.asset.toml", "--for", "1 s"];
        site.waltron(&[&["inject", "--yes"], more, &files].concat())
    };
    let err = inject(&["vs=40 V"]).exits(2).err();
    assert!(err.contains("nothing says at which frequency"), "{err}");
    inject(&["vs=40 V", "--frequency", "50 Hz"]).exits(0);
    inject(&["is.dc=0.5 A"]).exits(0);
    let relay = std::fs::read_to_string(site.dir.path().join("q05-t2.asset.toml")).unwrap();
    let without: String =
        relay.lines().filter(|l| !l.starts_with("frequency")).map(|l| format!("{l}\n")).collect();
    site.write("q05-t2.asset.toml", &without);
    let err = site.waltron(&["check", "q05-t2.plan.toml"]).exits(2).err();
    assert!(err.contains("no `frequency`") && err.contains("[ratings]"), "{err}");
}
