//! `waltron demo`: the sample substation, tested and reported.

use super::run::{How, Target, clock, execute};
use crate::cli::Demo as Args;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files;
use crate::job::Job;
use crate::panel::Panel;
use crate::signals::install;
use crate::terminal::{STRONG, Terminal, styled};
use crate::view;
use std::path::Path;
use waltron_core::plan::AnswersForm;
use waltron_core::record::Run;
use waltron_report::html::Told;
use waltron_rig::virtual_rig::Pace;

/// The sample files: name and text.
const FILES: [(&str, &str); 64] = [
    ("q07-f1.asset.toml", include_str!("../../demo/q07-f1.asset.toml")),
    ("q07-f1.plan.toml", include_str!("../../demo/q07-f1.plan.toml")),
    ("q07-f1.rig.toml", include_str!("../../demo/q07-f1.rig.toml")),
    ("q07-f1-wire.rig.toml", include_str!("../../demo/q07-f1-wire.rig.toml")),
    ("q07-f1.specimen.toml", include_str!("../../demo/q07-f1.specimen.toml")),
    ("q08-f2.asset.toml", include_str!("../../demo/q08-f2.asset.toml")),
    ("q08-f2.plan.toml", include_str!("../../demo/q08-f2.plan.toml")),
    ("q08-f2.rig.toml", include_str!("../../demo/q08-f2.rig.toml")),
    ("q08-f2.specimen.toml", include_str!("../../demo/q08-f2.specimen.toml")),
    ("q05-t2.asset.toml", include_str!("../../../../examples/q05-t2.asset.toml")),
    ("q05-t2.plan.toml", include_str!("../../../../examples/q05-t2.plan.toml")),
    ("q05-t2.rig.toml", include_str!("../../../../examples/q05-t2.rig.toml")),
    ("q05-t2.specimen.toml", include_str!("../../../../examples/q05-t2.specimen.toml")),
    ("overvoltage-pulses.seq", include_str!("../../../../examples/overvoltage-pulses.seq")),
    ("inverse-curve.seq", include_str!("../../../../examples/inverse-curve.seq")),
    ("underfrequency.seq", include_str!("../../../../examples/underfrequency.seq")),
    ("harmonic-mix.seq", include_str!("../../../../examples/harmonic-mix.seq")),
    ("dc1.asset.toml", include_str!("../../../../examples/dc1.asset.toml")),
    ("dc1.plan.toml", include_str!("../../../../examples/dc1.plan.toml")),
    ("dc1.rig.toml", include_str!("../../../../examples/dc1.rig.toml")),
    ("dc1.specimen.toml", include_str!("../../../../examples/dc1.specimen.toml")),
    ("q07-ct.asset.toml", include_str!("../../../../examples/q07-ct.asset.toml")),
    ("q07-ct.plan.toml", include_str!("../../../../examples/q07-ct.plan.toml")),
    ("q07-ct.rig.toml", include_str!("../../../../examples/q07-ct.rig.toml")),
    ("q07-ct.specimen.toml", include_str!("../../../../examples/q07-ct.specimen.toml")),
    ("q08-ct.asset.toml", include_str!("../../../../examples/q08-ct.asset.toml")),
    ("q08-ct.plan.toml", include_str!("../../../../examples/q08-ct.plan.toml")),
    ("q08-ct.rig.toml", include_str!("../../../../examples/q08-ct.rig.toml")),
    ("q08-ct.specimen.toml", include_str!("../../../../examples/q08-ct.specimen.toml")),
    ("q01-ct.asset.toml", include_str!("../../../../examples/q01-ct.asset.toml")),
    ("q01-ct.plan.toml", include_str!("../../../../examples/q01-ct.plan.toml")),
    ("q01-ct.rig.toml", include_str!("../../../../examples/q01-ct.rig.toml")),
    ("q01-ct.specimen.toml", include_str!("../../../../examples/q01-ct.specimen.toml")),
    ("q01-vt.asset.toml", include_str!("../../../../examples/q01-vt.asset.toml")),
    ("q01-vt.plan.toml", include_str!("../../../../examples/q01-vt.plan.toml")),
    ("q01-vt.rig.toml", include_str!("../../../../examples/q01-vt.rig.toml")),
    ("q01-vt.specimen.toml", include_str!("../../../../examples/q01-vt.specimen.toml")),
    ("q05-cb.asset.toml", include_str!("../../../../examples/q05-cb.asset.toml")),
    ("q05-cb.plan.toml", include_str!("../../../../examples/q05-cb.plan.toml")),
    ("q05-cb.rig.toml", include_str!("../../../../examples/q05-cb.rig.toml")),
    ("q05-cb.specimen.toml", include_str!("../../../../examples/q05-cb.specimen.toml")),
    ("tr1-q1.asset.toml", include_str!("../../../../examples/tr1-q1.asset.toml")),
    ("tr1-q1.plan.toml", include_str!("../../../../examples/tr1-q1.plan.toml")),
    ("tr1-q1.rig.toml", include_str!("../../../../examples/tr1-q1.rig.toml")),
    ("tr1-q1.specimen.toml", include_str!("../../../../examples/tr1-q1.specimen.toml")),
    ("t2.asset.toml", include_str!("../../../../examples/t2.asset.toml")),
    ("t2.plan.toml", include_str!("../../../../examples/t2.plan.toml")),
    ("t2.rig.toml", include_str!("../../../../examples/t2.rig.toml")),
    ("t2.specimen.toml", include_str!("../../../../examples/t2.specimen.toml")),
    ("at1.answers.toml", include_str!("../../../../examples/at1.answers.toml")),
    ("at1.asset.toml", include_str!("../../../../examples/at1.asset.toml")),
    ("at1.plan.toml", include_str!("../../../../examples/at1.plan.toml")),
    ("at1.rig.toml", include_str!("../../../../examples/at1.rig.toml")),
    ("at1.specimen.toml", include_str!("../../../../examples/at1.specimen.toml")),
    ("ns1-q1-port.plan.toml", include_str!("../../../../examples/ns1-q1-port.plan.toml")),
    ("ns1-q1-port.rig.toml", include_str!("../../../../examples/ns1-q1-port.rig.toml")),
    ("ns1-q1.instrument.toml", include_str!("../../../../examples/ns1-q1.instrument.toml")),
    ("ns1-q1.asset.toml", include_str!("../../../../examples/ns1-q1.asset.toml")),
    ("ns1-q1.plan.toml", include_str!("../../../../examples/ns1-q1.plan.toml")),
    ("ns1-q1.rig.toml", include_str!("../../../../examples/ns1-q1.rig.toml")),
    ("ns1-q1.specimen.toml", include_str!("../../../../examples/ns1-q1.specimen.toml")),
    ("supply-settles.seq", include_str!("../../../../examples/supply-settles.seq")),
    ("readings.seq", include_str!("../../../../examples/readings.seq")),
    ("raise-source.seq", include_str!("../../../../examples/raise-source.seq")),
];

/// The plans that are run, by the name their files share.
const ASSETS: [&str; 14] = [
    "q07-f1",
    "q08-f2",
    "q05-t2",
    "dc1",
    "q07-ct",
    "q08-ct",
    "q01-ct",
    "q01-vt",
    "q05-cb",
    "ns1-q1",
    "ns1-q1-port",
    "tr1-q1",
    "t2",
    "at1",
];

/// Writes the files, runs every plan, writes reports.
///
/// # Errors
/// A folder that cannot be written, or that holds an earlier demo.
pub(crate) fn demo(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let dir = args.dir.as_path();
    let outputs = ASSETS.iter().flat_map(|r| [format!("{r}.run.jsonl"), format!("{r}.html")]);
    let all: Vec<String> = FILES.iter().map(|(n, _)| (*n).to_owned()).chain(outputs).collect();
    if dir.exists() && !dir.is_dir() {
        return Err(Failure::file(dir, "this is a file, a folder is wanted"));
    }
    if !args.force && all.iter().any(|name| dir.join(name).exists()) {
        return Err(Failure::file(dir, "this folder holds a demo already")
            .help("give another folder, or add --force to write it anew"));
    }
    std::fs::create_dir_all(dir)
        .map_err(|e| Failure::trouble(format!("cannot make {}: {e}", dir.display())))?;
    for (name, text) in FILES {
        files::write(&dir.join(name), text.as_bytes(), args.force)?;
    }
    for relay in ASSETS {
        test(dir, relay, args.force, terminal)?;
    }
    let at = |name: &str| dir.join(name).display().to_string();
    terminal.print(&format!(
        "{}\n  open {} in a browser: it shows the hidden defect of F1's relay\n  \
         open {}: current transformers tap by tap, one of them with a shorted turn\n  \
         open {}: a circuit breaker, contact by contact, with a pole that comes late\n  \
         open {}: a low-voltage breaker in its band, with a sensor the wrong way round\n  \
         open {}: a direct-current breaker of the trams, which opens late\n  \
         open {}: a power transformer, tap by tap, with two taps exchanged\n  \
         read {}, the settings, and {}, the tests\n  waltron check {}\n  waltron hookup {}\n  waltron run {}\n  \
         read {}, a test in the sequence language\n",
        styled(STRONG, "What to look at next"),
        at("q07-f1.html"),
        at("q01-ct.html"),
        at("q05-cb.html"),
        at("ns1-q1.html"),
        at("tr1-q1.html"),
        at("t2.html"),
        at("q07-f1.asset.toml"),
        at("q07-f1.plan.toml"),
        at("q07-f1.plan.toml"),
        at("q07-f1.plan.toml"),
        at("q07-f1.plan.toml"),
        at("underfrequency.seq"),
    ));
    Ok(Exit::Pass)
}

fn test(dir: &Path, relay: &str, force: bool, terminal: &Terminal) -> Result<(), Failure> {
    let record = dir.join(format!("{relay}.run.jsonl"));
    if force && record.exists() {
        std::fs::remove_file(&record)
            .map_err(|e| Failure::trouble(format!("cannot replace {}: {e}", record.display())))?;
    }
    let job = Job::load(&dir.join(format!("{relay}.plan.toml")), None)?;
    let prepared = job.prepare()?;
    let mut clock = clock()?;
    let how = How {
        seeds: job.rig.seeds,
        pace: Pace::Fast,
        tester: None,
        quiet: false,
        only: Vec::new(),
        redo: None,
        yes: true,
        left_out: Vec::new(),
        asked: Vec::new(),
    };
    // What somebody has to read is in a file of answers.
    let answers = dir.join(format!("{relay}.answers.toml"));
    let mut panel = match answers.exists() {
        true => {
            let read = AnswersForm::load(&files::read_source(&answers)?)?;
            Panel::scripted(install(), read, answers.display().to_string())
        }
        false => Panel::confirming(install()),
    };
    let target = Target::New(record.clone());
    let done = execute(&job, prepared, target, how, &mut panel, &mut *clock, terminal)?;
    terminal.print(&view::summary(&done.grades, &done.ended, terminal));
    let bytes = files::read_bytes(&record)?;
    let mut run = Run::read(&bytes).map_err(|e| Failure::file(&record, e.to_string()))?;
    run.read_injections(&bytes, crate::wings::WINGS);
    crate::recording::fill(&mut run, &record);
    let waveforms = super::report::waveforms(&record, &run);
    let told = Told { run: &run, waveforms, earlier: None };
    let page = waltron_report::html::html(&[told], false, crate::wings::WINGS)
        .map_err(|e| Failure::trouble(e.to_string()))?;
    let report = dir.join(format!("{relay}.html"));
    files::write(&report, page.as_bytes(), force)?;
    terminal.print(&format!("Record  {}\nReport  {}\n\n", record.display(), report.display()));
    Ok(())
}
