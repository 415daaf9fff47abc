//! `waltron hookup`: which rig terminal goes to which asset terminal, and what to see to first.

use crate::cli::Hookup as Args;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files;
use crate::job::Job;
use crate::tables;
use crate::terminal::{STRONG, Terminal, plain, styled};
use crate::wings::WINGS;
use waltron_core::plan::hookup::{BY_HAND, Sheet};
use waltron_report::hookup::whole_drawing;
use waltron_report::html::{by_test, hookup_page};

/// Prints the sheet, or writes it where a file is named.
///
/// # Errors
/// A plan that cannot be loaded, an unknown format, a file that exists.
pub(crate) fn hookup(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let job = Job::load(&args.plan, args.rig.as_deref())?;
    let mut prepared = job.prepare()?;
    if let Some(test) = &args.test {
        job.refuse_unknown_test(test)?;
        prepared.keep_only(test);
    }
    let sheet = job.sheet(&prepared);
    let leads = WINGS.leads(&job.asset, &sheet.places);
    let title = &job.plan.title;
    let Some(output) = &args.output else {
        terminal.print(&text(&sheet, title, terminal));
        return Ok(Exit::Pass);
    };
    files::refuse_existing(output, args.force)?;
    let ending = output.extension().and_then(|e| e.to_str()).unwrap_or_default();
    let page = match ending.to_ascii_lowercase().as_str() {
        "svg" => whole_drawing(&sheet),
        "html" | "htm" => hookup_page(&sheet, title, leads.as_deref()),
        "txt" => anstream::adapter::strip_str(&text(&sheet, title, terminal)).to_string(),
        _ => {
            return Err(Failure::usage(format!("no hook-up sheet has the ending `.{ending}`"))
                .help("name it ….html, ….svg or ….txt"));
        }
    };
    files::write(output, page.as_bytes(), args.force)?;
    terminal.print(&format!("Hook-up {}\n", output.display()));
    Ok(Exit::Pass)
}

fn numbered(title: &str, lines: &[String], out: &mut String) {
    if lines.is_empty() {
        return;
    }
    out.push_str(&format!("{}\n", styled(STRONG, title)));
    for (n, line) in lines.iter().enumerate() {
        out.push_str(&format!(" {:>2}  {}\n", n + 1, plain(line)));
    }
    out.push('\n');
}

fn text(sheet: &Sheet, title: &str, terminal: &Terminal) -> String {
    let details: String =
        sheet.details.iter().map(|(_, value)| format!("  {}", plain(value))).collect();
    let mut out =
        format!("{}\n{}{details}\n\n", styled(STRONG, &plain(title)), plain(&sheet.asset));
    if sheet.wires.is_empty() {
        out.push_str("Nothing of the rig is connected: its outputs stay off\n\n");
    }
    numbered("Before connecting", &sheet.before, &mut out);
    for group in &sheet.for_tests {
        numbered(&plain(&group.title()), &group.lines, &mut out);
    }
    if !sheet.wires.is_empty() {
        let mut table = tables::table(vec!["Rig", "", "Asset", "What", "At most"], terminal);
        for wire in &sheet.wires {
            let rig = if wire.rig == wire.id.as_str() {
                plain(&wire.rig)
            } else {
                format!("{} ({})", plain(&wire.rig), plain(wire.id.as_str()))
            };
            table.add_row(vec![
                rig,
                if wire.carries.is_to_asset() { "-->" } else { "<--" }.to_owned(),
                wire.asset.as_deref().map_or_else(|| "not in the asset's file".to_owned(), plain),
                plain(&wire.what),
                wire.most.clone().unwrap_or_default(),
            ]);
        }
        out.push_str(&format!("{table}\n\n{}\n", styled(STRONG, "By test")));
        let tests = by_test(sheet);
        let width = tests.iter().map(|(t, _)| t.as_str().chars().count()).max().unwrap_or(0);
        for (test, wires) in tests {
            let uses: Vec<String> = wires.iter().map(|w| plain(w.id.as_str())).collect();
            out.push_str(&format!("  {:<width$}  {}\n", plain(test.as_str()), uses.join(", ")));
        }
        out.push('\n');
    }
    let places: Vec<String> = sheet.places.iter().map(ToString::to_string).collect();
    numbered("The leads go to", &places, &mut out);
    numbered(BY_HAND, &sheet.by_hand, &mut out);
    numbered("Afterwards", &sheet.after, &mut out);
    out
}
