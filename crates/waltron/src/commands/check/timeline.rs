//! `waltron check --timeline`: every stage of every injection.

use crate::tables::{align_right, table};
use crate::terminal::{FAINT, STRONG, Terminal, plain, styled};
use serde_json::json;
use waltron_core::injection::program::{Program, words};
use waltron_core::procedure::Planned;
use waltron_core::quantity::{Measure, seconds, significant, text as in_words};
use waltron_rig::runner::Prepared;

/// The stages as a table for each injection.
pub(super) fn text(prepared: &Prepared, terminal: &Terminal) -> String {
    let mut out = String::new();
    let mut test = None;
    let mut number = 0;
    for (id, planned) in prepared.planned() {
        if test != Some(id) {
            out.push_str(&format!("{}\n\n", styled(STRONG, &plain(id.as_str()))));
            test = Some(id);
            number = 0;
        }
        if planned.program.segments.is_empty() {
            continue;
        }
        number += 1;
        let points: Vec<String> = planned.points.iter().map(|p| plain(&p.point.id)).collect();
        let head = format!("Injection {number}  {}", points.join(", "));
        out.push_str(&format!("{}\n", styled(FAINT, head.trim_end())));
        out.push_str(&stages(&planned.program, terminal));
        out.push('\n');
    }
    out
}

/// The stages of a program as a table, and the true RMS value of what is not a plain sine.
pub(in crate::commands) fn stages(program: &Program, terminal: &Terminal) -> String {
    let header = ["Stage", "Start", "At most", "Puts out", "Ends early on"];
    let mut table = table(header, terminal);
    let mut start = seconds(0.0);
    let mut certain = true;
    let mut waves = Vec::new();
    for segment in &program.segments {
        let longest = segment.longest().unwrap_or_default();
        let ends = words::ends(segment);
        // What follows a stage that can end early begins at that time at the latest.
        let begins = if certain { in_words(start) } else { format!("≤ {}", in_words(start)) };
        table.add_row([
            plain(segment.name.as_str()),
            begins,
            in_words(longest),
            plain(&words::profile(&segment.profile)),
            plain(&ends),
        ]);
        waves.extend(words::distorted(&segment.profile.last()));
        certain &= ends.is_empty();
        start += longest;
    }
    align_right(&mut table, 1..3);
    let mut out = format!("{table}\n");
    for (channel, rms, thd) in waves {
        out.push_str(&format!(
            "   {channel}: true RMS {rms}, THD {} %\n",
            significant(thd * 100.0, 3)
        ));
    }
    out
}

/// The stages of one injection for programs.
pub(super) fn json(planned: &Planned) -> serde_json::Value {
    let mut start = 0.0;
    let stages = planned.program.segments.iter().map(|segment| {
        let longest = segment.longest().unwrap_or_default().si();
        let stage = json!({
            "name": segment.name,
            "latest_start_s": start,
            "longest_s": longest,
            "profile": segment.profile,
            "stops": segment.stops,
        });
        start += longest;
        stage
    });
    stages.collect()
}
