//! The built program as a user starts it: a plan of 500 trip-time points, and `--version`.
//!
//! The plan is the sample feeder relay's own test of its very inverse stage, five levels on five
//! loops, each repeated twenty times. The time is that of the whole process, with record and JSON;
//! the result is checked before anything is timed.

use criterion::{Criterion, criterion_group, criterion_main};
use std::path::Path;
use std::process::{Command, Stdio};

const PLAN: &str = r#"
[plan]
title = "500 points"
asset = "q07-f1.asset.toml"
rig = "q07-f1.rig.toml"
[[test]]
id = "times"
procedure = "trip-time"
element = "51P"
loops = ["A-N", "B-N", "C-N", "A-B", "A-B-C"]
at = ["0.95 x", "2 x", "3 x", "5 x", "7 x"]
prefault = "0.5 A"
repeat = 20
"#;

fn run(c: &mut Criterion) {
    let dir = tempfile::tempdir().unwrap();
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo");
    for kind in ["asset", "rig", "specimen"] {
        let name = format!("q07-f1.{kind}.toml");
        std::fs::copy(demo.join(&name), dir.path().join(&name)).unwrap();
    }
    std::fs::write(dir.path().join("500.plan.toml"), PLAN).unwrap();
    let waltron = |args: &[&str]| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_waltron"));
        command.args(args).current_dir(dir.path()).stdin(Stdio::null());
        command.output().unwrap()
    };
    let args = ["run", "500.plan.toml", "--format", "json", "--record", "r.run.jsonl"];
    let result: serde_json::Value = serde_json::from_slice(&waltron(&args).stdout).unwrap();
    assert_eq!(result["points"].as_array().unwrap().len(), 500);
    let simulated_s = result["simulated_s"].as_f64().unwrap();
    let mut group = c.benchmark_group("process");
    group.sample_size(20);
    let name = format!("run of 500 trip-time points, {simulated_s:.0} s of injection");
    group.bench_function(name, |b| {
        b.iter(|| {
            std::fs::remove_file(dir.path().join("r.run.jsonl")).unwrap();
            waltron(&args)
        });
    });
    group.bench_function("--version", |b| b.iter(|| waltron(&["--version"])));
    group.finish();
}

criterion_group!(benches, run);
criterion_main!(benches);
