//! `waltron rig`.

use super::{Format, PaceArg};
use clap::{Args as ClapArgs, Subcommand};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum Rig {
    /// Ask who answers at an address; nothing is changed there.
    #[command(
        after_help = "Examples:\n  waltron rig probe 127.0.0.1:5025\n  waltron rig probe 192.0.2.7:5025 --format json"
    )]
    Probe(RigProbe),
    /// Be a simulated test set on TCP, with the specimen of a virtual rig behind it.
    #[command(
        after_help = "Examples:\n  waltron rig serve brackwater/q07-f1.rig.toml\n  waltron rig serve brackwater/q07-f1.rig.toml --listen 127.0.0.1:0 --pace real\n  waltron rig serve brackwater/ns1-q1-port.rig.toml --registers brackwater/ns1-q1.instrument.toml\n\nCommands: docs/scpi.md. It listens on this machine only, unless told otherwise with --listen."
    )]
    Serve(RigServe),
    /// Say what a rig file's rig can put out and see.
    #[command(after_help = "Examples:\n  waltron rig list brackwater/q07-f1.rig.toml")]
    List(RigList),
}

impl Rig {
    pub(crate) fn format(&self) -> Format {
        match self {
            Self::Probe(p) => p.format,
            _ => Format::Text,
        }
    }
}

#[derive(Debug, ClapArgs)]
pub(crate) struct RigProbe {
    /// Host and port.
    pub(crate) address: String,
    /// How results are printed.
    #[arg(long, value_enum, default_value_t, value_name = "FORMAT")]
    pub(crate) format: Format,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct RigServe {
    /// The virtual rig's file.
    pub(crate) rig: PathBuf,
    /// Where to listen; port 0 takes a free one.
    #[arg(long, value_name = "HOST:PORT", default_value = "127.0.0.1:5025")]
    pub(crate) listen: String,
    /// An instrument's file of registers: the specimen answers for them by Modbus TCP beside the test set.
    #[arg(long, value_name = "FILE")]
    pub(crate) registers: Option<PathBuf>,
    /// Where it answers for its registers; port 0 takes a free one.
    #[arg(
        long,
        value_name = "HOST:PORT",
        default_value = "127.0.0.1:1502",
        requires = "registers"
    )]
    pub(crate) registers_at: String,
    /// How simulated time relates to the wall clock.
    #[arg(long, value_enum, default_value_t)]
    pub(crate) pace: PaceArg,
    /// Seed of the simulated scatter until a client sets another, instead of the rig file's.
    #[arg(long)]
    pub(crate) seed: Option<u64>,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct RigList {
    /// The rig's file.
    pub(crate) rig: PathBuf,
}
