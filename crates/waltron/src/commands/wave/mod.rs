//! `waltron wave`: recorded waveforms.

mod analysis;
pub(crate) mod chart;
mod info;

use super::plot::{is_png, write_to};
use crate::cli::wave::{Wave, WaveConvert, WaveMake, WavePlot};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files;
use crate::job::Job;
use crate::recording::{Origin, Recorded, dimension_of, of_waveform, write};
use crate::tables::align_right;
use crate::terminal::Terminal;
use comfy_table::Table;
use waltron_core::injection::waveform::{pieces, render};
use waltron_core::quantity::{
    Dimension, Measure, Quantity, parse_as, seconds, significant, text as in_words,
};
use waltron_wire::comtrade::{Config, Revision};

/// Does what was asked of recordings.
///
/// # Errors
/// Files that are no recordings, windows outside them.
pub(crate) fn wave(what: &Wave, terminal: &Terminal) -> Result<Exit, Failure> {
    match what {
        Wave::Info(args) => info::info(args, terminal),
        Wave::Convert(args) => convert(args, terminal),
        Wave::Plot(args) => draw(args, terminal),
        Wave::Harmonics(args) => analysis::harmonics(args, terminal),
        Wave::Phasors(args) => analysis::phasors(args, terminal),
        Wave::Make(args) => make(args, terminal),
    }
    .map(|()| Exit::Pass)
}

/// A time on the command line.
///
/// # Errors
/// What is no time.
pub(crate) fn time(given: &str) -> Result<f64, Failure> {
    parse_as(given, Dimension::TIME).map_err(|error| {
        let failure = Failure::usage(error.to_string());
        match error.help() {
            Some(help) => failure.help(help),
            None => failure,
        }
    })
}

fn window(from: Option<&str>, to: Option<&str>, end: f64) -> Result<(f64, f64), Failure> {
    let from = from.map_or(Ok(0.0), time)?;
    let to = to.map_or(Ok(end), time)?;
    if from < 0.0 || to <= from || from >= end {
        let (from, to) = (in_words(seconds(from)), in_words(seconds(to)));
        return Err(Failure::usage(format!("there is nothing from {from} to {to}"))
            .help(format!("the recording lasts {}", in_words(seconds(end)))));
    }
    Ok((from, to.min(end)))
}

/// A value in its channel's unit.
fn in_unit(value: f64, unit: &str) -> String {
    match dimension_of(unit) {
        Some((dimension, factor)) => Quantity { si: value * factor, dimension }.to_string(),
        None => format!("{} {unit}", significant(value, 4)),
    }
}

/// The table with its columns from `first` on aligned to the right.
fn right(mut table: Table, first: usize) -> String {
    let columns = table.column_count();
    align_right(&mut table, first..columns);
    format!("{table}\n")
}

/// The time of the first sample as today's edition writes it.
fn moment(config: &Config) -> String {
    config.start.text(Revision::R2013)
}

fn convert(args: &WaveConvert, terminal: &Terminal) -> Result<(), Failure> {
    let recorded = Recorded::of(&args.read)?;
    let end = recorded.data()?.len() as f64 / recorded.rate_hz()?;
    let (from, to) = window(args.from.as_deref(), args.to.as_deref(), end)?;
    write(&recorded.part(from, to)?, &args.write)?;
    terminal.print(&format!("Recording  {}\n", args.write.output.display()));
    Ok(())
}

fn draw(args: &WavePlot, terminal: &Terminal) -> Result<(), Failure> {
    let is_png = is_png(&args.output)?;
    files::refuse_existing(&args.output, args.force)?;
    let recorded = Recorded::of(&args.read)?;
    let end = recorded.data()?.len() as f64 / recorded.rate_hz()?;
    let times = window(args.from.as_deref(), args.to.as_deref(), end)?;
    let title = format!("{} {}", recorded.config.station, recorded.config.device);
    let chart = chart::of(&recorded, title, times)?;
    write_to(&args.output, is_png, args.size, &chart, args.force)?;
    terminal.print(&format!("Plot    {}\n", args.output.display()));
    Ok(())
}

fn make(args: &WaveMake, terminal: &Terminal) -> Result<(), Failure> {
    if !(100.0..=1e6).contains(&args.rate) {
        return Err(Failure::usage(format!("--rate is {}", args.rate))
            .help("give 100 to 1000000 samples a second"));
    }
    let job = Job::load(&args.plan, None)?;
    let planned = job.injection(&args.test, args.injection)?;
    let waveform = render(&pieces(&planned.program, None), args.rate)
        .map_err(|e| Failure::usage(e.to_string()))?;
    let site = job.asset.identity.site.clone().unwrap_or_default();
    let origin = Origin {
        station: &site,
        device: &job.asset.identity.tag,
        frequency_hz: job.asset.ratings.frequency.map(Measure::si),
        start: None,
    };
    write(&of_waveform(&waveform, Vec::new(), &origin), &args.write)?;
    terminal.print(&format!("Recording  {}\n", args.write.output.display()));
    Ok(())
}
