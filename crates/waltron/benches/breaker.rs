//! What a breaker costs: a whole O-C-O as a user starts it, and a long capture drawn.

use criterion::{Criterion, criterion_group, criterion_main};
use std::hint::black_box;
use std::process::Command;
use waltron_core::injection::waveform::{Waveform, WaveformChannel};
use waltron_report::plot::{of_waveform, svg};

const ASSET: &str = include_str!("../../../examples/q05-cb.asset.toml");
const RIG: &str = include_str!("../../../examples/q05-cb.rig.toml");
const SPECIMEN: &str = include_str!("../../../examples/q05-cb.specimen.toml");
const PLAN: &str = "[plan]\ntitle = \"O-C-O\"\nasset = \"cb.asset.toml\"\nrig = \"cb.rig.toml\"\n[[test]]\nid = \"operation\"\nprocedure = \"operation\"\noperations = [\"O-C-O\"]\n";

/// The breaker of the demo with two interrupting units a pole: six contacts.
fn files(dir: &std::path::Path) {
    let asset = ASSET.replace("drive = \"ganged\"", "drive = \"ganged\"\nunits = 2");
    let (mut rig, mut specimen) = (RIG.to_owned(), SPECIMEN.to_owned());
    for pole in ["L1", "L2", "L3"] {
        let (one, two) = (format!("{pole}/1"), format!("{pole}/2"));
        rig = rig.replace(&format!("meaning = \"{pole}\""), &format!("meaning = \"{one}\""));
        rig += &format!("\n[[input]]\nid = \"{two}\"\nmeaning = \"{two}\"\n");
        specimen = specimen.replace(&format!("at = \"{pole}\""), &format!("at = \"{one}\""));
        specimen += &format!(
            "\n[[contact]]\nat = \"{two}\"\nbounce = \"0.6 ms\"\nresistance = \"30 uOhm\"\n"
        );
    }
    let rig = rig.replace("q05-cb.specimen.toml", "cb.specimen.toml");
    for (name, text) in [
        ("cb.asset.toml", asset.as_str()),
        ("cb.rig.toml", &rig),
        ("cb.specimen.toml", &specimen),
        ("cb.plan.toml", PLAN),
    ] {
        std::fs::write(dir.join(name), text).expect("a folder to write in");
    }
}

fn operation(c: &mut Criterion) {
    let dir = tempfile::tempdir().expect("a folder");
    files(dir.path());
    let mut number = 0;
    let mut group = c.benchmark_group("breaker");
    group.sample_size(20);
    group.bench_function("O-C-O, 6 contacts, 3 coils and travel at 20 kHz, whole process", |b| {
        b.iter(|| {
            number += 1;
            let record = format!("{number}.run.jsonl");
            let out = Command::new(env!("CARGO_BIN_EXE_waltron"))
                .args(["run", "cb.plan.toml", "--yes", "--record", &record])
                .current_dir(dir.path())
                .output()
                .expect("a program that starts");
            // It fails on the pole that comes late.
            assert_eq!(out.status.code(), Some(1), "{}", String::from_utf8_lossy(&out.stderr));
        });
    });
    group.finish();
}

fn capture(c: &mut Criterion) {
    let samples = |k: u32| -> Vec<f64> {
        (0..200_000)
            .map(|n| (f64::from(n) * 0.0157 + f64::from(k)).sin() * f64::from(k + 1))
            .collect()
    };
    let channel = |k: u32| WaveformChannel {
        name: format!("c{k}").as_str().into(),
        is_current: k.is_multiple_of(2),
        samples: samples(k),
    };
    let waveform = Waveform { rate_hz: 20_000.0, channels: (0..12).map(channel).collect() };
    let mut group = c.benchmark_group("drawing");
    group.sample_size(20);
    group.bench_function("10 s of 12 channels at 20 kHz as SVG", |b| {
        b.iter(|| {
            let chart = of_waveform("t".into(), String::new(), black_box(&waveform), (0.0, 10.0));
            black_box(svg(&chart, (1280, 800)).expect("a picture").len())
        });
    });
    group.finish();
}

criterion_group!(benches, operation, capture);
criterion_main!(benches);
