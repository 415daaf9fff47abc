//! The report's tables.

use super::block::{self, SHORT_TABLE};
use maud::{Markup, html as markup};
use waltron_core::grading::{Grade, Summary, Verdict, words};
use waltron_core::record::{Resolved, Run};
use waltron_core::section::{Block, Section, Table};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{combined, words as budget};

/// The tests in the order they were first graded, each with its points.
fn by_test(run: &Run) -> Vec<(&Name, Vec<&Grade>)> {
    let mut tests: Vec<(&Name, Vec<&Grade>)> = Vec::new();
    for grade in &run.points {
        match tests.iter_mut().find(|(t, _)| *t == &grade.point.test) {
            Some((_, points)) => points.push(grade),
            None => tests.push((&grade.point.test, vec![grade])),
        }
    }
    tests
}

pub(super) fn summary(run: &Run) -> Markup {
    let tests = by_test(run);
    let cell = |n: usize, class: &str| {
        markup! {
            @if n > 0 { td class={ "number " (class) } { (n) } } @else { td.number { "–" } }
        }
    };
    // Where everything is required, nobody looks for what is only measured.
    let measured = run.summary().measured > 0;
    let row = |name: &str, s: Summary| {
        markup! {
            td { (name) } td.number { (s.total()) }
            (cell(s.pass, "pass")) (cell(s.fail, "fail"))
            (cell(s.inconclusive, "open")) (cell(s.not_tested, "open"))
            @if measured { (cell(s.measured, "noted")) }
        }
    };
    markup! {
        section {
            h2 { "Summary" }
            table {
                thead { tr {
                    th { "Test" } th.number { "Points" } th.number { "Pass" } th.number { "Fail" }
                    th.number { "Inconclusive" } th.number { "Not tested" }
                    @if measured { th.number { "Measured" } }
                } }
                tbody {
                    @for (test, points) in &tests {
                        tr { (row(test.as_str(), Summary::of(points.iter().map(|g| g.verdict)))) }
                    }
                }
                tfoot { tr { (row("All", run.summary())) } }
            }
        }
    }
}

/// What the run did not come to, and what it was not asked for, test by test.
pub(super) fn not_reached(run: &Run) -> Markup {
    markup! {
        (points_of("Not reached", run.ended.iter().flat_map(|ended| &ended.open)))
        (points_of("Not asked for", run.ended.iter().flat_map(|ended| &ended.left_out)))
    }
}

fn points_of<'a>(title: &str, open: impl Iterator<Item = &'a String>) -> Markup {
    let mut tests: Vec<(&str, Vec<&str>)> = Vec::new();
    for (test, point) in open.map(|id| id.split_once('/').unwrap_or((id, ""))) {
        match tests.iter_mut().find(|(t, _)| *t == test) {
            Some((_, points)) => points.push(point),
            None => tests.push((test, vec![point])),
        }
    }
    markup! {
        @if !tests.is_empty() {
            section {
                h2 { (title) }
                table {
                    thead { tr { th { "Test" } th.number { "Points" } th { "Which" } } }
                    tbody {
                        @for (test, points) in &tests {
                            tr {
                                td { (test) } td.number { (points.len()) }
                                td { (points.join(", ")) }
                            }
                        }
                    }
                }
            }
        }
    }
}

/// The settings by name, where the asset's file cannot be read any more.
pub(super) fn resolved(resolved: &Resolved) -> Section {
    let note = "The asset's file in the record has a form that this version does not read; these are \
                its settings as they were read when the run began.";
    let mut table = Table::of(&["Setting", "Value"]);
    let rows = resolved.settings.iter().map(|s| vec![s.name.to_string(), s.value.clone()]);
    table.rows.extend(rows);
    let blocks = vec![Block::Note(note.to_owned()), Block::Table(table)];
    Section::new("Settings and tolerances", blocks)
}

/// Waveforms beside the record: where they are, and what they show.
pub(super) fn kept(run: &Run, shown: &[Block]) -> Markup {
    if run.kept.is_empty() {
        return Markup::default();
    }
    let measured = |names: &[Name]| match names {
        [] => "nothing".to_owned(),
        names => names.iter().map(Name::to_string).collect::<Vec<_>>().join(", "),
    };
    let mut table = Table::of(&["Name", "Test", "File", "Measured", "BLAKE3"]);
    for kept in &run.kept {
        table.rows.push(vec![
            kept.name.to_string(),
            kept.test.to_string(),
            kept.file.clone(),
            measured(&kept.measured),
            format!("{}…", kept.digest.get(..16).unwrap_or(&kept.digest)),
        ]);
    }
    let note = "COMTRADE files beside the record; with what is measured is what was put out, and the \
                contacts.";
    let mut blocks = vec![Block::Note(note.to_owned()), Block::Table(table)];
    blocks.extend(shown.iter().cloned());
    block::section(&Section::new("Waveforms", blocks))
}

pub(super) fn results(run: &Run) -> Markup {
    let guarded = !run.started.rule.is_simple();
    markup! {
        section {
            h2 { "Results" }
            @if guarded {
                p.hint {
                    "A value passes if it is inside its limits by at least its uncertainty U; nearer "
                    "to a limit it is inconclusive (JCGM 106, guard band w = U)."
                }
            }
            @for (test, points) in by_test(run) {
                // A short table stays on one page with its heading.
                @let short = points.len() <= SHORT_TABLE;
                div.short[short] { h3 { (test) }
                table.results {
                    (result_head(guarded))
                    tbody { @for grade in points { (result(grade, guarded)) } }
                } }
            }
        }
    }
}

fn result_head(guarded: bool) -> Markup {
    markup! {
        thead { tr {
            th { "Verdict" } th { "Point" } th.number { "Injected" }
            th.number { "Expected" } th.number { "Allowed" } th.number { "Measured" }
            th.number { "Deviation" }
            @if guarded { th.number { "U (k = 2)" } }
            th { "Reason" }
        } }
    }
}

/// The class of a cell that tells a verdict.
pub(super) fn class(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Pass => "pass",
        Verdict::Fail => "fail",
        Verdict::Measured => "noted",
        Verdict::Inconclusive | Verdict::NotTested => "open",
    }
}

/// The mark beside a verdict's word.
pub(super) fn sign(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Pass => "✓",
        Verdict::Fail => "✗",
        Verdict::Inconclusive => "?",
        Verdict::Measured => "·",
        Verdict::NotTested => "–",
    }
}

fn result(grade: &Grade, guarded: bool) -> Markup {
    let prefix = format!("{}/", grade.point.test);
    let short = grade.point.id.strip_prefix(&prefix).unwrap_or(&grade.point.id);
    markup! {
        tr {
            td class={ "verdict " (class(grade.verdict)) } { (sign(grade.verdict)) " " (grade.verdict) }
            td { (short) @if grade.attempt > 1 { " (attempt " (grade.attempt) ")" } }
            td.number { (words::injected(&grade.stimulus).unwrap_or_default()) }
            td.number { (words::main_value(&grade.expected, &grade.limits, false)) }
            td.number { (grade.limits.words().unwrap_or_else(|| "–".into())) }
            td.number { (words::main_value(&grade.measured, &grade.limits, true)) }
            td.number { (grade.deviation.deviation_text()) }
            @if guarded {
                td.number { (grade.uncertainty.text("u").unwrap_or_else(|| "–".into())) }
            }
            td { (grade.reason) }
        }
    }
}

/// Attempts that later ones replaced.
pub(super) fn attempts(run: &Run) -> Markup {
    let guarded = !run.started.rule.is_simple();
    markup! {
        @if !run.superseded.is_empty() {
            section {
                h2 { "Earlier attempts" }
                p.hint { "A later attempt of each of these points counts and stands above, or its test was changed or taken out." }
                table.results {
                    (result_head(guarded))
                    tbody { @for grade in &run.superseded { (earlier(grade, guarded)) } }
                }
            }
        }
    }
}

/// An earlier attempt's row: with its test, and its number.
fn earlier(grade: &Grade, guarded: bool) -> Markup {
    let mut shown = grade.clone();
    shown.attempt = 1;
    shown.point.id = format!("{} (attempt {})", grade.point.id, grade.attempt);
    shown.point.test = "".into();
    result(&shown, guarded)
}

/// What the uncertainty of each point is made of, where that is known.
pub(super) fn budgets(run: &Run) -> Markup {
    let measured = |grade: &&Grade| grade.measured.iter().next().map(|(_, value)| value);
    let all: Vec<&Grade> = run.points.iter().filter(|grade| !grade.budget.is_empty()).collect();
    markup! {
        @if !all.is_empty() {
            section {
                h2 { "What the uncertainties are made of" }
                p.hint { "What errs, as it is stated, its standard uncertainty, by how much it moves the value, and what it adds; U (k = 2) is twice the root of the sum of the squares." }
                table.results {
                    thead { tr {
                        th { "Point" } th { "What errs" } th.number { "Stated" } th { "÷" }
                        th.number { "Standard" } th.number { "Moves it by" } th.number { "Adds" }
                        th.number { "Share" }
                    } }
                    tbody { @for grade in &all { @if let Some(value) = measured(grade) {
                        @for (k, row) in budget::rows(&grade.budget, value).into_iter().enumerate() {
                            tr {
                                td { @if k == 0 { (grade.point.id) " ± " (value.with_si(2.0 * combined(&grade.budget))) } }
                                td { (row.source) }
                                td.number { (row.stated) }
                                td { (row.divisor) }
                                td.number { (row.standard) }
                                td.number { (row.moves) }
                                td.number { (row.adds) }
                                td.number { (row.share) }
                            }
                        }
                    } } }
                }
            }
        }
    }
}
