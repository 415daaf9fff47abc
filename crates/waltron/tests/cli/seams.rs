//! What must hold where one part hands over to another, on the samples: a fail stays one, what a chosen point needs is
//! done for it, nothing beyond what each part withstands is put out, nobody's permission is made up.

use crate::support::{Site, points};

/// A relay that never starts fails, in the run, its exit and its report; whatever follows from the start is not passed.
#[test]
fn a_dead_relay_passes_nothing() {
    let site = Site::examples();
    site.edit("q05-t2.specimen.toml", "id = \"51P\"", "id = \"51P\"\nenabled = false");
    site.write(
        "dead.plan.toml",
        "[plan]\ntitle = \"dead\"\nasset = \"q05-t2.asset.toml\"\nrig = \"q05-t2.rig.toml\"\n\
         [[test]]\nid = \"pickup\"\nprocedure = \"sequence\"\nscript = '''\n\
         ramp i from 1.1 A to 1.3 A by 10 mA every 200 ms until start as up\noff\n\
         if up.value > 1 A\n  expect up.value is 51P.pickup within 3 % as \"pickup\"\nend\n\
         expect no `frequency trip` as \"nothing else\"\n'''\n",
    );
    let run = ["run", "dead.plan.toml", "--yes", "--record", "r.run.jsonl", "--format", "json"];
    let run = site.waltron(&run).exits(1).json();
    assert_eq!(run["summary"]["fail"], 1, "{}", run["summary"]);
    let line: Vec<_> = points(&run, "pickup/line").into_iter().collect();
    assert!(!line.is_empty() && line.iter().all(|p| p["verdict"] == "fail"), "{line:?}");
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    assert!(!site.read("r.html").contains(">PASS<"), "the report says so too");
}

/// The currents that take the magnetism away flow for whatever of the test is asked for.
#[test]
fn a_core_that_is_asked_for_by_name_is_demagnetised() {
    let site = Site::examples();
    for only in ["demagnetise", "demagnetise/inrush"] {
        let run = ["run", "t2.plan.toml", "--yes", "--only", only, "--record", "r.run.jsonl"];
        let code = site.waltron(&run).code();
        assert!([0, 1, 5].contains(&code), "{only}: {code}");
        let record = site.read("r.run.jsonl");
        let direct = record
            .lines()
            .filter(|line| line.contains("\"event\":\"observed\"") && line.contains("\"dc\":"));
        assert!(direct.count() >= 2, "{only}: forth and back for each limb");
        std::fs::remove_file(site.dir.path().join("r.run.jsonl")).unwrap();
    }
}

/// A share without its sign, and what is no temperature, are refused where they stand.
#[test]
fn a_quantity_without_its_unit_is_refused() {
    for (file, from, to, wants) in [
        ("t2.asset.toml", "ratio = \"0.5 %\"", "ratio = \"0.5\"", "write `0.5 %`"),
        ("t2.asset.toml", "impedance = \"10.4 %\"", "impedance = \"10.4\"", "%"),
        ("t2.asset.toml", "tan_delta = \"0.29 %\"", "tan_delta = \"0.29\"", "write `0.29 %`"),
        ("t2.asset.toml", "power = \"40 MVA\"", "power = \"40 MW\"", "power"),
        (
            "t2.plan.toml",
            "temperature = \"16 degC\"",
            "temperature = \"20 K\"",
            "is no temperature",
        ),
        (
            "t2.plan.toml",
            "temperature = \"16 degC\"",
            "temperature = \"200 degC\"",
            "is no temperature",
        ),
    ] {
        let site = Site::examples();
        site.edit(file, from, to);
        let err = site.waltron(&["check", "t2.plan.toml"]).exits(2).err();
        assert!(err.contains(wants) && err.contains(&format!("{file}:")), "{to}: {err}");
    }
}

/// Each core has its own limits: what one withstands is not put on another, by a test or by hand.
#[test]
fn each_core_has_its_own_limits() {
    let site = Site::examples();
    let check = |test: &str| {
        site.write(
            "core.plan.toml",
            &format!(
                "[plan]\ntitle = \"t\"\nasset = \"q01-ct.asset.toml\"\nrig = \"q01-ct.rig.toml\"\n[[test]]\nid = \"t\"\n{test}\n"
            ),
        );
        let done = site.waltron(&["check", "core.plan.toml"]);
        (done.code(), done.err())
    };
    let ratio = |core: &str, level: &str| {
        check(&format!("procedure = \"ratio\"\ncore = \"{core}\"\nlevel = \"{level}\""))
    };
    let (code, err) = ratio("2", "160 V");
    assert!(code == 2 && err.contains("160 V on vs") && err.contains("150 V"), "{code} {err}");
    assert_eq!(ratio("2", "140 V").0, 0);
    // And each of its taps as much as its turns bear.
    let (code, err) = ratio("1", "160 V");
    assert!(code == 2 && err.contains("the 100 V that A 1S1-1S2 withstands"), "{code} {err}");
    assert_eq!(ratio("1", "90 V").0, 0);
    let direct =
        "procedure = \"resistance\"\ntemperature = \"20 degC\"\ncurrent = \"3 A\"\ncore = \"2\"";
    let (code, err) = check(direct);
    assert!(code == 2 && err.contains("3 A on is") && err.contains("2 A"), "{code} {err}");
}

/// Insulation that somebody has to earth, and a value that somebody has to see, are not seen to by `--yes`.
#[test]
fn nobody_permits_what_only_arises() {
    let site = Site::examples();
    site.edit("t2.rig.toml", "earths = true\n", "");
    let run = [
        "run",
        "t2.plan.toml",
        "--yes",
        "--only",
        "insulation-resistance",
        "--record",
        "r.run.jsonl",
    ];
    let done = site.waltron(&run).exits(4);
    assert!(
        done.err().contains("--yes does not answer `Earth H and leave it earthed"),
        "{}",
        done.err()
    );
    assert!(done.out().contains("NOT PUT BACK: Earth H and leave it earthed"), "{}", done.out());
    let record = site.read("r.run.jsonl");
    assert_eq!(record.matches("\"event\":\"observed\"").count(), 1, "nothing else was put on");
}

/// What is told of a frequency that changes is what it is at the end; a point on an earlier step's label stands beside
/// what that step went through.
#[test]
fn what_is_told_belongs_to_its_moment() {
    let site = Site::examples();
    let inject = [
        "inject",
        "va=57.7 V",
        "f=50 Hz",
        "df=-0.5 Hz/s",
        "--for",
        "8 s",
        "--yes",
        "--rig",
        "q05-t2.rig.toml",
        "--asset",
        "q05-t2.asset.toml",
    ];
    let out = site.waltron(&inject).exits(0).out();
    let line =
        out.lines().find(|line| line.starts_with("va") && line.contains("true RMS")).unwrap();
    // Over its last 200 ms: 50 Hz less 7.9 s times 0.5 Hz/s.
    assert!(line.contains("46.05 Hz") && line.contains("57.7"), "{line}");
    site.write(
        "two.plan.toml",
        "[plan]\ntitle = \"t\"\nasset = \"q05-t2.asset.toml\"\nrig = \"q05-t2.rig.toml\"\n[[test]]\nid = \"t\"\n\
         procedure = \"sequence\"\nscript = \"\"\"\n\
         ramp ia from 1 A to 1.4 A by 10 mA every 100 ms until start as up\n\
         ramp ia from 1.4 A to 1 A by 10 mA every 100 ms until not start as down\noff\n\
         let both = up.value - down.value\nlet later = up.value\n\
         expect up.value > 0.5 A as \"up\"\nexpect later > 0.5 A as \"later\"\n\
         expect down.value > 0.5 A as \"down\"\nexpect both < 1 A as \"both\"\n\"\"\"\n",
    );
    let run = ["run", "two.plan.toml", "--yes", "--record", "r.run.jsonl", "--format", "json"];
    let run = site.waltron(&run).exits(0).json();
    for (point, from) in
        [("up", Some(1.0)), ("later", Some(1.0)), ("down", Some(1.4)), ("both", None)]
    {
        let point = &points(&run, &format!("t/{point}"))[0];
        assert_eq!(point["stimulus"]["from_a"].as_f64(), from, "{point}");
    }
}
