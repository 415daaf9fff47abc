//! Options of `waltron config`.

use clap::{Args as ClapArgs, Subcommand};

#[derive(Debug, ClapArgs)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct Config {
    #[command(subcommand)]
    pub(crate) what: Option<Change>,
    #[arg(long, value_enum, default_value_t, value_name = "FORMAT")]
    /// How they are printed.
    pub(crate) format: super::Format,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Change {
    /// Have a value of your own in new files from now on.
    Set {
        /// Its name, as `waltron config` lists it.
        key: String,
        /// The value, with its unit.
        value: String,
    },
    /// Have what is usual again for one value.
    Unset {
        /// Its name.
        key: String,
    },
    /// Have what is usual again for all of them; what you had is kept beside the file.
    Restore,
}
