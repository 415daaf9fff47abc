//! One file a command.

mod check;
mod config;
mod curve;
mod demo;
mod excitation;
mod fmt;
mod grade;
mod hookup;
mod inject;
mod man;
mod new;
mod note;
mod plot;
mod report;
mod rig;
pub(crate) mod run;
mod schema;
mod show;
mod wave;

use crate::cli::{Args, Command};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files::read_bytes;
use crate::kind::no_record;
use crate::terminal::Terminal;
use crate::wings::WINGS;
use clap::CommandFactory;
use std::path::Path;
use waltron_core::quantity::counted;
use waltron_core::record::Run;

/// Does what was asked.
///
/// # Errors
/// Whatever keeps it from being done; nothing is half-written then.
pub(crate) fn run(command: Command, terminal: &Terminal) -> Result<Exit, Failure> {
    match command {
        Command::Demo(args) => demo::demo(&args, terminal),
        Command::New { what } => new::new(&what, terminal),
        Command::Config(args) => config::config(&args, terminal),
        Command::Check(args) => check::check(&args, terminal),
        Command::Run(args) => run::run(&args, terminal),
        Command::Fmt(args) => fmt::fmt(&args, terminal),
        Command::Hookup(args) => hookup::hookup(&args, terminal),
        Command::Rig { what } => rig::rig(&what, terminal),
        Command::Grade(args) => grade::grade(&args, terminal),
        Command::Report(args) => report::report(&args, terminal),
        Command::Plot(args) => plot::plot(&args, terminal),
        Command::Inject(args) => inject::inject(&args, terminal),
        Command::Wave { what } => wave::wave(&what, terminal),
        Command::Curve { what } => curve::curve(&what, terminal),
        Command::Note(args) => note::note(&args, terminal),
        Command::Show(args) => show::show(&args, terminal),
        Command::Schema { kind } => schema::schema(kind, terminal),
        Command::Completions { shell } => {
            // Into a buffer first: the generator panics on a closed pipe.
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut Args::command(), "waltron", &mut script);
            terminal.print(&String::from_utf8_lossy(&script));
            Ok(Exit::Pass)
        }
        Command::Man { dir } => man::man(dir.as_deref(), terminal),
    }
}

/// Reads a run record; says what was cut or changed.
fn load_run(path: &Path, terminal: &Terminal) -> Result<Run, Failure> {
    let bytes = read_bytes(path)?;
    let mut run = Run::read(&bytes).map_err(|error| no_record(path, &error.to_string()))?;
    let name = path.display();
    if run.cut_bytes > 0 {
        terminal.chat(&format!(
            "warning: {name} was cut off: read up to its last whole event; {} left out\n",
            counted(run.cut_bytes, "byte")
        ));
    }
    if let Some(line) = run.broken_at {
        terminal.chat(&format!(
            "warning: {name} was changed after the test: line {line} does not follow from the line before\n"
        ));
    }
    if run.ended.is_none() {
        let points = run.points.len();
        terminal.chat(&format!(
            "warning: {name} ends before the run did; it holds {points} graded points\n"
        ));
    }
    run.read_injections(&bytes, WINGS);
    crate::recording::fill(&mut run, path);
    Ok(run)
}
