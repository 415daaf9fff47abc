//! What counts at the panel: a plan over the wire, going on with a long record, from a contact's edge
//! to the disk, and how soon outputs are off when the controller falls silent.
//!
//! Results are checked before anything is timed. `WALTRON_BENCH_POINTS` sets the length of the
//! record that is gone on with; the figure is for 100 000 points.

use criterion::{Criterion, criterion_group, criterion_main};
use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};
use tempfile::TempDir;
use waltron_core::asset::Asset;
use waltron_core::clearance::clear;
use waltron_core::injection::program::{Program, Segment, Stop};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::{Measure, amperes, seconds};
use waltron_core::record::Event;
use waltron_core::text::document::Source;
use waltron_relay::AssetForm;
use waltron_rig::Description;
use waltron_rig::attendant::Unattended;
use waltron_rig::scpi_rig::ScpiRig;
use waltron_rig::test_set::{TestSet, serve};
use waltron_rig::virtual_rig::{Pace, Seeds, VirtualRig};
use waltron_rig::writer::{Durability, RecordWriter};
use waltron_rig::{Rig, RigFile, RigForm};
use waltron_specimen::SpecimenForm;

fn plan(repeat: usize, rig: &str) -> String {
    format!(
        r#"
[plan]
title = "many points"
asset = "q07-f1.asset.toml"
rig = "{rig}"
[[test]]
id = "times"
procedure = "trip-time"
element = "51P"
loops = ["A-N", "B-N", "C-N", "A-B", "A-B-C"]
at = ["0.95 x", "2 x", "3 x", "5 x", "7 x"]
prefault = "0.5 A"
repeat = {repeat}
"#
    )
}

fn demo(file: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("demo").join(file)
}

fn folder() -> TempDir {
    let dir = tempfile::tempdir().unwrap();
    for kind in ["asset", "rig", "specimen"] {
        let name = format!("q07-f1.{kind}.toml");
        std::fs::copy(demo(&name), dir.path().join(&name)).unwrap();
    }
    dir
}

fn waltron(dir: &TempDir, args: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_waltron"));
    command.args(args).current_dir(dir.path()).stdin(Stdio::null()).stderr(Stdio::null());
    command
}

struct Served(Child, String);

impl Drop for Served {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn served(dir: &TempDir, pace: &str) -> Served {
    let args = ["rig", "serve", "q07-f1.rig.toml", "--listen", "127.0.0.1:0", "--pace", pace];
    let mut child = waltron(dir, &args).stdout(Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let address = line.split_whitespace().nth(3).unwrap().trim_end_matches(',').to_owned();
    Served(child, address)
}

fn over_the_wire(c: &mut Criterion) {
    let dir = folder();
    let served = served(&dir, "fast");
    let rig = std::fs::read_to_string(demo("q07-f1.rig.toml")).unwrap();
    let rig = rig
        .replace("kind = \"virtual\"", "kind = \"scpi\"")
        .replace("specimen = \"q07-f1.specimen.toml\"", &format!("address = \"{}\"", served.1));
    std::fs::write(dir.path().join("wire.rig.toml"), rig).unwrap();
    std::fs::write(dir.path().join("500.plan.toml"), plan(20, "wire.rig.toml")).unwrap();
    let args = ["run", "500.plan.toml", "--format", "json", "--record", "r.run.jsonl"];
    let run = || waltron(&dir, &args).output().unwrap().stdout;
    let result: serde_json::Value = serde_json::from_slice(&run()).unwrap();
    assert_eq!(result["points"].as_array().unwrap().len(), 500);
    let mut group = c.benchmark_group("on site");
    group.sample_size(10);
    group.bench_function("plan of 500 points over loopback TCP, whole process", |b| {
        b.iter(|| {
            std::fs::remove_file(dir.path().join("r.run.jsonl")).unwrap();
            run()
        });
    });
    group.finish();
}

/// Until the first event is appended: record read and checked, plan prepared, open points chosen.
fn going_on(c: &mut Criterion) {
    let points: usize =
        std::env::var("WALTRON_BENCH_POINTS").ok().and_then(|n| n.parse().ok()).unwrap_or(10_000);
    let dir = folder();
    std::fs::write(dir.path().join("long.plan.toml"), plan(points / 25, "q07-f1.rig.toml"))
        .unwrap();
    let record = dir.path().join("r.run.jsonl");
    let args = ["run", "long.plan.toml", "--record", "r.run.jsonl"];
    waltron(&dir, &args).stdout(Stdio::null()).status().unwrap();
    let text = std::fs::read_to_string(&record).unwrap();
    // The last ten points are missing.
    let lines: Vec<&str> = text.lines().collect();
    assert!(lines.len() > 2 * points);
    let left = lines[..lines.len() - 22].join("\n") + "\n";
    let on = ["run", "long.plan.toml", "--record", "r.run.jsonl", "--resume"];
    let mut group = c.benchmark_group("on site");
    group.sample_size(10);
    let megabytes = left.len() >> 20;
    let name =
        format!("going on with a record of {points} points, {megabytes} MiB, until it is written");
    group.bench_function(name, |b| {
        b.iter_custom(|rounds| {
            let mut total = Duration::ZERO;
            for _ in 0..rounds {
                std::fs::write(&record, &left).unwrap();
                let began = Instant::now();
                let mut child = waltron(&dir, &on).stdout(Stdio::null()).spawn().unwrap();
                while std::fs::metadata(&record).unwrap().len() <= left.len() as u64 {
                    std::thread::sleep(Duration::from_micros(500));
                    assert!(began.elapsed() < Duration::from_secs(60));
                }
                total += began.elapsed();
                child.wait().unwrap();
            }
            total
        });
    });
    group.finish();
}

fn pulse(asset: &Asset, file: &RigFile) -> waltron_core::clearance::Cleared {
    let phases = FaultLoop::AN.currents(amperes(19.2));
    let fault = Stimulus::phase_currents(phases, asset.ratings.frequency.unwrap_or_default());
    let segments = vec![
        Segment::hold("rest", Stimulus::off(), seconds(0.03)),
        Segment::hold("fault", fault, seconds(0.5)).until(Stop::on_contact("trip".into(), true)),
    ];
    clear(Program::of(segments), &asset.ratings, &file.capability).unwrap()
}

/// Real time, over TCP, to the disk: the wall clock's time for an injection and its record, less the
/// time at which the contact closed.
fn edge_to_record(c: &mut Criterion) {
    let load = |name: &str| Source::new(name, std::fs::read_to_string(demo(name)).unwrap());
    let asset = AssetForm::load(&load("q07-f1.asset.toml")).unwrap();
    let file = RigForm::load(&load("q07-f1.rig.toml")).unwrap();
    let specimen = load("q07-f1.specimen.toml");
    let (name, capability) = (file.name.clone(), file.capability.clone());
    let build = move |seeds: Seeds| {
        let specimen = SpecimenForm::load(&specimen, seeds.specimen).ok()?;
        Some(VirtualRig::new(name.clone(), capability.clone(), specimen, Pace::Real))
    };
    let description = Description::of(&file.name, &file.capability, true, true);
    let first = build(1.into()).unwrap();
    let set = Arc::new(TestSet::new(description, file.capability.clone(), first, Box::new(build)));
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    std::thread::spawn(move || serve(&listener, &set, &AtomicBool::new(false), &|_| ()));
    let mut rig =
        ScpiRig::connect("bench".into(), &address, file.capability.clone(), 1.into()).unwrap();
    let cleared = pulse(&asset, &file);
    let dir = tempfile::tempdir().unwrap();
    let mut writer =
        RecordWriter::create(&dir.path().join("r.run.jsonl"), Durability::Disk).unwrap();
    let mut group = c.benchmark_group("on site");
    group.sample_size(20);
    group.bench_function("from a contact's edge to the disk", |b| {
        b.iter_custom(|rounds| {
            let mut total = Duration::ZERO;
            for _ in 0..rounds {
                let began = Instant::now();
                let observation = rig.play(&cleared, &mut Unattended).unwrap();
                let edge = observation.first_edge(&"trip".into(), true, seconds(0.0)).unwrap();
                let program = cleared.program().clone();
                let event = Event::Observed {
                    test: "t".into(),
                    points: vec!["t/A-N/2x".into()],
                    program: program.into(),
                    observation,
                    warm: Default::default(),
                };
                writer.append("t", &event).unwrap();
                writer.append("t", &Event::Told { text: "on the disk".into() }).unwrap();
                total += began.elapsed().saturating_sub(Duration::from_secs_f64(edge.si()));
            }
            total
        });
    });
    group.finish();
}

/// A controller that keeps its connection and says nothing more.
fn silence(c: &mut Criterion) {
    let dir = folder();
    let served = served(&dir, "real");
    let mut group = c.benchmark_group("on site");
    group.sample_size(10);
    group.bench_function(
        "from the last word of a controller to outputs off, watchdog 400 ms",
        |b| {
            b.iter_custom(|rounds| {
            let mut total = Duration::ZERO;
            for _ in 0..rounds {
                let mut controller = TcpStream::connect(&served.1).unwrap();
                let reader = TcpStream::connect(&served.1).unwrap();
                let (mut ask, mut said) = (reader.try_clone().unwrap(), BufReader::new(reader));
                let mut energised = move || {
                    ask.write_all(b"OUTP?\n").unwrap();
                    let mut line = String::new();
                    said.read_line(&mut line).unwrap();
                    line.trim() == "1"
                };
                let program =
                    "SYST:WATC 400 MS;:PROG:DEL;SEGM:NEW \"long\";CURR ia,1 A;TIME 60 S;:INIT\n";
                controller.write_all(program.as_bytes()).unwrap();
                let began = Instant::now();
                while !energised() {}
                while energised() {
                    std::thread::sleep(Duration::from_millis(1));
                }
                total += began.elapsed();
            }
            total
        });
        },
    );
    group.finish();
}

criterion_group!(benches, over_the_wire, going_on, edge_to_record, silence);
criterion_main!(benches);
