//! What a run came to when it was graded again, beside what it came to when it was tested.

use super::page::moment;
use super::tables::{class, sign};
use maud::{Markup, html as markup};
use std::collections::HashMap;
use waltron_core::grading::{Verdict, words};
use waltron_core::record::{GradedAgain, Run};

/// A section for each time.
pub(super) fn sections(run: &Run) -> Markup {
    markup! { @for (at, again) in &run.again { (section(run, at, again)) } }
}

fn section(run: &Run, at: &str, again: &GradedAgain) -> Markup {
    let tested: HashMap<&str, Verdict> =
        run.points.iter().map(|grade| (grade.point.id.as_str(), grade.verdict)).collect();
    let side = |side: &Option<String>| side.clone().unwrap_or_else(|| "–".to_owned());
    markup! {
        section {
            h2 { "Graded again, " (moment(at)) }
            p.note {
                "Nothing was put out for this: what had been measured was judged "
                @if again.changes.is_empty() { "once more by the same settings and rules." }
                @else { "by what stands below." }
                @if let Some(reason) = &again.reason { " Reason: " (reason) "." }
            }
            @if !again.changes.is_empty() {
                table {
                    thead { tr { th { "Changed" } th { "When tested" } th { "Now" } } }
                    tbody {
                        @for change in &again.changes {
                            tr { td { (change.name) } td { (side(&change.then)) } td { (side(&change.now)) } }
                        }
                    }
                }
            }
            table.results {
                thead { tr {
                    th { "Point" } th { "When tested" } th { "Now" } th.number { "Measured" }
                    th.number { "Allowed now" } th { "Reason" }
                } }
                tbody {
                    @for grade in &again.grades {
                        @let then = tested.get(grade.point.id.as_str()).copied();
                        tr {
                            td { (grade.point.id) }
                            (verdict(then))
                            (verdict(Some(grade.verdict)))
                            td.number { (words::main_value(&grade.measured, &grade.limits, true)) }
                            td.number {
                                (grade.limits.words().unwrap_or_else(|| "–".into()))
                            }
                            td { (grade.reason) }
                        }
                    }
                }
            }
        }
    }
}

fn verdict(verdict: Option<Verdict>) -> Markup {
    markup! {
        @match verdict {
            Some(verdict) => { td class={ "verdict " (class(verdict)) } { (sign(verdict)) " " (verdict) } }
            None => { td { "–" } }
        }
    }
}
