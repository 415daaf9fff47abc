//! Commands and their options.

pub(crate) mod config;
pub(crate) mod inject;
pub(crate) mod new;
pub(crate) mod rig;
pub(crate) mod wave;

use self::config::Config;
use self::inject::Inject;
use self::new::New;
use self::rig::Rig;
use self::wave::Wave;
use crate::terminal::Colour;
use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;
use waltron_rig::virtual_rig::Seeds;

/// Scripts, plays and grades injection tests of substation equipment.
#[derive(Debug, Parser)]
#[command(name = "waltron", version, propagate_version = true, max_term_width = 100)]
#[command(
    after_help = "Start with:\n  waltron demo                  write a sample substation, test it, write reports\n  waltron run PLAN              the main job\n\nExit codes: 0 pass, 1 fail, 2 wrong usage or invalid file, 3 rig or file trouble,\n4 stopped, 5 nothing failed but something is inconclusive or not tested"
)]
pub(crate) struct Args {
    /// When to colour the output.
    #[arg(long, global = true, value_enum, default_value_t, value_name = "WHEN")]
    pub(crate) color: Colour,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// How results are printed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people.
    #[default]
    Text,
    /// For programs; see docs/json.md.
    Json,
}

/// How virtual time relates to the wall clock.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum PaceArg {
    /// As fast as it computes.
    #[default]
    Fast,
    /// A second takes a second.
    Real,
}

/// Files that have a schema.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum SchemaKind {
    /// The thing under test.
    Asset,
    /// The list of tests.
    Plan,
    /// What injects and measures.
    Rig,
    /// The truth of a simulated asset.
    Specimen,
    /// A source, meter or supply beside the rig.
    Instrument,
    /// Answers to prompts.
    Answers,
    /// The band that a low-voltage breaker must keep.
    Band,
    /// What losses of insulation are multiplied by to be those at 20 °C.
    Correction,
}

#[derive(Debug, Subcommand)]
#[allow(clippy::large_enum_variant, reason = "there is one, made once")]
pub(crate) enum Command {
    /// Write a sample substation, test it on the virtual rig and write reports.
    #[command(after_help = "Examples:\n  waltron demo\n  waltron demo my-first-test")]
    Demo(Demo),
    /// Files to begin with: an asset to fill in, or the plan that follows from an asset.
    New {
        #[command(subcommand)]
        what: New,
    },
    /// Your own defaults: what new assets and plans begin with.
    #[command(
        after_help = "Examples:\n  waltron config\n  waltron config set power-transformer.temperature \"15 degC\"\n  waltron config unset power-transformer.temperature\n\nThe file is named in the first line of `waltron config`; WALTRON_CONFIG names another one."
    )]
    Config(Config),
    /// Load a plan, check it against asset and rig, and show what will be put out; or read an asset back.
    #[command(
        after_help = "Examples:\n  waltron check brackwater/q07-f1.plan.toml\n  waltron check brackwater/q07-f1.asset.toml\n  waltron check brackwater/q07-f1.plan.toml --test 51P-times --timeline\n  waltron check brackwater/q07-f1.plan.toml --test 51P-times --as-script > times.seq"
    )]
    Check(Check),
    /// Run a plan: inject, measure, grade, record.
    #[command(
        after_help = "Examples:\n  waltron run brackwater/q07-f1.plan.toml\n  waltron run brackwater/q07-f1.plan.toml --seed 7 --format json\n  waltron run brackwater/q07-f1.plan.toml --only \"51P-times/A-N/*\" --only 50P-pickup\n  waltron run brackwater/q07-f1.plan.toml --redo failed\n  waltron run brackwater/q08-f2.plan.toml --resume --pace real\n\nWith SOURCE_DATE_EPOCH set, time stamps start there and move with the injected time only,\nso that the same seed gives the same record byte for byte."
    )]
    Run(Run),
    /// Lay sequences out in the one common way; comments stay, nothing changes its meaning.
    #[command(
        after_help = "Examples:\n  waltron fmt brackwater/inverse-curve.seq\n  waltron fmt --check *.seq"
    )]
    Fmt(Fmt),
    /// Show which rig terminal goes to which asset terminal, and what to see to first.
    #[command(
        after_help = "Examples:\n  waltron hookup brackwater/q07-f1.plan.toml\n  waltron hookup brackwater/q07-f1.plan.toml -o hookup.html\n  waltron hookup brackwater/q07-f1.plan.toml --test 51N-times -o 51n.svg"
    )]
    Hookup(Hookup),
    /// Rigs: who answers, what they can do, and the simulated test set.
    Rig {
        #[command(subcommand)]
        what: Rig,
    },
    /// Write a report from run records.
    #[command(
        after_help = "Examples:\n  waltron report brackwater/q07-f1.run.jsonl -o q07-f1.html\n  waltron report brackwater/q07-f1.run.jsonl brackwater/q08-f2.run.jsonl -o both.html"
    )]
    Report(Report),
    /// Grade what a record holds again, without testing: by other settings, tolerances or rules.
    #[command(
        after_help = "Examples:\n  waltron grade brackwater/q07-f1.run.jsonl --asset brackwater/q07-f1.asset.toml\n  waltron grade brackwater/q08-f2.run.jsonl --plan brackwater/q08-f2.plan.toml --reason \"rule of the new guideline\"\n\nThe new verdicts are appended to the record, with what is another than before; the old ones stay.\nReports show both."
    )]
    Grade(Grade),
    /// Draw the time-current diagram of a run or an asset, or what a test of a plan puts out.
    #[command(
        after_help = "Examples:\n  waltron plot brackwater/q05-t2.plan.toml --test underfrequency -o sinking.svg\n  waltron plot brackwater/q05-t2.plan.toml --test harmonics --from 0s --to 40ms -o waves.png\n  waltron plot brackwater/q07-f1.run.jsonl -o q07-f1.svg\n  waltron plot brackwater/q08-f2.asset.toml -o settings.png\n  waltron plot brackwater/q07-f1.run.jsonl --element 51N -o 51n.png"
    )]
    Plot(Plot),
    /// Put any stimulus out once, and print what was measured.
    #[command(
        after_help = "Examples:\n  waltron inject ia=\"5 A\" ib=\"5 A @ -120 deg\" --for \"200 ms\" --rig brackwater/q07-f1.rig.toml --asset brackwater/q07-f1.asset.toml\n  waltron inject ia=\"2.4 A\" --prefault i=\"0.5 A\" --until trip --for \"10 s\" --rig brackwater/q07-f1.rig.toml --asset brackwater/q07-f1.asset.toml\n  waltron inject i=\"1 A\" --harmonic ia=3:6%@180deg --for \"1 s\" --rig brackwater/q05-t2.rig.toml --asset brackwater/q05-t2.asset.toml"
    )]
    Inject(Inject),
    /// Look into recorded waveforms (COMTRADE), convert them, make them.
    Wave {
        #[command(subcommand)]
        what: Wave,
    },
    /// Add a note to a run's record; reports show it.
    #[command(
        after_help = "Examples:\n  waltron note brackwater/q07-f1.run.jsonl \"terminal 3 was loose, tightened\" --by \"R. Amsel\""
    )]
    Note(Note),
    /// Show what the uncertainty of a point of a record is made of.
    #[command(
        after_help = "Examples:\n  waltron show brackwater/q07-f1.run.jsonl --point 51P-times/A-N/2x --budget"
    )]
    Show(Show),
    /// Evaluate a time characteristic, or find the current for a time; read an excitation curve.
    Curve {
        #[command(subcommand)]
        what: Curve,
    },
    /// Print the JSON Schema of a file kind, for editors.
    #[command(
        after_help = "Examples:\n  waltron schema asset > asset.schema.json\n  waltron schema plan"
    )]
    Schema {
        /// The kind of file.
        #[arg(value_enum)]
        kind: SchemaKind,
    },
    /// Print the completion script of a shell.
    #[command(
        after_help = "Examples:\n  waltron completions bash > /etc/bash_completion.d/waltron\n  waltron completions fish > ~/.config/fish/completions/waltron.fish"
    )]
    Completions {
        /// The shell.
        shell: clap_complete::Shell,
    },
    /// Print the manual page, or write one for each command into a folder.
    #[command(
        after_help = "Examples:\n  waltron man | man -l -\n  waltron man /usr/local/share/man/man1"
    )]
    Man {
        /// The folder.
        dir: Option<PathBuf>,
    },
}

impl Command {
    /// The format that results, and so errors too, are printed in.
    pub(crate) fn format(&self) -> Format {
        match self {
            Self::Check(c) => c.format,
            Self::Run(r) => r.format,
            Self::Grade(g) => g.format,
            Self::Inject(i) => i.format,
            Self::Rig { what } => what.format(),
            Self::Wave { what } => what.format(),
            Self::Curve { what: Curve::Time(c) } => c.curve.format,
            Self::Curve { what: Curve::Current(c) } => c.curve.format,
            Self::Curve { what: Curve::Excitation(c) } => c.format,
            _ => Format::Text,
        }
    }
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Demo {
    /// The folder to write into; made if it is not there.
    #[arg(default_value = "brackwater")]
    pub(crate) dir: PathBuf,
    /// Write over files of an earlier demo.
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Check {
    /// The plan, or an asset.
    #[arg(value_name = "PLAN|ASSET")]
    pub(crate) source: PathBuf,
    /// Use this rig instead of the one the plan names.
    #[arg(long, value_name = "FILE")]
    pub(crate) rig: Option<PathBuf>,
    /// Only this test.
    #[arg(long, value_name = "ID")]
    pub(crate) test: Option<String>,
    /// Show every stage of every injection: start, length, channels, what ends it.
    #[arg(long)]
    pub(crate) timeline: bool,
    /// Print the test in the sequence language, to read or to adapt.
    #[arg(long, requires = "test", conflicts_with = "timeline")]
    pub(crate) as_script: bool,
    /// How results are printed.
    #[arg(long, value_enum, default_value_t, value_name = "FORMAT")]
    pub(crate) format: Format,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Run {
    /// The plan.
    pub(crate) plan: PathBuf,
    /// Use this rig instead of the one the plan names.
    #[arg(long, value_name = "FILE")]
    pub(crate) rig: Option<PathBuf>,
    /// Where to record the run; beside the plan, named by plan and time, if not given. With --redo
    /// and --resume the record to go on with; the plan's latest one if not given.
    #[arg(long, value_name = "FILE")]
    pub(crate) record: Option<PathBuf>,
    /// Seed of what the simulated rig is off by and of how the specimen scatters, instead of the rig file's.
    #[arg(long)]
    pub(crate) seed: Option<u64>,
    /// Seed of how the specimen scatters, where it shall be another one.
    #[arg(long, value_name = "SEED")]
    pub(crate) specimen_seed: Option<u64>,
    /// How virtual time relates to the wall clock.
    #[arg(long, value_enum, default_value_t)]
    pub(crate) pace: PaceArg,
    /// Who tests, instead of the plan's tester.
    #[arg(long, value_name = "NAME")]
    pub(crate) tester: Option<String>,
    /// Confirm every prompt without asking.
    #[arg(long, conflicts_with = "answers")]
    pub(crate) yes: bool,
    /// Show the run on the full screen: present values, contacts, the curve with its points, a log.
    #[arg(long, conflicts_with_all = ["yes", "answers"])]
    pub(crate) live: bool,
    /// Answer prompts from this file.
    #[arg(long, value_name = "FILE")]
    pub(crate) answers: Option<PathBuf>,
    /// Stop if a prompt is not answered in this time; they wait for ever if not given.
    #[arg(long, value_name = "TIME")]
    pub(crate) prompt_timeout: Option<String>,
    /// Pause after each point that fails, to repeat it, go on, skip the test or stop.
    #[arg(long, conflicts_with = "yes")]
    pub(crate) pause_on_fail: bool,
    /// Only points whose id fits: a test's id, or a pattern such as "51P-times/A-N/*". Several may be
    /// given; with --resume what is left of them.
    #[arg(long, value_name = "PATTERN", conflicts_with = "redo")]
    pub(crate) only: Vec<String>,
    /// Test points of an earlier run again, into the same record: `failed`, `not-passed`, or a
    /// pattern of ids.
    #[arg(long, value_name = "failed|not-passed|PATTERN", conflicts_with = "resume")]
    pub(crate) redo: Option<String>,
    /// Let sequences run programs on this computer (`run` steps).
    #[arg(long)]
    pub(crate) allow_exec: bool,
    /// Go on with a run that was stopped, in the same record.
    #[arg(long)]
    pub(crate) resume: bool,
    /// How results are printed.
    #[arg(long, value_enum, default_value_t, value_name = "FORMAT")]
    pub(crate) format: Format,
}

impl Run {
    /// What the simulation is drawn from, where it was these.
    pub(crate) fn seeds(&self, before: Seeds) -> Seeds {
        let both = self.seed.map_or(before, Seeds::from);
        Seeds { specimen: self.specimen_seed.unwrap_or(both.specimen), ..both }
    }
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Grade {
    /// The run record.
    pub(crate) record: PathBuf,
    /// Settings and tolerances from this asset, instead of those that the record holds.
    #[arg(long, value_name = "FILE")]
    pub(crate) asset: Option<PathBuf>,
    /// Grading rule, values and sequences from this plan, instead of the one that the record holds.
    #[arg(long, value_name = "FILE")]
    pub(crate) plan: Option<PathBuf>,
    /// Why, as it is to stand in the record and the report.
    #[arg(long, value_name = "TEXT")]
    pub(crate) reason: Option<String>,
    /// How results are printed.
    #[arg(long, value_enum, default_value_t, value_name = "FORMAT")]
    pub(crate) format: Format,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Hookup {
    /// The plan.
    pub(crate) plan: PathBuf,
    /// Use this rig instead of the one the plan names.
    #[arg(long, value_name = "FILE")]
    pub(crate) rig: Option<PathBuf>,
    /// Only this test.
    #[arg(long, value_name = "ID")]
    pub(crate) test: Option<String>,
    /// Write it; the ending gives the format: .html, .svg or .txt
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Write over an existing file.
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Fmt {
    /// Sequence files; `-` lays out what comes in on stdin.
    #[arg(required = true, value_name = "FILE")]
    pub(crate) files: Vec<PathBuf>,
    /// Change nothing; exit with 1 if a file is laid out differently.
    #[arg(long)]
    pub(crate) check: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Report {
    /// Run records.
    #[arg(required = true, value_name = "RUN")]
    pub(crate) runs: Vec<PathBuf>,
    /// Show earlier attempts of points too, not the latest only.
    #[arg(long)]
    pub(crate) attempts: bool,
    /// An earlier run of the same asset, or of its sister: every point against it in a table, and drawn beside this one
    /// where the charts can.
    #[arg(long, value_name = "RUN", alias = "earlier")]
    pub(crate) against: Option<PathBuf>,
    /// The report to write; the ending gives the format: .html
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: PathBuf,
    /// Write over an existing file.
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Plot {
    /// A run record, an asset or a plan.
    #[arg(value_name = "RUN|ASSET|PLAN")]
    pub(crate) source: PathBuf,
    /// The picture to write; the ending gives the format: .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: PathBuf,
    /// The element to draw, of a breaker the operation such as `operation/C`; the first one tested if not
    /// given.
    #[arg(long, value_name = "ID")]
    pub(crate) element: Option<String>,
    /// An earlier run to draw beside this one, where the chart can.
    #[arg(long, value_name = "RUN", alias = "earlier", conflicts_with = "test")]
    pub(crate) against: Option<PathBuf>,
    /// The test whose stimulus is drawn (of a plan).
    #[arg(long, value_name = "ID")]
    pub(crate) test: Option<String>,
    /// Which of its injections, counted from 1 as in `check --timeline`.
    #[arg(long, value_name = "N", default_value_t = 1, requires = "test")]
    pub(crate) injection: usize,
    /// Begin of what is drawn; half a second or less shows the waves themselves.
    #[arg(long, value_name = "TIME", requires = "test")]
    pub(crate) from: Option<String>,
    /// End of what is drawn.
    #[arg(long, value_name = "TIME", requires = "test")]
    pub(crate) to: Option<String>,
    /// Width and height in pixels.
    #[arg(long, value_name = "WxH", default_value = "1280x800", value_parser = size)]
    pub(crate) size: (u32, u32),
    /// Write over an existing file.
    #[arg(long)]
    pub(crate) force: bool,
}

fn size(text: &str) -> Result<(u32, u32), String> {
    let pair = text.split_once('x').and_then(|(w, h)| Some((w.parse().ok()?, h.parse().ok()?)));
    match pair {
        Some((w, h)) if (320..=8000).contains(&w) && (240..=8000).contains(&h) => Ok((w, h)),
        Some(_) => Err("width must be 320 to 8000, height 240 to 8000".to_owned()),
        None => Err("write width and height like 1280x800".to_owned()),
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Curve {
    /// Operate time at currents.
    #[command(
        after_help = "Examples:\n  waltron curve time --family iec --shape very-inverse --tms 0.3 --pickup \"1.2 A\" --at \"2.4 A\" --at \"6 A\"\n  waltron curve time --asset brackwater/q07-f1.asset.toml --element 51P --at \"2 x\"\n  waltron curve time --family definite --delay \"60 ms\" --at \"1.1 x\""
    )]
    Time(CurveTime),
    /// Current that gives an operate time.
    #[command(
        after_help = "Examples:\n  waltron curve current --family iec --shape very-inverse --tms 0.3 --pickup \"1.2 A\" --time \"1 s\"\n  waltron curve current --asset brackwater/q07-f1.asset.toml --element 51P --time \"1 s\""
    )]
    Current(CurveCurrent),
    /// Read the excitation curves of a record, both ways.
    #[command(
        after_help = "Examples:\n  waltron curve excitation brackwater/q01-ct.run.jsonl --at \"240 V\" --at \"80 mA\"\n  waltron curve excitation brackwater/q01-ct.run.jsonl --place \"A 1S1-1S6\"\n  waltron curve excitation brackwater/q01-ct.run.jsonl --place \"A 1S1-1S6\" --whole --format json"
    )]
    Excitation(CurveExcitation),
}

#[derive(Debug, ClapArgs)]
pub(crate) struct CurveExcitation {
    /// The run record.
    pub(crate) record: PathBuf,
    /// An e.m.f. or an exciting current; may be repeated. Without any, the curves are printed.
    #[arg(long, value_name = "VALUE")]
    pub(crate) at: Vec<String>,
    /// Of this place only: phase and tap.
    #[arg(long, value_name = "PLACE")]
    pub(crate) place: Option<String>,
    /// Every measured point, not only some spread evenly around the knee.
    #[arg(long, conflicts_with = "at")]
    pub(crate) whole: bool,
    /// How results are printed.
    #[arg(long, value_enum, default_value_t, value_name = "FORMAT")]
    pub(crate) format: Format,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Show {
    /// The run record.
    pub(crate) record: PathBuf,
    /// The id of the point, such as `51P-times/A-N/2x`; its latest attempt counts.
    #[arg(long, value_name = "ID")]
    pub(crate) point: String,
    /// Each part of its uncertainty: what errs, as stated, and what it adds.
    #[arg(long, required = true)]
    pub(crate) budget: bool,
    /// How results are printed.
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct Note {
    /// The run record.
    pub(crate) record: PathBuf,
    /// What it says.
    pub(crate) text: String,
    /// Who says it.
    #[arg(long, value_name = "NAME")]
    pub(crate) by: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct CurveTime {
    #[command(flatten)]
    pub(crate) curve: CurveArgs,
    /// A current, or a multiple of pickup such as "2 x"; may be repeated.
    #[arg(long, required = true, value_name = "CURRENT")]
    pub(crate) at: Vec<String>,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct CurveCurrent {
    #[command(flatten)]
    pub(crate) curve: CurveArgs,
    /// An operate time; may be repeated.
    #[arg(long, required = true, value_name = "TIME")]
    pub(crate) time: Vec<String>,
}

/// Where a characteristic comes from.
#[derive(Debug, ClapArgs)]
pub(crate) struct CurveArgs {
    /// Take the characteristic from an asset file.
    #[arg(long, value_name = "FILE", requires = "element", conflicts_with = "family")]
    pub(crate) asset: Option<PathBuf>,
    /// The element of the asset.
    #[arg(long, value_name = "ID", requires = "asset")]
    pub(crate) element: Option<String>,
    /// iec, ieee, definite, i2t, thermal or formula.
    #[arg(long, required_unless_present = "asset")]
    pub(crate) family: Option<String>,
    /// Standard shape of the family, such as very-inverse.
    #[arg(long)]
    pub(crate) shape: Option<String>,
    /// Time multiplier, TMS or TD.
    #[arg(long, allow_negative_numbers = true)]
    pub(crate) tms: Option<String>,
    /// Pickup; needed for currents, not for multiples.
    #[arg(long, value_name = "CURRENT")]
    pub(crate) pickup: Option<String>,
    /// Delay (definite).
    #[arg(long, value_name = "TIME")]
    pub(crate) delay: Option<String>,
    /// Constant k as a time (formula, i2t).
    #[arg(long, value_name = "TIME")]
    pub(crate) k: Option<String>,
    /// Constant c as a time (formula).
    #[arg(long, value_name = "TIME")]
    pub(crate) c: Option<String>,
    /// Exponent (formula).
    #[arg(long)]
    pub(crate) alpha: Option<String>,
    /// Heating time constant (thermal).
    #[arg(long, value_name = "TIME")]
    pub(crate) tau: Option<String>,
    /// Current before the overload in multiples of pickup (thermal).
    #[arg(long, value_name = "MULTIPLE")]
    pub(crate) preload: Option<String>,
    /// Shortest operate time.
    #[arg(long, value_name = "TIME")]
    pub(crate) minimum_time: Option<String>,
    /// How results are printed.
    #[arg(long, value_enum, default_value_t, value_name = "FORMAT")]
    pub(crate) format: Format,
}
