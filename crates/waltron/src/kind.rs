//! Kinds of files: what one is by what stands in it, and what to do with it where another kind is wanted.

use crate::failure::Failure;
use crate::files::{for_shell, read_source};
use std::ops::Range;
use std::path::Path;
use waltron_core::text::document::{Problem, Source, top_keys};

/// A kind of file that people write, or the program.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Asset,
    Plan,
    Rig,
    Instrument,
    Specimen,
    Answers,
    Correction,
    Band,
    Sequence,
    Record,
    Page,
}

/// Those that are told by a table of their own.
const TABLES: [(&str, Kind); 8] = [
    ("asset", Kind::Asset),
    ("plan", Kind::Plan),
    ("rig", Kind::Rig),
    ("instrument", Kind::Instrument),
    ("specimen", Kind::Specimen),
    ("answer", Kind::Answers),
    ("correction", Kind::Correction),
    ("band", Kind::Band),
];

impl Kind {
    /// What a file can be taken for, by its text; a sequence by its name, since it has no head.
    fn all_of(source: &Source) -> Vec<Self> {
        if source.text.starts_with("{\"n\":") {
            return vec![Self::Record];
        }
        if source.text.starts_with("<!DOCTYPE html>") {
            return vec![Self::Page];
        }
        let keys = top_keys(source);
        let has = |table: &str| keys.iter().any(|key| key == table);
        let told: Vec<Self> =
            TABLES.iter().filter(|(table, _)| has(table)).map(|(_, kind)| *kind).collect();
        match Path::new(&source.name).extension() {
            Some(ending) if told.is_empty() && ending == "seq" => vec![Self::Sequence],
            _ => told,
        }
    }

    /// What a file is, where that is beyond doubt.
    pub(crate) fn of(source: &Source) -> Option<Self> {
        match Self::all_of(source)[..] {
            [kind] => Some(kind),
            _ => None,
        }
    }

    /// The word for it, with its article.
    fn word(self) -> &'static str {
        match self {
            Self::Asset => "an asset",
            Self::Plan => "a plan",
            Self::Rig => "a rig",
            Self::Instrument => "an instrument",
            Self::Specimen => "a specimen",
            Self::Answers => "a file of answers",
            Self::Correction => "a correction",
            Self::Band => "a band",
            Self::Sequence => "a sequence",
            Self::Record => "a run record",
            Self::Page => "a report",
        }
    }

    /// What such a file is for.
    fn serves(self, path: &Path) -> String {
        let file = for_shell(path);
        match self {
            Self::Asset => format!(
                "`waltron check {file}` shows what it says, `waltron new plan --for {file}` makes a plan for it"
            ),
            Self::Plan => format!("`waltron run {file}` runs it, and makes a record"),
            Self::Rig => {
                format!("`waltron rig list {file}` shows it; a plan names it as its `rig`")
            }
            Self::Instrument => "a rig names it among its `instruments`".to_owned(),
            Self::Specimen => "a virtual rig names it as its `specimen`".to_owned(),
            Self::Answers => format!("`waltron run PLAN --answers {file}` takes it"),
            Self::Correction => "an asset's [insulation] names it as its `correction`".to_owned(),
            Self::Band => "an asset's [trip_unit] names it as its `band`".to_owned(),
            Self::Sequence => format!(
                "a test of a plan plays it: `procedure = \"sequence\"` and `script = {:?}`",
                path.file_name().unwrap_or_default()
            ),
            Self::Record => format!("`waltron report {file} -o report.html` reports it"),
            Self::Page => "open it in a browser; what it was made of is the run record".to_owned(),
        }
    }
}

/// The refusal of a file of another kind than is wanted: `None` of what is of it, and of what cannot be told.
fn refused(path: &Path, source: &Source, wanted: Kind) -> Option<Failure> {
    let (message, help) = mistaken(source, wanted)?;
    Some(Failure::file(path, message).help(help))
}

/// The refusal of a file that cannot be read as a record: by what it is, or by what was found.
pub(crate) fn no_record(path: &Path, found: &str) -> Failure {
    let told = read_source(path).ok().and_then(|source| refused(path, &source, Kind::Record));
    told.unwrap_or_else(|| Failure::file(path, found).help("run records end in .run.jsonl"))
}

/// Why a file is not of the kind that is wanted, and what it is for.
fn mistaken(source: &Source, wanted: Kind) -> Option<(String, String)> {
    let found = Kind::all_of(source);
    let is = *found.first()?;
    if found.contains(&wanted) {
        return None;
    }
    let message = format!("this is {}, and {} is wanted", is.word(), wanted.word());
    Some((message, is.serves(Path::new(&source.name))))
}

/// Reads a file that a person names where one of a kind is wanted.
///
/// # Errors
/// What cannot be read as text, and a file of another kind.
pub(crate) fn read_as(wanted: Kind, path: &Path) -> Result<Source, Failure> {
    let source = read_source(path)?;
    refused(path, &source, wanted).map_or(Ok(source), Err)
}

/// Reads a file that another one names, relative to itself; where it is not there, or is of another kind, the naming
/// line is shown.
///
/// # Errors
/// What is not there or is no text, and a file of another kind.
pub(crate) fn read_named(
    wanted: Kind,
    from: &Source,
    span: Range<usize>,
    path: &Path,
) -> Result<Source, Failure> {
    let problem = |message: String| Problem::new(span.clone(), message);
    let problem = if path.exists() {
        let source = read_source(path)?;
        let Some((message, help)) = mistaken(&source, wanted) else { return Ok(source) };
        problem(message).help(help)
    } else {
        problem(format!("there is no file `{}`", path.display()))
            .help("names are relative to this file")
    };
    Err(Failure::problems(from, vec![problem]))
}
