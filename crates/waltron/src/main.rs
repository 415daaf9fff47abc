//! Waltron: scripts, plays and grades injection tests of substation equipment.
//!
//! The command line is glue: arguments, files in and out, and what is shown. Nothing is computed
//! here; see the `waltron-core`, `waltron-rig` and `waltron-report` crates.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

mod cli;
mod commands;
mod exit;
mod failure;
mod files;
mod job;
mod live;
mod panel;
mod recording;
mod rigs;
mod signals;
mod tables;
mod terminal;
mod view;

use clap::Parser;
use exit::Exit;
use std::process::ExitCode;
use terminal::Terminal;

fn main() -> ExitCode {
    let args = match cli::Args::try_parse() {
        Ok(args) => args,
        Err(error) => {
            // Help and version come this way too, and are no error.
            let exit = if error.use_stderr() { Exit::Invalid } else { Exit::Pass };
            let _ = error.print();
            return exit.into();
        }
    };
    let terminal = Terminal::new(args.color);
    let format = args.command.format();
    match commands::run(args.command, &terminal) {
        Ok(exit) => exit.into(),
        Err(failure) => {
            failure.show(&terminal, format);
            failure.exit().into()
        }
    }
}
