//! The page: title block, verdict, settings, results, diagrams.

use super::{again, block, hookup, tables};
use maud::{DOCTYPE, Markup, PreEscaped, html as markup};
use waltron_core::asset::{Asset, Identity};
use waltron_core::grading::{Verdict, words};
use waltron_core::plan::hookup::Sheet;
use waltron_core::quantity::{counted, text};
use waltron_core::record::{Outcome, Run};
use waltron_core::section::Block;
use waltron_core::text::document::DocumentError;
use waltron_core::wing::Wings;

pub(super) const STYLE: &str = include_str!("style.css");
const SCRIPT: &str = include_str!("script.js");

/// A run that is reported.
#[derive(Clone, Debug)]
pub struct Told<'r> {
    /// The run.
    pub run: &'r Run,
    /// The waveforms that were kept beside its record, as they are to be shown.
    pub waveforms: Vec<Block>,
    /// An earlier run to show beside it.
    pub earlier: Option<&'r Run>,
}

/// Without its waveforms.
impl<'r> From<&'r Run> for Told<'r> {
    fn from(run: &'r Run) -> Self {
        Self { run, waveforms: Vec::new(), earlier: None }
    }
}

/// The report of one or several runs, with earlier attempts where they are asked for.
///
/// # Errors
/// A record whose asset cannot be read, and which does not tell what it meant either.
pub fn html(runs: &[Told<'_>], attempts: bool, wings: Wings) -> Result<String, DocumentError> {
    let sections: Vec<Markup> =
        runs.iter().map(|run| section(run, attempts, wings)).collect::<Result<_, _>>()?;
    let title = match runs {
        [one] => one.run.started.title.clone(),
        many => format!("{} test reports", many.len()),
    };
    let page = markup! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (title) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                @for section in &sections { (section) }
                div id="read-out" hidden {}
                script { (PreEscaped(SCRIPT)) }
            }
        }
    };
    Ok(crate::clean::document(page.into_string()))
}

fn section(told: &Told<'_>, attempts: bool, wings: Wings) -> Result<Markup, DocumentError> {
    let run = told.run;
    let asset = match (run.asset(wings), &run.started.resolved) {
        (Ok(asset), _) => Ok(asset),
        // The form of files has moved on: what the file meant stands in the record.
        (Err(_), Some(resolved)) => Err(resolved),
        (Err(error), None) => return Err(error),
    };
    let sections = match &asset {
        Ok(asset) => {
            let told = run.told_beside(told.earlier);
            let mut all = wings.sections(asset, told);
            all.extend(waltron_core::section::compared(told));
            all
        }
        Err(resolved) => vec![tables::resolved(resolved)],
    };
    let leads = |sheet: &Sheet| wings.leads(asset.as_ref().ok()?, &sheet.places);
    Ok(markup! {
        article {
            header {
                div {
                    p.kind { "Test report" }
                    h1 { (run.started.title) }
                }
                div.stamps { (stamp(run)) (latest_stamp(run)) }
            }
            (warnings(run))
            (notes(run))
            (title_block(run, asset.as_ref().map_or_else(|r| &r.identity, |a| &a.identity), asset.as_ref().ok()))
            (tables::summary(run))
            @for section in &sections { (block::section(section)) }
            (tables::results(run))
            (tables::kept(run, &told.waveforms))
            (tables::not_reached(run))
            (again::sections(run))
            @if attempts { (tables::attempts(run)) (tables::budgets(run)) }
            @if let Some(sheet) = &run.started.hookup {
                (hookup::section(sheet, leads(sheet).as_deref()))
            }
            (signatures(run))
        }
    })
}

/// What somebody added.
fn notes(run: &Run) -> Markup {
    markup! {
        @if !run.notes.is_empty() {
            section {
                h2 { "Notes" }
                table.facts { tbody {
                    @for (at, by, text) in &run.notes {
                        tr {
                            th scope="row" { (moment(at)) @if let Some(by) = by { br; (by) } }
                            td { (text) }
                        }
                    }
                } }
            }
        }
    }
}

/// The verdict of the whole, which is what the reader wants first.
fn stamp(run: &Run) -> Markup {
    let summary = run.summary();
    let verdict = match &run.ended {
        Some(ended) if ended.outcome == Outcome::Completed => ended.verdict_of_plan(),
        _ if summary.fail > 0 => Verdict::Fail,
        _ => Verdict::Inconclusive,
    };
    // What nobody asked for is a part of the plan all the same.
    let (not_reached, left_out) = run.left_open();
    let (class, word) = match verdict {
        Verdict::Pass => ("pass", "PASS"),
        Verdict::Fail => ("fail", "FAIL"),
        Verdict::Inconclusive if run.ended.is_none() => ("open", "INCOMPLETE"),
        Verdict::Inconclusive => ("open", "INCONCLUSIVE"),
        Verdict::Measured => ("pass", "MEASURED"),
        Verdict::NotTested => ("open", "NOT FULLY TESTED"),
    };
    markup! {
        div class={ "stamp " (class) } {
            @if !run.again.is_empty() { span { "as tested" } }
            strong { (word) }
            span { (words::passing(summary, not_reached + left_out)) }
        }
    }
}

/// What it came to when it was graded again last.
fn latest_stamp(run: &Run) -> Markup {
    let Some((_, again)) = run.again.last() else { return Markup::default() };
    let verdict = run.verdict_of_plan(again.summary);
    let (not_reached, left_out) = run.left_open();
    let word = match verdict {
        Verdict::Pass => "PASS",
        Verdict::Fail => "FAIL",
        Verdict::Inconclusive => "INCONCLUSIVE",
        Verdict::Measured => "MEASURED",
        Verdict::NotTested => "NOT FULLY TESTED",
    };
    markup! {
        div class={ "stamp " (tables::class(verdict)) } {
            span { "graded again" }
            strong { (word) }
            span { (words::passing(again.summary, not_reached + left_out)) }
        }
    }
}

/// What a reader must know before trusting the numbers.
fn warnings(run: &Run) -> Markup {
    let mut notes: Vec<String> = Vec::new();
    if let Some(line) = run.broken_at {
        notes.push(format!(
            "The record was changed after the test: line {line} does not follow from the line \
             before it. The values below may not be what was measured."
        ));
    }
    if run.cut_bytes > 0 {
        notes.push(format!(
            "The record's last line was cut off ({} left out); it was read up to its last whole \
             event.",
            counted(run.cut_bytes, "byte")
        ));
    }
    let device = run.from_device.iter();
    let device = device.map(|d| format!("{} {} (file: {})", d.name, d.device, d.file));
    let file = run.from_file.iter();
    let file = file.map(|d| format!("{} {} (device: {})", d.name, d.file, d.device));
    for (differences, what) in [
        (
            device.collect::<Vec<_>>(),
            "Settings read from the device held for this run, not those of its file",
        ),
        (
            file.collect(),
            "The device's settings differ from its file; it was tested against those of the file",
        ),
    ] {
        if !differences.is_empty() {
            notes.push(format!("{what}: {}.", differences.join(", ")));
        }
    }
    for (at, tests) in &run.changes {
        let tests: Vec<&str> = tests.iter().map(|test| test.as_str()).collect();
        notes.push(format!(
            "The plan was changed during the run ({}); what was tested before of {} counts no longer.",
            moment(at),
            tests.join(", ")
        ));
    }
    match &run.ended {
        None => notes.push("The run did not come to its end; points are missing.".to_owned()),
        Some(ended) => {
            let how = match &ended.outcome {
                Outcome::Completed if ended.not_reached == 0 => None,
                Outcome::Completed => Some("Not every point was tested".to_owned()),
                Outcome::Stopped => Some("The run was stopped".to_owned()),
                Outcome::RigTrouble(message) => Some(format!("The rig failed ({message})")),
            };
            let left = match ended.not_reached {
                0 => "every point was reached".to_owned(),
                1 => "1 point was not reached".to_owned(),
                n => format!("{} were not reached", counted(n, "point")),
            };
            notes.extend(how.map(|how| format!("{how}; {left}.")));
            if !ended.left_out.is_empty() {
                notes.push(format!(
                    "{} of the plan not tested: the run was not asked for more than {}.",
                    counted(ended.left_out.len(), "point"),
                    run.started.only.join(", ")
                ));
            }
            for owed in &ended.owed {
                notes.push(format!("Not put back: {}.", owed.text));
            }
        }
    }
    markup! { @for note in &notes { p.warning role="alert" { (note) } } }
}

fn title_block(run: &Run, identity: &Identity, asset: Option<&Asset>) -> Markup {
    let started = &run.started;
    let ratings = asset.map(|asset| &asset.ratings);
    let join = |a: &Option<String>, b: &Option<String>| {
        let both: Vec<&str> = [a, b].into_iter().flatten().map(String::as_str).collect();
        (!both.is_empty()).then(|| both.join(" "))
    };
    let nominal: Vec<String> = ratings
        .iter()
        .flat_map(|r| [r.current.map(text), r.voltage.map(text), r.frequency.map(text)])
        .flatten()
        .collect();
    let transformers = ratings
        .iter()
        .flat_map(|r| [("CT", &r.ct), ("VT", &r.vt)])
        .filter_map(|(name, ratio)| Some(format!("{name} {}", ratio.as_ref()?)))
        .collect::<Vec<_>>()
        .join(", ");
    let ambient: Vec<String> =
        started.ambient.iter().map(|(name, value)| format!("{name} {value}")).collect();
    let rig = match started.seed {
        Some(seed) => format!("{} (simulation, seed {seed})", started.rig_name),
        None => started.rig_name.clone(),
    };
    let some = |text: String| (!text.is_empty()).then_some(text);
    let rows: [(&str, Option<String>); 12] = [
        ("Asset", Some(identity.tag.clone())),
        ("Site", identity.site.clone()),
        ("Bay", identity.bay.clone()),
        ("Operator", identity.operator.clone()),
        ("Make and model", join(&identity.maker, &identity.model)),
        ("Serial number", identity.serial.clone()),
        ("Nominal", some(nominal.join(", "))),
        ("Transformers", some(transformers)),
        ("Tested by", started.tester.clone()),
        ("Reason", started.reason.clone()),
        ("Ambient", some(ambient.join(", "))),
        ("Test set", Some(rig)),
    ];
    markup! {
        dl.block {
            @for (name, value) in rows {
                @if let Some(value) = value { div { dt { (name) } dd { (value) } } }
            }
            div { dt { "Started" } dd { (moment(&run.started_at)) } }
            div { dt { "Ended" } dd { (moment(&run.last_at)) } }
        }
    }
}

/// `2026-05-04 08:00:12 UTC` of an RFC 3339 stamp.
pub(super) fn moment(stamp: &str) -> String {
    let seconds = stamp.split('.').next().unwrap_or(stamp).trim_end_matches('Z');
    format!("{} UTC", seconds.replace('T', " "))
}

fn signatures(run: &Run) -> Markup {
    markup! {
        footer {
            div.sign { span { "Tested by" } span { (run.started.tester.as_deref().unwrap_or("")) } }
            div.sign { span { "Approved by" } span {} }
            p.hint {
                "Made by Waltron " (run.started.version) " from the run record of "
                (run.started.plan.name) "."
            }
        }
    }
}
