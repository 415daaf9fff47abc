//! Options of `waltron new`.

use clap::{Args as ClapArgs, Subcommand, ValueEnum};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum New {
    /// Write an asset file of a kind: it loads as it is, and says what to fill in.
    #[command(
        after_help = "Examples:\n  waltron new asset relay -o q09-f3.asset.toml\n  waltron new asset current-transformer"
    )]
    Asset(NewAsset),
    /// Write the plan that follows from an asset's ratings and settings, in the order of the day's work.
    #[command(
        after_help = "Examples:\n  waltron new plan --for brackwater/q07-f1.asset.toml\n  waltron new plan --for brackwater/q07-ct.asset.toml --rig brackwater/q07-ct.rig.toml -o brackwater/new.plan.toml"
    )]
    Plan(NewPlan),
}

#[derive(Debug, ClapArgs)]
pub(crate) struct NewAsset {
    /// The kind of asset.
    #[arg(value_name = "KIND")]
    pub(crate) kind: String,
    /// Where it is written; to the terminal if not given.
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Overwrite a file that is there.
    #[arg(long, requires = "output")]
    pub(crate) force: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct NewPlan {
    /// The asset.
    #[arg(long = "for", value_name = "ASSET")]
    pub(crate) asset: PathBuf,
    /// The rig.
    #[arg(long, value_name = "FILE")]
    pub(crate) rig: Option<PathBuf>,
    /// How deep it goes, where the kind of asset knows several depths; commissioning if not given.
    #[arg(long, value_name = "DEPTH")]
    pub(crate) depth: Option<DepthArg>,
    /// Where it is written; to the terminal if not given.
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Overwrite a file that is there.
    #[arg(long, requires = "output")]
    pub(crate) force: bool,
}

/// How deep a derived plan goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum DepthArg {
    /// Everything, as before the first service.
    Commissioning,
    /// What is tested again after years.
    Routine,
    /// What tells in a short outage whether something is wrong.
    Quick,
}
