//! Options of `waltron inject`.

use super::{Format, PaceArg};
use clap::Args as ClapArgs;
use std::path::PathBuf;

#[derive(Debug, ClapArgs)]
pub(crate) struct Inject {
    /// What is put out, as in a sequence: ia="5 A @ -120 deg", v="balanced(57.7 V)".
    #[arg(required = true, value_name = "OUTPUT=VALUE")]
    pub(crate) outputs: Vec<String>,
    /// The rig.
    #[arg(long, value_name = "FILE")]
    pub(crate) rig: PathBuf,
    /// The asset: its ratings limit what is put out, and values may refer to its settings.
    #[arg(long, value_name = "FILE")]
    pub(crate) asset: PathBuf,
    /// Frequency of all outputs; the asset's nominal frequency if not given.
    #[arg(long, value_name = "FREQUENCY")]
    pub(crate) frequency: Option<String>,
    /// A harmonic, as output=order:share@angle; may be repeated.
    #[arg(long, value_name = "ia=3:6%@180deg")]
    pub(crate) harmonic: Vec<String>,
    /// How long; with --until, how long at most.
    #[arg(long = "for", value_name = "TIME")]
    pub(crate) duration: Option<String>,
    /// What ends it early, such as `trip` or "supply.current >= 1.2 A".
    #[arg(long, value_name = "CONDITION", requires = "duration")]
    pub(crate) until: Option<String>,
    /// What is out before: OUTPUT=VALUE; may be repeated.
    #[arg(long, value_name = "OUTPUT=VALUE")]
    pub(crate) prefault: Vec<String>,
    /// How long that lasts.
    #[arg(long, value_name = "TIME", default_value = "1 s")]
    pub(crate) prefault_time: String,
    /// What is measured: a meter, an output or an instrument's value by its name; may be repeated. All
    /// that is there if not given.
    #[arg(long, value_name = "NAME")]
    pub(crate) read: Vec<String>,
    /// What is worked out from two readings, with a name: "ratio = secondary voltage / primary voltage",
    /// "power = va * ia", "drop = va - vb"; may be repeated.
    #[arg(long, value_name = "NAME = A / B")]
    pub(crate) derive: Vec<String>,
    /// Go on until told otherwise: live readings, keys change a step at a time.
    #[arg(long, conflicts_with_all = ["until", "duration"])]
    pub(crate) watch: bool,
    /// What the up and down keys change (with --watch); the first output if not given.
    #[arg(long, value_name = "OUTPUT", requires = "watch")]
    pub(crate) vary: Option<String>,
    /// By how much, as a share of what is out at first (with --watch).
    #[arg(long, value_name = "PERCENT", default_value = "1 %", requires = "watch")]
    pub(crate) step: String,
    /// A run record of what was read, to be reported; with --watch of what was taken down.
    #[arg(long, value_name = "FILE")]
    pub(crate) record: Option<PathBuf>,
    /// Put out without asking.
    #[arg(long)]
    pub(crate) yes: bool,
    /// How virtual time relates to the wall clock.
    #[arg(long, value_enum, default_value_t)]
    pub(crate) pace: PaceArg,
    /// How results are printed.
    #[arg(long, value_enum, default_value_t, value_name = "FORMAT")]
    pub(crate) format: Format,
}
