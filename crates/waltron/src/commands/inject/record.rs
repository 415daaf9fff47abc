//! What was measured by hand, as a run record: every take is a test of its own, and nothing is required of
//! what it read.

use super::takes::Take;
use super::{Args, Bench};
use crate::commands::run::clock;
use crate::failure::Failure;
use crate::files::{for_shell, refuse_record};
use std::path::Path;
use waltron_core::clearance::duty::Warm;
use waltron_core::grading::{
    Criterion, Finding, Judgement, PointId, Rule, Summary, Values, Verdict,
};
use waltron_core::injection::measuring::{Property, Reading, words};
use waltron_core::quantity::{Quantity, Time};
use waltron_core::record::{Event, FORMAT, FileCopy, Outcome, Resolved, RunEnded, RunStarted};
use waltron_core::text::name::Name;
use waltron_rig::writer::{Durability, RecordWriter, WriteError};

/// The kind of requirement of a reading: none.
const READING: Criterion = Criterion::named("reading");

/// Refuses a record that is there already, before anything is put out.
///
/// # Errors
/// With what to do.
pub(super) fn refuse(args: &Args) -> Result<(), Failure> {
    args.record.as_deref().map_or(Ok(()), refuse_record)
}

/// Writes the takes as a record, where the arguments name one; what to say of it.
///
/// # Errors
/// A record that cannot be written.
pub(super) fn write(
    args: &Args,
    bench: &Bench,
    script: &str,
    takes: &[Take],
    outcome: Outcome,
) -> Result<String, Failure> {
    let Some(path) = args.record.as_deref().filter(|_| !takes.is_empty()) else {
        return Ok(String::new());
    };
    let trouble = |error: WriteError| Failure::trouble(error.to_string());
    let durability = if bench.is_simulated() { Durability::System } else { Durability::Disk };
    let mut clock = clock()?;
    let mut writer = RecordWriter::create(path, durability).map_err(trouble)?;
    let started = Event::RunStarted(Box::new(started(bench, script, takes.len())));
    writer.append(&clock.now(), &started).map_err(trouble)?;
    let (mut verdicts, mut injected) = (Vec::new(), Time::default());
    for (index, take) in takes.iter().enumerate() {
        let test = Name::from(format!("take-{}", index + 1));
        let findings: Vec<Finding> =
            take.readings.iter().map(|(name, reading)| finding(&test, name, reading)).collect();
        let seen = Event::Observed {
            test: test.clone(),
            points: findings.iter().map(|f| f.point.id.clone()).collect(),
            program: take.program.clone().into(),
            observation: take.seen.clone(),
            warm: Warm::default(),
        };
        clock.injected(take.seen.length());
        injected += take.seen.length();
        writer.append(&clock.now(), &seen).map_err(trouble)?;
        for found in findings {
            verdicts.push(found.verdict);
            let graded = Event::Graded(found.graded(Rule::Simple));
            writer.append(&clock.now(), &graded).map_err(trouble)?;
        }
    }
    let summary = Summary::of(verdicts);
    let ended = RunEnded {
        outcome,
        summary,
        not_reached: 0,
        open: Vec::new(),
        left_out: Vec::new(),
        owed: Vec::new(),
        injected,
    };
    writer.append(&clock.now(), &Event::RunEnded(ended)).map_err(trouble)?;
    Ok(told(path))
}

fn told(path: &Path) -> String {
    let (record, html) =
        (for_shell(path), for_shell(&path.with_extension("").with_extension("html")));
    format!("Record  {}\nNext    waltron report {record} -o {html}\n", path.display())
}

fn started(bench: &Bench, script: &str, takes: usize) -> RunStarted {
    let copy = |source: &waltron_core::text::document::Source| FileCopy::from(source);
    let mut plan =
        format!("[plan]\ntitle = \"By hand\"\nasset = {:?}\n", copy(&bench.asset_source).name);
    for take in 1..=takes {
        plan.push_str(&format!(
            "\n[[test]]\nid = \"take-{take}\"\nprocedure = \"sequence\"\nscript = '''\n{script}'''\n"
        ));
    }
    RunStarted {
        format: FORMAT,
        version: env!("CARGO_PKG_VERSION").to_owned(),
        title: format!("{}, measured by hand", bench.asset.identity.tag),
        tester: None,
        reason: None,
        ambient: Vec::new(),
        rig_name: bench.file.name.clone(),
        seed: bench.is_simulated().then_some(bench.file.seeds.rig),
        specimen_seed: {
            let seeds = bench.file.seeds;
            (bench.is_simulated() && seeds.specimen != seeds.rig).then_some(seeds.specimen)
        },
        asset: copy(&bench.asset_source),
        resolved: Some(Resolved::of(&bench.asset)),
        plan: FileCopy { name: "by-hand.plan.toml".to_owned(), text: plan, beside: Vec::new() },
        rig: copy(&bench.source),
        scripts: Vec::new(),
        hookup: None,
        rule: Rule::Simple,
        only: Vec::new(),
    }
}

/// Several properties of one output have names of their own.
fn called(name: &str, reading: &Reading) -> String {
    match reading.probe.what {
        Property::Phasor | Property::Dc | Property::Value => name.to_owned(),
        _ => reading.probe.to_string(),
    }
}

fn finding(test: &Name, name: &str, reading: &Reading) -> Finding {
    let point = PointId {
        id: format!("{test}/{}", called(name, reading).replace('/', "÷")),
        test: test.clone(),
        element: None,
        fault_loop: None,
    };
    let found = Finding::not_tested(point, READING, Values::none(), "");
    let Some(si) = reading.value.get("value") else {
        let why = reading.lacks.as_ref().map_or_else(|| "nothing".to_owned(), ToString::to_string);
        return found.judged(Judgement::new(Verdict::Inconclusive, format!("no value: {why}")));
    };
    let of = |si: f64| Quantity { si, dimension: reading.probe.dimension };
    let angle = |values: &Values| {
        let dimension = waltron_core::quantity::Dimension::ANGLE;
        values.get("angle").map(|si| Quantity { si, dimension })
    };
    let mut measured = Values::none().with_quantity("value", of(si));
    let mut said = vec![words::signal(&reading.probe.of)];
    said.retain(|signal| signal != name);
    if let Some(angle) = angle(&reading.value) {
        measured = measured.with_quantity("angle", angle);
        said.push(format!("at {angle}"));
    }
    said.extend(words::told(reading));
    let reason = said.join("; ");
    let uncertainty = match reading.uncertainty.get("value") {
        Some(u) => Values::none().with_quantity("u", of(u)),
        None => Values::none(),
    };
    let found = Finding { measured, uncertainty, ..found };
    found.judged(Judgement::new(Verdict::Measured, reason))
}
