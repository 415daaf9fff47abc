//! A trip unit behind a test set: injected by one line, read back by Modbus on another.

use crate::support::{Site, points};
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};

/// A served test set whose specimen answers for its registers; it ends with this.
struct Served {
    child: Child,
    address: String,
    registers: String,
}

impl Served {
    fn new(site: &Site) -> Self {
        let mut child = Command::new(env!("CARGO_BIN_EXE_waltron"))
            .args(["rig", "serve", "ns1-q1-port.rig.toml", "--listen", "127.0.0.1:0"])
            .args(["--registers", "ns1-q1.instrument.toml", "--registers-at", "127.0.0.1:0"])
            .current_dir(site.dir.path())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let mut line = || lines.next().unwrap().unwrap();
        let address = line().split_whitespace().nth(3).unwrap().trim_end_matches(',').to_owned();
        let registers = line().split_whitespace().last().unwrap().to_owned();
        Self { child, address, registers }
    }
}

impl Drop for Served {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A rig file for the served test set, with the trip unit's registers beside it instead of its own readings.
fn behind(site: &Site, served: &Served) {
    let text = site.read("ns1-q1-port.rig.toml");
    let own = text.find("# What the trip unit tells").unwrap();
    let text = text[..own]
        .replace("kind = \"virtual\"", "kind = \"scpi\"")
        .replace(
            "specimen = \"ns1-q1.specimen.toml\"",
            &format!(
                "address = \"{}\"\ninstruments = [\"ns1-q1.instrument.toml\"]",
                served.address
            ),
        )
        .replace("seed = 40077\n", "");
    site.write("ns1-q1-port.rig.toml", &text);
    site.edit("ns1-q1.instrument.toml", "127.0.0.1:1502", &served.registers);
}

const SHORT: [&str; 6] =
    ["--only", "before/*", "--only", "short-time/1.4x/L1/*", "--only", "after/*"];

fn run(site: &Site, record: &str) -> (i32, serde_json::Value) {
    let args = ["run", "ns1-q1-port.plan.toml", "--yes", "--record", record, "--format", "json"];
    let done = site.waltron(&[&args[..], &SHORT].concat());
    (done.code(), done.json())
}

#[test]
fn a_trip_unit_is_read_back_by_modbus_while_a_test_set_injects() {
    let site = Site::examples();
    let served = Served::new(&site);
    behind(&site, &served);
    let (code, result) = run(&site, "r.run.jsonl");
    assert_eq!(code, 0, "{result}");
    let verdict = |id: &str| {
        let all = points(&result, id);
        assert!(!all.is_empty(), "{id}: {result}");
        all[0]["verdict"].as_str().unwrap().to_owned()
    };
    assert_eq!(verdict("before/counter/trips"), "measured");
    for id in [
        "short-time/ready",
        "short-time/1.4x/L1/trip-time",
        "after/counter/trips",
        "before/settings/",
    ] {
        assert_eq!(verdict(id), "pass", "{id}");
    }
    // One trip, as the registers tell it.
    let count = |id: &str| points(&result, id)[0]["measured"]["value"].as_f64().unwrap();
    assert_eq!(count("after/counter/trips") - count("before/counter/trips"), 1.0);
    // The report tells what was read.
    site.waltron(&["report", "r.run.jsonl", "-o", "r.html"]).exits(0);
    let page = site.read("r.html");
    assert!(
        page.contains("settings/long-time-delay")
            && page.contains("not tripped, its setting group")
    );
}

/// Devices that answer otherwise: another register map, another setting, nobody.
#[test]
fn registers_that_do_not_answer_are_told_with_their_place() {
    let site = Site::examples();
    let served = Served::new(&site);
    behind(&site, &served);
    // A register that the unit has not: that setting proves nothing, and the rest goes on.
    site.edit("ns1-q1.instrument.toml", "at = 122", "at = 1220");
    let (code, result) = run(&site, "r.run.jsonl");
    assert_eq!(code, 5, "inconclusive");
    let delay = &points(&result, "before/settings/short-time-delay")[0];
    assert_eq!(delay["verdict"], "inconclusive");
    let why = delay["reason"].as_str().unwrap();
    assert!(why.contains("holding register 1220") && why.contains("exception 2"), "{why}");
    assert_eq!(points(&result, "short-time/1.4x/L1/trip-time")[0]["verdict"], "pass");
    // Twice the worth: every reading is twice the setting.
    site.edit(
        "ns1-q1.instrument.toml",
        "at = 1220\nworth = \"10 ms\"",
        "at = 122\nworth = \"20 ms\"",
    );
    let (_, result) = run(&site, "r2.run.jsonl");
    let delay = &points(&result, "before/settings/short-time-delay")[0];
    assert!(
        delay["verdict"] == "fail" && delay["reason"].as_str().unwrap().contains("set to 600 ms"),
        "{delay}"
    );
    // Nobody there: nothing is put out.
    site.edit("ns1-q1.instrument.toml", &served.registers, "127.0.0.1:9");
    let args = ["run", "ns1-q1-port.plan.toml", "--yes", "--record", "r3.run.jsonl"];
    let err = site.waltron(&args).exits(3).err();
    assert!(err.contains("nothing answers at 127.0.0.1:9"), "{err}");
    assert!(!site.files().contains(&"r3.run.jsonl".to_owned()));
}
