//! `waltron plot`: a chart of a run or an asset, or of what a test puts out.

use super::load_run;
use super::wave::time;
use crate::cli::Plot as Args;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files;
use crate::job::Job;
use crate::kind::{Kind, read_as};
use crate::terminal::Terminal;
use crate::wings::WINGS;
use std::path::Path;
use waltron_core::asset::Asset;
use waltron_core::quantity::Measure;
use waltron_core::record::Run;
use waltron_core::section::Chart;
use waltron_core::text::name::Name;
use waltron_report::plot::{of_program, png, svg};

/// Draws one chart.
///
/// # Errors
/// A source that is neither record nor asset, an unknown format or element, a file that exists.
pub(crate) fn plot(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let is_png = is_png(&args.output)?;
    files::refuse_existing(&args.output, args.force)?;
    if let Some(test) = &args.test {
        let diagram = stimulus(args, test)?;
        write(args, is_png, &diagram)?;
        terminal.print(&format!("Plot    {}\n", args.output.display()));
        return Ok(Exit::Pass);
    }
    if args.source.to_string_lossy().ends_with(".plan.toml") {
        return Err(Failure::usage("which test of the plan shall be drawn?")
            .help("name it with --test ID, or draw a run record or an asset"));
    }
    let (asset, run) = load(&args.source, terminal)?;
    let earlier = args.against.as_ref().map(|path| load_run(path, terminal)).transpose()?;
    let told = run.as_ref().map(|run| run.told_beside(earlier.as_ref())).unwrap_or_default();
    let charts = WINGS.charts(&asset, told);
    let chart = choose(&charts, &asset, args.element.as_deref())?;
    write(args, is_png, chart)?;
    terminal.print(&format!("Plot    {}\n", args.output.display()));
    if args.element.is_none() && charts.len() > 1 {
        let others: Vec<&str> =
            charts[1..].iter().filter_map(|c| Some(c.of.first()?.as_str())).collect();
        terminal.chat(&format!("there is more to draw: --element {}\n", others.join(" or ")));
    }
    Ok(Exit::Pass)
}

/// Whether a picture's ending asks for PNG rather than SVG.
///
/// # Errors
/// Another ending.
pub(super) fn is_png(path: &Path) -> Result<bool, Failure> {
    let ending = path.extension().and_then(|e| e.to_str()).unwrap_or_default();
    match ending.to_ascii_lowercase().as_str() {
        "svg" => Ok(false),
        "png" => Ok(true),
        _ => Err(Failure::usage(format!("no picture format has the ending `.{ending}`"))
            .help("name the picture ….svg or ….png")),
    }
}

/// Writes a chart in the format of the file's ending.
pub(super) fn write_to(
    path: &Path,
    is_png: bool,
    size: (u32, u32),
    chart: &Chart,
    force: bool,
) -> Result<(), Failure> {
    let drawing = |e: waltron_report::plot::PlotError| Failure::trouble(e.to_string());
    let bytes = if is_png {
        png(chart, size).map_err(drawing)?
    } else {
        svg(chart, size).map_err(drawing)?.into_bytes()
    };
    files::write(path, &bytes, force)
}

fn write(args: &Args, is_png: bool, chart: &Chart) -> Result<(), Failure> {
    write_to(&args.output, is_png, args.size, chart, args.force)
}

/// What an injection of a test puts out.
fn stimulus(args: &Args, test: &str) -> Result<Chart, Failure> {
    let job = Job::load(&args.source, None)?;
    let planned = job.injection(test, args.injection)?;
    let time = |given: &Option<String>, default| given.as_deref().map_or(Ok(default), time);
    let longest = planned.program.longest().unwrap_or_default().si();
    let window = (time(&args.from, 0.0)?, time(&args.to, longest)?);
    let point = planned.points.first().map(|p| p.point.id.clone());
    let title = format!("{}: {}", job.asset.identity.tag, point.unwrap_or_else(|| test.to_owned()));
    of_program(title, &planned.program, None, Some(window))
        .map_err(|e| Failure::usage(e.to_string()))
}

fn load(path: &Path, terminal: &Terminal) -> Result<(Asset, Option<Run>), Failure> {
    if path.extension().is_some_and(|e| e == "toml") {
        let asset = WINGS.asset(&read_as(Kind::Asset, path)?)?;
        return Ok((asset, None));
    }
    let run = load_run(path, terminal)?;
    Ok((run.asset(WINGS)?, Some(run)))
}

fn choose<'c>(
    charts: &'c [Chart],
    asset: &Asset,
    element: Option<&str>,
) -> Result<&'c Chart, Failure> {
    let tag = &asset.identity.tag;
    let ids: Vec<&str> = charts.iter().flat_map(|c| &c.of).map(Name::as_str).collect();
    if ids.is_empty() {
        let message = format!("there is nothing to draw: {tag} has no characteristic that is on");
        let help = "of what has no characteristic, draw a run record";
        return Err(Failure::usage(message).help(help));
    }
    let found = match element {
        None => charts.first(),
        Some(id) => charts.iter().find(|c| c.of.iter().any(|e| e == id)),
    };
    let wanted = element.unwrap_or_default();
    found.ok_or_else(|| {
        let is_off = asset.element(wanted).is_some_and(|e| !e.enabled);
        let why = match asset.element(wanted) {
            Some(_) if is_off => format!("{wanted} is switched off"),
            Some(found) => format!("{wanted} is {}, of which there is no chart", found.name()),
            None => format!("{tag} has no element `{wanted}`"),
        };
        Failure::usage(why).help(format!("there are charts of {}", ids.join(", ")))
    })
}
