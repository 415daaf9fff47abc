//! Options of `waltron wave`.

use super::{Format, size};
use clap::{Args as ClapArgs, Subcommand, ValueEnum};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum Wave {
    /// What a recording holds: channels, rates, extremes.
    #[command(
        after_help = "Examples:\n  waltron wave info inrush.cff\n  waltron wave info fault.cfg --latin1"
    )]
    Info(WaveRead),
    /// Write a recording, or a part of it, in another edition or format.
    #[command(
        after_help = "Examples:\n  waltron wave convert mix.cff -o mix.cfg --encoding ascii --revision 1999\n  waltron wave convert mix.cff -o part.cff --from 100ms --to 300ms"
    )]
    Convert(WaveConvert),
    /// Draw a recording.
    #[command(after_help = "Examples:\n  waltron wave plot mix.cff -o mix.svg --to 60ms")]
    Plot(WavePlot),
    /// Harmonics of each channel over whole cycles.
    #[command(after_help = "Examples:\n  waltron wave harmonics mix.cff --at 40ms --cycles 5")]
    Harmonics(WaveHarmonics),
    /// Phasors and symmetrical components over one cycle.
    #[command(after_help = "Examples:\n  waltron wave phasors mix.cff --at 40ms")]
    Phasors(WavePhasors),
    /// Make the samples of what a plan's test puts out.
    #[command(
        after_help = "Examples:\n  waltron wave make brackwater/q05-t2.plan.toml --test harmonics -o mix.cff --rate 10000"
    )]
    Make(WaveMake),
}

impl Wave {
    /// The format that results are printed in.
    pub(crate) fn format(&self) -> Format {
        match self {
            Self::Info(read) => read.format,
            Self::Convert(a) => a.read.format,
            Self::Plot(a) => a.read.format,
            Self::Harmonics(a) => a.read.format,
            Self::Phasors(a) => a.read.format,
            Self::Make(_) => Format::Text,
        }
    }
}

/// A recording to read.
#[derive(Debug, ClapArgs)]
pub(crate) struct WaveRead {
    /// The recording: .cfg (with its .dat beside it) or .cff
    #[arg(value_name = "FILE")]
    pub(crate) file: PathBuf,
    /// The configuration is in Latin-1, as old devices write it.
    #[arg(long)]
    pub(crate) latin1: bool,
    /// Read what is there of a recording that was cut off.
    #[arg(long)]
    pub(crate) partial: bool,
    /// How results are printed.
    #[arg(long, value_enum, default_value_t, value_name = "FORMAT")]
    pub(crate) format: Format,
}

/// Editions of the standard.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum RevisionArg {
    /// IEEE C37.111-1991.
    #[value(name = "1991")]
    R1991,
    /// IEEE C37.111-1999.
    #[value(name = "1999")]
    R1999,
    /// IEEE C37.111-2013.
    #[default]
    #[value(name = "2013")]
    R2013,
}

/// How data are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum EncodingArg {
    /// Text.
    Ascii,
    /// 16-bit integers.
    Binary,
    /// 32-bit integers.
    Binary32,
    /// 32-bit floating point.
    Float32,
}

/// Where and how a recording is written.
#[derive(Debug, ClapArgs)]
pub(crate) struct WaveWrite {
    /// The recording to write: ….cfg (with a .dat) or ….cff
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: PathBuf,
    /// Edition of the standard; a .cff is always of 2013.
    #[arg(long, value_enum, default_value_t)]
    pub(crate) revision: RevisionArg,
    /// How the data are written; if not given, the finest that the edition has: 32-bit integers, of
    /// 1991 and 1999 16-bit ones.
    #[arg(long, value_enum)]
    pub(crate) encoding: Option<EncodingArg>,
    /// Write over existing files.
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct WaveConvert {
    #[command(flatten)]
    pub(crate) read: WaveRead,
    #[command(flatten)]
    pub(crate) write: WaveWrite,
    /// Leave out what is before this time.
    #[arg(long, value_name = "TIME")]
    pub(crate) from: Option<String>,
    /// Leave out what is after this time.
    #[arg(long, value_name = "TIME")]
    pub(crate) to: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct WavePlot {
    #[command(flatten)]
    pub(crate) read: WaveRead,
    /// The picture to write: .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: PathBuf,
    /// Begin of what is drawn.
    #[arg(long, value_name = "TIME")]
    pub(crate) from: Option<String>,
    /// End of what is drawn.
    #[arg(long, value_name = "TIME")]
    pub(crate) to: Option<String>,
    /// Width and height in pixels.
    #[arg(long, value_name = "WxH", default_value = "1280x800", value_parser = size)]
    pub(crate) size: (u32, u32),
    /// Write over an existing file.
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct WaveHarmonics {
    #[command(flatten)]
    pub(crate) read: WaveRead,
    /// Begin of the window.
    #[arg(long, value_name = "TIME", default_value = "0 s")]
    pub(crate) at: String,
    /// Cycles in the window.
    #[arg(long, default_value_t = 10)]
    pub(crate) cycles: u32,
    /// Highest order.
    #[arg(long, default_value_t = 25)]
    pub(crate) orders: u32,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct WavePhasors {
    #[command(flatten)]
    pub(crate) read: WaveRead,
    /// Begin of the cycle that is looked at.
    #[arg(long, value_name = "TIME", default_value = "0 s")]
    pub(crate) at: String,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct WaveMake {
    /// The plan.
    pub(crate) plan: PathBuf,
    /// The test.
    #[arg(long, value_name = "ID")]
    pub(crate) test: String,
    /// Which of its injections, counted from 1 as in `check --timeline`.
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) injection: usize,
    /// Samples a second.
    #[arg(long, value_name = "HZ", default_value_t = 10_000.0)]
    pub(crate) rate: f64,
    #[command(flatten)]
    pub(crate) write: WaveWrite,
}
