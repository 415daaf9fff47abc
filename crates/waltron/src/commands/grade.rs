//! `waltron grade`: what a record holds, graded again.

use crate::cli::{Format, Grade as Args};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files::{for_shell, read_bytes, read_source};
use crate::job::{copy, load_scripts_by};
use crate::kind::{Kind, no_record, read_as};
use crate::terminal::{STRONG, Terminal, plain, styled};
use crate::view;
use crate::wings::WINGS;
use serde_json::json;
use std::path::Path;
use waltron_core::asset::Asset;
use waltron_core::grading::{Summary, Verdict};
use waltron_core::plan::PlanForm;
use waltron_core::procedure::Bench;
use waltron_core::quantity::counted;
use waltron_core::record::again::{Again, changed};
use waltron_core::record::{Change, Event, FileCopy, GradedAgain, Resolved, Run, RunStarted};
use waltron_core::text::document::Source;
use waltron_rig::RigForm;
use waltron_rig::instruments::together;
use waltron_rig::reader::{EventError, Events};
use waltron_rig::writer::{Durability, Reopened, WriteError};

/// Grades a record again and appends the new verdicts.
///
/// # Errors
/// A record, asset or plan that cannot be read, a record that is being written or was changed.
pub(crate) fn grade(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let reopened = reopened(&args.record)?;
    let bytes = read_bytes(&args.record)?;
    let mut run = Run::read(&bytes).map_err(|e| Failure::file(&args.record, e.to_string()))?;
    run.read_injections(&bytes, WINGS);
    crate::recording::fill(&mut run, &args.record);
    let again = graded(args, &run)?;
    let (mut writer, _) = reopened.go_on(Durability::Disk).map_err(trouble)?;
    let mut clock = super::run::clock()?;
    writer.append(&clock.now(), &Event::GradedAgain(Box::new(again.clone()))).map_err(trouble)?;
    drop(writer);
    let exit = Exit::of_verdict(run.verdict_of_plan(again.summary));
    show(args, &run, &again, exit, terminal);
    Ok(exit)
}

/// A record to be gone on with.
///
/// # Errors
/// It is not there, is being written, or was changed after the test.
pub(super) fn reopened(record: &Path) -> Result<Reopened, Failure> {
    if !record.exists() {
        return Err(Failure::file(record, "there is no such record"));
    }
    let reopened = Reopened::open(record).map_err(|error| match &error {
        WriteError::Unreadable { source, .. } => no_record(record, &source.to_string()),
        WriteError::Busy { .. } => {
            Failure::file(record, "a run is writing this record").help("wait until it has ended")
        }
        _ => Failure::trouble(error.to_string()),
    })?;
    match reopened.progress.broken_at {
        None => Ok(reopened),
        Some(line) => {
            let message = format!(
                "the record was changed after the test: line {line} does not follow from the line before"
            );
            Err(Failure::file(record, message)
                .help("nothing is added to it; it can still be reported, with a warning"))
        }
    }
}

fn trouble(error: WriteError) -> Failure {
    Failure::trouble(error.to_string())
}

/// A file of the record as a source.
fn source(copy: &FileCopy) -> Source {
    copy.source(format!("{} (in the record)", copy.name))
}

fn graded(args: &Args, run: &Run) -> Result<GradedAgain, Failure> {
    let started = &run.started;
    let then = run.asset(WINGS)?;
    let (asset, asset_source) = match &args.asset {
        Some(path) => {
            let source = read_as(Kind::Asset, path)?;
            let asset = WINGS.asset(&source)?;
            same_unit(path, &then, &asset)?;
            (asset, Some(source))
        }
        None => (then.clone(), None),
    };
    let plan_source = match &args.plan {
        Some(path) => read_as(Kind::Plan, path)?,
        None => source(&started.plan),
    };
    let plan = PlanForm::load(&plan_source, WINGS)?.resolve(&plan_source, &asset)?;
    // Files that the record names stood beside its plan, as the record does.
    let beside = args.plan.clone().unwrap_or_else(|| args.record.clone());
    let rig_source = source(&started.rig);
    let base = RigForm::load(&rig_source)?;
    let rig_path = args.record.with_file_name(&started.rig.name);
    let instruments = crate::rigs::instruments(&base, &rig_source, &rig_path)?;
    let capability = together(&base.capability, &instruments);
    let read = |name: &str, _: &std::ops::Range<usize>| {
        let file = Path::new(name).file_name().unwrap_or_default().to_string_lossy().into_owned();
        match (&args.plan, started.scripts.iter().find(|s| s.name == file)) {
            (None, Some(copy)) => Ok(source(copy)),
            _ => read_source(&beside.parent().unwrap_or(Path::new("")).join(name)),
        }
    };
    let seed = started.seed.unwrap_or(base.seeds.rig);
    let (scripts, sources) = load_scripts_by(&beside, &plan, &asset, (&capability, seed), &read)?;
    let bench = Bench { asset: &asset, capability: &capability };
    let mut again = Again::new(&plan, bench, &scripts);
    let unreadable = |error: EventError| Failure::file(&args.record, error.to_string());
    let mut filled = run.served.iter();
    for line in Events::open(&args.record).map_err(unreadable)? {
        let mut event = line.map_err(unreadable)?.event;
        // With the samples that were kept beside the record.
        if let Event::Observed { observation, .. } = &mut event
            && let Some(served) = filled.next()
        {
            observation.captures.clone_from(&served.observation.captures);
        }
        again.take(event);
    }
    let grades = again.finish();
    let scripts: Vec<FileCopy> = sources.iter().map(copy).collect();
    let is_new = |script: &FileCopy| {
        started.scripts.iter().all(|s| s.name != script.name || s.text != script.text)
    };
    Ok(GradedAgain {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        reason: args.reason.clone(),
        changes: changes(started, &then, &asset, &plan_source, plan.rule),
        asset: asset_source.as_ref().map(copy),
        plan: args.plan.as_ref().map(|_| copy(&plan_source)),
        scripts: scripts.into_iter().filter(is_new).filter(|_| args.plan.is_some()).collect(),
        rule: plan.rule,
        summary: Summary::of(grades.iter().map(|grade| grade.verdict)),
        grades,
    })
}

/// Refuses the file of another unit than the one that was tested.
fn same_unit(path: &Path, then: &Asset, now: &Asset) -> Result<(), Failure> {
    let (a, b) = (&then.identity, &now.identity);
    if a.tag == b.tag {
        return Ok(());
    }
    let message = format!("the record is of {}, and this file of {}", a.tag, b.tag);
    Err(Failure::file(path, message)
        .help("grade it by a file with the tag of the unit that was tested"))
}

/// What is another than when it was tested.
fn changes(
    started: &RunStarted,
    then: &Asset,
    now: &Asset,
    plan: &Source,
    rule: waltron_core::grading::Rule,
) -> Vec<Change> {
    let mut all = Resolved::of(then).changes_to(&Resolved::of(now));
    let word = |rule: waltron_core::grading::Rule| {
        Some(if rule.is_simple() { "simple" } else { "guarded" }.to_owned())
    };
    if rule != started.rule {
        all.push(Change { name: "rule".into(), then: word(started.rule), now: word(rule) });
    }
    if *plan.text != *started.plan.text {
        let now = Path::new(&plan.name).file_name().map(|n| n.to_string_lossy().into_owned());
        all.push(Change { name: "plan".into(), then: Some(started.plan.name.clone()), now });
    }
    all
}

fn show(args: &Args, run: &Run, again: &GradedAgain, exit: Exit, terminal: &Terminal) {
    let moved = changed(&run.points, &again.grades);
    if args.format == Format::Json {
        let shown = json!({
            "record": args.record.display().to_string(),
            "exit": exit.code(),
            "changes": again.changes,
            "summary": again.summary,
            "not_reached": run.left_open().0,
            "left_out": run.ended.as_ref().map_or(&[][..], |ended| &ended.left_out),
            "points": again.grades,
        });
        terminal.print_json(shown);
        return;
    }
    let mut text = String::new();
    if !again.changes.is_empty() {
        text.push_str(&format!("{}\n", styled(STRONG, "Changed since it was tested")));
    }
    for change in &again.changes {
        let side = |side: &Option<String>| side.as_deref().map_or_else(|| "–".to_owned(), plain);
        let (then, now) = (side(&change.then), side(&change.now));
        text.push_str(&format!("  {}  {then} → {now}\n", plain(&change.name)));
    }
    if again.changes.is_empty() {
        text.push_str("Settings and rules are those that it was tested with\n");
    }
    if !moved.is_empty() {
        text.push('\n');
    }
    let width = moved.iter().map(|(point, ..)| point.id.chars().count()).max().unwrap_or(0);
    for (_, then, grade) in &moved {
        let then = then.map_or("not graded", Verdict::word);
        let line = view::point_line(grade, width.min(34), terminal.width());
        text.push_str(&format!("{}  (was {then})\n", line.trim_end()));
    }
    let count = counted(again.grades.len(), "point");
    let moved = match moved.len() {
        0 => "no verdict changed".to_owned(),
        n => format!("{} changed", counted(n, "verdict")),
    };
    text.push_str(&format!("\n{count} graded again: {moved}\n"));
    let (not_reached, left_out) = run.left_open();
    text.push_str(&format!("{}\n", view::verdict(exit, again.summary, not_reached)));
    if left_out > 0 {
        let count = counted(left_out, "point");
        text.push_str(&format!("{count} of the plan not asked for, and not tested (--only)\n"));
    }
    if run.ended.is_none() {
        text.push_str("The run was cut: what it did not reach is not tested\n");
    }
    let shown = for_shell(&args.record);
    let page = for_shell(&args.record.with_extension("").with_extension("html"));
    text.push_str(&format!("Next    waltron report {shown} -o {page}\n"));
    terminal.print(&text);
}
