//! Wings: what is peculiar to a family of assets, behind one seam.
//!
//! A [`Wing`] reads its family's asset files and registers its procedures with their keys. Nothing else
//! in this crate knows which there are; who needs them is handed the [`Wings`].

use crate::asset::Asset;
use crate::defaults::{DefaultKey, Defaults};
use crate::grading::{Grade, Values};
use crate::injection::capability::Capability;
use crate::procedure::{Registration, Served};
use crate::quantity::Quantity;
use crate::section::{Block, Chart, Section, Table};
use crate::text::document::{DocumentError, Problem, Problems, Source};
use crate::text::name::{Name, nearest};
use serde::Serialize;
use serde_json::Value;
use toml::de::DeValue;

/// A family of assets.
pub trait Wing: Sync {
    /// The kinds of asset that are its own, as `[asset] kind` names them.
    fn kinds(&self) -> &'static [&'static str];

    /// The JSON Schema of its asset files.
    fn asset_schema(&self) -> Value;

    /// Reads an asset file of one of its kinds.
    ///
    /// # Errors
    /// Every problem of its text.
    fn asset(&self, source: &Source) -> Result<Asset, DocumentError>;

    /// The files beside it that an asset file of its own names; they are read for it.
    fn beside(&self, _source: &Source) -> Vec<String> {
        Vec::new()
    }

    /// Its procedures.
    fn procedures(&self) -> Vec<Registration>;

    /// What users may want otherwise in new files of its own.
    fn defaults(&self) -> Vec<DefaultKey> {
        Vec::new()
    }

    /// A commented asset file of one of its kinds that loads as it is, to be filled in, with what the user wants
    /// otherwise; `None` where it has none.
    fn new_asset(&self, _kind: &str, _own: &Defaults) -> Option<String> {
        None
    }

    /// Whether what it tells of an asset of its own follows from the injections of a run, and not from
    /// the points alone.
    fn looks_at_injections(&self) -> bool {
        false
    }

    /// Whether its charts show the samples that were kept of measurements on a kind of asset of its own, so that
    /// nobody draws them again.
    fn draws_captures(&self, _kind: &str) -> bool {
        false
    }

    /// What a report tells of an asset besides its identity, with the points of a run, where they are
    /// best seen in a chart.
    fn sections(&self, asset: &Asset, _told: Told<'_>) -> Vec<Section> {
        let facts = asset.own.facts();
        if facts.is_empty() && asset.assumed.is_empty() {
            return Vec::new();
        }
        let mut blocks = vec![Block::Facts(facts)];
        if !asset.assumed.is_empty() {
            let assumed = asset.assumed.join("; ");
            blocks.push(Block::Note(format!("Assumed, since the file gives none: {assumed}")));
        }
        vec![Section::new("Nameplate and tolerances", blocks)]
    }

    /// What an asset must show by its file, as tables with their titles, for whoever checks it: the ratio at
    /// every tap.
    fn tables(&self, _asset: &Asset) -> Vec<(String, Table)> {
        Vec::new()
    }

    /// Where the leads are at the places of a plan, drawn as SVG text; `None` where words are enough.
    fn leads(&self, _asset: &Asset, _places: &[Name]) -> Option<String> {
        None
    }

    /// Charts of what an asset should do, with the points of a run on them.
    fn charts(&self, _asset: &Asset, _told: Told<'_>) -> Vec<Chart> {
        Vec::new()
    }

    /// Values read off the curves that a run has measured, such as `240 V` of an excitation curve. `None`
    /// where it has no curves.
    ///
    /// # Errors
    /// Why there is nothing to be read.
    fn read_off(
        &self,
        _asset: &Asset,
        _told: Told<'_>,
        _wanted: &Reading<'_>,
    ) -> Option<Result<Vec<ReadOff>, String>> {
        None
    }

    /// The `[[test]]` entries of a plan for an asset, in the order of the day's work, commented, with
    /// nothing that the rig cannot do, where it is known, and with what the user wants otherwise; `None` where it
    /// derives none.
    fn new_tests(
        &self,
        _asset: &Asset,
        _rig: Option<&Capability>,
        _depth: Depth,
        _own: &Defaults,
    ) -> Option<String> {
        None
    }
}

/// How deep a derived plan goes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Depth {
    /// Everything, as before an asset goes into service for the first time.
    #[default]
    Commissioning,
    /// What is tested again after years.
    Routine,
    /// What tells in a short outage whether something is wrong.
    Quick,
}

/// What a run has come to.
#[derive(Clone, Copy, Debug, Default)]
pub struct Told<'a> {
    /// The latest grade of each point.
    pub points: &'a [Grade],
    /// Its injections, in order, where the wing looks at them.
    pub served: &'a [Served],
    /// An earlier run to compare it with.
    pub earlier: Option<Earlier<'a>>,
}

/// A run that another one is compared with.
#[derive(Clone, Copy, Debug)]
pub struct Earlier<'a> {
    /// When it began, RFC 3339 in UTC.
    pub at: &'a str,
    /// The latest grade of each point.
    pub points: &'a [Grade],
    /// Its injections, in order.
    pub served: &'a [Served],
}

impl<'a> Told<'a> {
    /// Points without the injections behind them.
    pub fn points(points: &'a [Grade]) -> Self {
        Self { points, ..Self::default() }
    }
}

/// What is to be read off measured curves.
#[derive(Clone, Copy, Debug, Default)]
pub struct Reading<'a> {
    /// Values to read at; without any, the curves themselves.
    pub at: &'a [Quantity],
    /// Of this place only, such as `A 1S1-1S3`.
    pub place: Option<&'a str>,
    /// Whether every measured point is wanted; else some, spread evenly.
    pub whole: bool,
}

/// A value that was read off a measured curve.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ReadOff {
    /// Where it was measured: `A 1S1-1S3`; empty of what has one place only.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub place: String,
    /// The values that belong together.
    #[serde(flatten)]
    pub values: Values,
    /// Which knee points it lies above.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub above: Vec<String>,
    /// What is missing, or why.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lacks: Option<String>,
}

/// All wings there are.
#[derive(Clone, Copy)]
pub struct Wings(pub &'static [&'static dyn Wing]);

impl std::fmt::Debug for Wings {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(self.kinds()).finish()
    }
}

impl Wings {
    /// All kinds of asset.
    pub fn kinds(&self) -> Vec<&'static str> {
        self.0.iter().flat_map(|wing| wing.kinds()).copied().collect()
    }

    /// The wing of a kind of asset.
    pub fn of(&self, kind: &str) -> Option<&'static dyn Wing> {
        self.0.iter().find(|wing| wing.kinds().contains(&kind)).copied()
    }

    /// The files beside it that an asset file names.
    pub fn beside(&self, source: &Source) -> Vec<String> {
        let wing = kind_of(source).and_then(|kind| self.of(&kind));
        wing.map(|wing| wing.beside(source)).unwrap_or_default()
    }

    /// What a report tells of an asset.
    pub fn sections(&self, asset: &Asset, told: Told<'_>) -> Vec<Section> {
        self.of(asset.kind).map(|wing| wing.sections(asset, told)).unwrap_or_default()
    }

    /// Charts of what an asset should do.
    pub fn charts(&self, asset: &Asset, told: Told<'_>) -> Vec<Chart> {
        self.of(asset.kind).map(|wing| wing.charts(asset, told)).unwrap_or_default()
    }

    /// Where the leads are at the places of a plan, drawn.
    pub fn leads(&self, asset: &Asset, places: &[Name]) -> Option<String> {
        self.of(asset.kind)?.leads(asset, places)
    }

    /// What an asset must show by its file.
    pub fn tables(&self, asset: &Asset) -> Vec<(String, Table)> {
        self.of(asset.kind).map(|wing| wing.tables(asset)).unwrap_or_default()
    }

    /// All procedures.
    pub fn procedures(&self) -> Vec<Registration> {
        self.0.iter().flat_map(|wing| wing.procedures()).collect()
    }

    /// Reads an asset file by the wing that its `kind` names.
    ///
    /// # Errors
    /// Every problem of its text, a kind that there is not.
    pub fn asset(&self, source: &Source) -> Result<Asset, DocumentError> {
        let named = named(source);
        let named = named.as_ref().map(|(name, span)| (name.as_str(), span.clone()));
        // Without a kind, any wing says that it is missing.
        let Some((name, span)) = named else {
            return match self.0.first() {
                Some(first) => first.asset(source),
                None => Err(DocumentError::new(source, vec![Problem::new(0..0, "no wing")])),
            };
        };
        if let Some(wing) = self.of(name) {
            return wing.asset(source);
        }
        let mut problems = Problems::default();
        let kinds = self.kinds();
        let problem = Problem::new(span, format!("`{name}` is no valid `kind`"));
        let near = nearest(name, kinds.iter().copied());
        problems.push(problem.did_you_mean(near, || format!("use one of {}", kinds.join(", "))));
        match problems.none_or(source) {
            Err(error) => Err(error),
            Ok(()) => Err(DocumentError::new(source, Vec::new())),
        }
    }

    /// The JSON Schema of asset files of any kind.
    pub fn asset_schema(&self) -> Value {
        let mut all: Vec<Value> = self.0.iter().map(|wing| wing.asset_schema()).collect();
        match all.len() {
            1 => all.remove(0),
            _ => joined(&all),
        }
    }
}

/// What an asset file names as its kind, with its place.
fn named(source: &Source) -> Option<(String, std::ops::Range<usize>)> {
    let (table, _) = toml::de::DeTable::parse_recoverable(&source.text);
    let DeValue::Table(asset) = table.get_ref().get("asset")?.get_ref() else { return None };
    let kind = asset.get("kind")?;
    Some((kind.get_ref().as_str()?.to_owned(), kind.span()))
}

/// What an asset file names as its kind.
pub fn kind_of(source: &Source) -> Option<String> {
    named(source).map(|(name, _)| name)
}

/// A file is as one of these says; every table of any of them is described.
pub fn joined(all: &[Value]) -> Value {
    let mut properties = serde_json::Map::new();
    for (key, schema) in all.iter().filter_map(|s| s.get("properties")?.as_object()).flatten() {
        let about = schema.get("description").cloned().unwrap_or_default();
        properties
            .entry(key.clone())
            .or_insert_with(|| serde_json::json!({ "description": about }));
    }
    serde_json::json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Waltron asset",
        "type": "object",
        "properties": properties,
        "anyOf": all,
    })
}
