//! `waltron check`: everything but the injection.

use crate::cli::{Check as Args, Format};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::job::Job;
use crate::terminal::{DOUBTFUL, STRONG, Terminal, plain, styled};
use crate::view::duration;
use comfy_table::{CellAlignment, Table};
use serde_json::json;
use waltron_core::name::Name;
use waltron_core::procedure::Planned;
use waltron_core::quantity::{Current, Measure, Time, Voltage, text};
use waltron_rig::runner::Prepared;

/// Loads, resolves, checks, and shows what will be put out.
///
/// # Errors
/// Everything that stands in the way.
pub(crate) fn check(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let job = Job::load(&args.plan, args.rig.as_deref())?;
    let prepared = job.prepare()?;
    job.rig(job.rig.seed, waltron_rig::virtual_rig::Pace::Fast)?;
    match args.format {
        Format::Json => terminal.print(&format!("{}\n", as_json(&prepared))),
        Format::Text => terminal.print(&as_text(&job, &prepared, terminal)),
    }
    Ok(Exit::Pass)
}

/// The largest RMS value of each channel over the whole plan.
fn maxima(prepared: &Prepared) -> Vec<(Name, f64, bool)> {
    let mut all: Vec<(Name, f64, bool)> = Vec::new();
    let tested = prepared.planned().iter().filter(|(_, p)| p.not_tested.is_none());
    for (channel, rms, is_current) in tested.flat_map(|(_, p)| p.program.maxima()) {
        match all.iter_mut().find(|(c, _, _)| *c == channel) {
            Some(found) => found.1 = found.1.max(rms),
            None => all.push((channel, rms, is_current)),
        }
    }
    all.sort_by(|a, b| a.0.cmp(&b.0));
    all
}

fn longest(planned: &Planned) -> Time {
    planned.program.longest().unwrap_or_default()
}

fn as_json(prepared: &Prepared) -> serde_json::Value {
    let injections: Vec<_> = prepared
        .planned()
        .iter()
        .map(|(test, p)| {
            json!({
                "test": test,
                "points": p.points.iter().map(|p| &p.id).collect::<Vec<_>>(),
                "stimulus": p.stimulus,
                "expected": p.expected,
                "limits": p.limits,
                "likely_s": p.likely.si(),
                "longest_s": longest(p).si(),
                "not_tested": p.not_tested,
            })
        })
        .collect();
    let maxima: serde_json::Map<String, serde_json::Value> = maxima(prepared)
        .into_iter()
        .map(|(channel, rms, is_current)| {
            (format!("{channel}_{}", if is_current { "a" } else { "v" }), rms.into())
        })
        .collect();
    json!({
        "points": prepared.point_count(),
        "likely_s": prepared.likely_time().si(),
        "maxima": maxima,
        "injections": injections,
    })
}

fn as_text(job: &Job, prepared: &Prepared, terminal: &Terminal) -> String {
    let mut out = format!(
        "{}\n{} on {}: the plan can be run\n\n",
        styled(STRONG, &plain(&job.plan.title)),
        plain(&job.asset.identity.tag),
        plain(&job.rig.name),
    );
    let mut table = Table::new();
    table.load_style(comfy_table::presets::NOTHING);
    if let Some(width) = terminal.width() {
        table.set_width(u16::try_from(width).unwrap_or(u16::MAX));
    }
    table.set_header(["Point", "Injected", "Expected", "Allowed", "At most"]);
    let mut skipped: Vec<(String, String)> = Vec::new();
    for (_, planned) in prepared.planned() {
        let ids: Vec<String> = planned.points.iter().map(|p| plain(&p.id)).collect();
        if let Some(reason) = &planned.not_tested {
            skipped.push((ids.join(", "), plain(reason)));
        }
        let value = |name: &str| planned.stimulus.text(name);
        let injected = value("current").unwrap_or_else(|| {
            let [from, to, step] = ["from_current", "to_current", "step_current"]
                .map(|n| value(n).unwrap_or_default());
            format!("{from} to {to} by {step}")
        });
        let limit = |name: &str| planned.limits.text(name);
        let allowed =
            match (limit("lower").or(limit("earliest")), limit("upper").or(limit("latest"))) {
                (Some(a), Some(b)) => format!("{a} … {b}"),
                (Some(a), None) => format!("from {a}"),
                _ => "no trip".to_owned(),
            };
        let expected = planned.expected.iter().next();
        table.add_row([
            ids.first().cloned().unwrap_or_default(),
            injected,
            expected.map_or_else(|| "no trip".to_owned(), |(_, v)| v.to_string()),
            allowed,
            text(longest(planned)),
        ]);
    }
    for column in table.column_iter_mut().skip(1) {
        column.set_cell_alignment(CellAlignment::Right);
    }
    out.push_str(&format!("{table}\n\n"));
    for (points, reason) in &skipped {
        out.push_str(&styled(DOUBTFUL, &format!("Not tested  {points}: {reason}\n")));
    }
    let maxima: Vec<String> = maxima(prepared)
        .into_iter()
        .map(|(channel, rms, is_current)| {
            let value =
                if is_current { text(Current::from_si(rms)) } else { text(Voltage::from_si(rms)) };
            format!("{channel} {value}")
        })
        .collect();
    out.push_str(&format!("Maxima    {}\n", maxima.join("   ")));
    if job.asset.ratings.thermal.is_empty() {
        let warning = "the asset gives no thermal ratings: only the rig's range limits the output";
        out.push_str(&styled(DOUBTFUL, &format!("Warning   {warning}\n")));
    }
    out.push_str(&format!(
        "Points    {}\nDuration  about {}\n",
        prepared.point_count(),
        duration(prepared.likely_time()),
    ));
    out
}
