//! A relay's short points, one after the other.

use crate::bench::{Bench, Names};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const CLIENT_KILLS: usize = 40;
const SERVER_KILLS: usize = 30;

/// Outputs must be off this long after a controller's death.
const OFF_WITHIN: Duration = Duration::from_millis(500);

const NAMES: Names =
    Names { rig: "q07-f1.rig.toml", specimen: "q07-f1.specimen.toml", plan: "many.plan.toml" };

const PLAN: &str = r#"
[plan]
title = "Many short points"
asset = "q07-f1.asset.toml"
rig = "bench.rig.toml"
[[test]]
id = "50P-times"
procedure = "trip-time"
element = "50P"
loops = ["A-N", "B-N", "C-N"]
at = ["1.2 x", "2 x"]
repeat = 8
rest = "30 ms"
"#;

fn bench(seed: u64) -> Bench {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo");
    let of = |name| (name, std::fs::read_to_string(demo.join(name)).unwrap());
    let files = [NAMES.rig, NAMES.specimen, "q07-f1.asset.toml"].map(of);
    let mut files: Vec<_> = files.iter().map(|(name, text)| (*name, text.as_str())).collect();
    files.push((NAMES.plan, PLAN));
    Bench::new(seed, NAMES, &files)
}

/// Id, attempt and measured time of every point of a finished record, as graded.
type Times = Vec<(String, u64, f64)>;

fn times(bench: &Bench, record: &str) -> Times {
    let graded = bench.graded(record).into_iter();
    graded
        .map(|e| {
            let time = e["measured"]["time_s"].as_f64().unwrap();
            (e["id"].as_str().unwrap().to_owned(), e["attempt"].as_u64().unwrap(), time)
        })
        .collect()
}

/// What a run that nobody disturbs measures; each point graded once, in the plan's order.
fn undisturbed(bench: &Bench) -> Times {
    let done = bench.run("whole.run.jsonl").args(["--rig", NAMES.rig]).output().unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stdout));
    let graded = times(bench, "whole.run.jsonl");
    assert_eq!(graded.len(), 48);
    graded
}

fn kill_programs(times_killed: usize) {
    let mut bench = bench(0x5eed_0001);
    let expected = undisturbed(&bench);
    let is_left = |bench: &Bench| bench.comes_to_nothing("OUTP?", OFF_WITHIN);
    let is_whole = |bench: &Bench, record: &str| {
        assert_eq!(times(bench, record), expected, "as if nothing had happened");
    };
    let energised = bench.kill_programs(times_killed, 30..330, is_left, is_whole);
    assert!(energised > times_killed / 4, "{energised} kills hit an energised output");
}

fn kill_test_sets(times_killed: usize) {
    let mut bench = bench(0x5eed_0002);
    let expected = undisturbed(&bench);
    let is_off = |bench: &Bench| {
        assert_eq!(bench.ask("OUTP?"), "0", "it comes up with outputs off");
    };
    let is_whole = |bench: &Bench, record: &str| {
        assert_eq!(times(bench, record), expected, "as if nothing had happened");
    };
    bench.kill_test_sets(times_killed, 20..320, is_off, is_whole);
}

#[test]
fn a_killed_program_loses_no_graded_point_and_leaves_nothing_on() {
    kill_programs(CLIENT_KILLS);
}

#[test]
fn a_killed_test_set_ends_the_run_in_order_and_the_run_goes_on_with_another() {
    kill_test_sets(SERVER_KILLS);
}

#[test]
#[ignore = "takes some minutes: on demand"]
fn seven_hundred_kills() {
    kill_programs(10 * CLIENT_KILLS);
    kill_test_sets(10 * SERVER_KILLS);
}

/// A controller that hangs keeps its connection: only the watchdog notices.
#[cfg(unix)]
#[test]
fn a_hung_program_is_noticed_by_the_watchdog() {
    let bench = bench(1);
    for round in 0..5 {
        let record = format!("w{round}.run.jsonl");
        let mut child = bench.run(&record).stdout(Stdio::null()).spawn().unwrap();
        let began = Instant::now();
        while bench.ask("OUTP?") != "1" {
            assert!(began.elapsed() < Duration::from_secs(5));
        }
        let stop = |signal: &str| {
            let pid = child.id().to_string();
            assert!(Command::new("kill").args([signal, &pid]).status().unwrap().success());
        };
        stop("-STOP");
        let frozen = Instant::now();
        // A short program ends by itself meanwhile; so what counts is also that the controller has
        // lost its place.
        while bench.ask("SYST:LOCK:OWN?") != "0" {
            assert!(frozen.elapsed() < OFF_WITHIN, "the watchdog sleeps");
            std::thread::sleep(Duration::from_millis(5));
        }
        assert_eq!(bench.ask("OUTP?"), "0");
        child.kill().unwrap();
        child.wait().unwrap();
    }
}
