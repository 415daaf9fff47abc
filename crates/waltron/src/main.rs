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
mod kind;
mod live;
mod own;
mod panel;
mod prompt;
mod recording;
mod rigs;
mod signals;
mod tables;
mod terminal;
mod time_left;
mod view;
mod wings;

use clap::Parser;
use cli::Format;
use exit::Exit;
use failure::Failure;
use std::ffi::OsString;
use std::process::ExitCode;
use terminal::{Colour, Terminal};

fn main() -> ExitCode {
    let args = match cli::Args::try_parse() {
        Ok(args) => args,
        Err(error) => {
            // Help and version come this way too, and are no error.
            if !error.use_stderr() {
                let _ = error.print();
                return Exit::Pass.into();
            }
            if asks_for_json(std::env::args_os()) {
                usage(&error).show(&Terminal::new(Colour::Never), Format::Json);
            } else {
                let _ = error.print();
            }
            return Exit::Invalid.into();
        }
    };
    let terminal = Terminal::new(args.color);
    let format = args.command.format();
    let exit = match commands::run(args.command, &terminal) {
        Ok(exit) => exit,
        Err(failure) => {
            failure.show(&terminal, format);
            failure.exit()
        }
    };
    // A verdict that nobody could read is none.
    if let Some(why) = terminal.lost() {
        Failure::trouble(format!("the results could not be written: {why}"))
            .show(&terminal, Format::Text);
        return Exit::Trouble.into();
    }
    exit.into()
}

/// Whether arguments that cannot be understood ask for JSON all the same.
fn asks_for_json(args: impl Iterator<Item = OsString>) -> bool {
    let args: Vec<OsString> = args.collect();
    args.iter().any(|a| a == "--format=json")
        || args.windows(2).any(|pair| pair[0] == "--format" && pair[1] == "json")
}

/// What is wrong with the arguments: the first line, the rest is the way out.
fn usage(error: &clap::Error) -> Failure {
    let text = error.render().to_string();
    let text = text.trim().trim_start_matches("error: ");
    let (message, rest) = text.split_once('\n').unwrap_or((text, ""));
    let rest = rest.split_whitespace().collect::<Vec<_>>().join(" ");
    let failure = Failure::usage(message);
    if rest.is_empty() { failure } else { failure.help(rest) }
}
