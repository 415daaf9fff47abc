//! What an asset's file says, as it is understood.

use crate::cli::{Check as Args, Format};
use crate::commands::new::makes_a_plan_of;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files::{for_shell, read_source};
use crate::kind::Kind;
use crate::tables::drawn;
use crate::terminal::{STRONG, Terminal, plain, styled};
use crate::wings::WINGS;
use serde_json::{Value, json};
use std::path::Path;
use waltron_core::asset::Asset;
use waltron_core::grading::Values;
use waltron_core::section::{Block, Section};
use waltron_core::text::document::Source;
use waltron_core::wing::Told;

/// The file's text, where it is an asset's.
///
/// # Errors
/// What cannot be read as text.
pub(super) fn source(path: &Path) -> Result<Option<Source>, Failure> {
    let source = read_source(path)?;
    Ok((Kind::of(&source) == Some(Kind::Asset)).then_some(source))
}

/// Loads an asset, and shows what its file says.
///
/// # Errors
/// Every problem of the file, and what can be asked of plans only.
pub(super) fn check(args: &Args, source: &Source, terminal: &Terminal) -> Result<Exit, Failure> {
    let of_plans = [
        ("--rig", args.rig.is_some()),
        ("--test", args.test.is_some()),
        ("--timeline", args.timeline),
    ];
    if let Some((option, _)) = of_plans.iter().find(|(_, is_given)| *is_given) {
        let message = format!("{option} is for plans, and this is an asset");
        let path = for_shell(&args.source);
        return Err(Failure::file(&args.source, message)
            .help(format!("`waltron new plan --for {path}` makes a plan for it")));
    }
    let asset = WINGS.asset(source)?;
    match args.format {
        Format::Json => terminal.print_json(as_json(&asset)),
        Format::Text => terminal.print(&as_text(&asset, &args.source, terminal)),
    }
    Ok(Exit::Pass)
}

fn as_json(asset: &Asset) -> Value {
    let settings = asset.named().fold(Values::none(), |all, (name, q)| all.with_quantity(name, q));
    json!({
        "kind": asset.kind,
        "identity": asset.identity,
        "settings": settings,
        "assumed": asset.assumed,
    })
}

fn as_text(asset: &Asset, path: &Path, terminal: &Terminal) -> String {
    let of = |part: &Option<String>| part.as_deref().map(plain);
    let identity = &asset.identity;
    let place = [&identity.bay, &identity.site, &identity.operator];
    let make = [&identity.maker, &identity.model, &identity.serial];
    let told = place.into_iter().chain(make).filter_map(of);
    let told: Vec<String> = std::iter::once(asset.kind.to_owned()).chain(told).collect();
    let mut out = format!("{}\n{}\n\n", styled(STRONG, &plain(&identity.tag)), told.join(", "));
    for section in WINGS.sections(asset, Told::default()) {
        out.push_str(&drawn_section(&section, terminal));
    }
    out.push_str(&required(asset, terminal));
    if makes_a_plan_of(asset) {
        out.push_str(&format!("Next    waltron new plan --for {}\n", for_shell(path)));
    }
    out
}

/// What there is in words and numbers in a section; nothing of one that has only charts.
fn drawn_section(section: &Section, terminal: &Terminal) -> String {
    let block = |block: &Block| match block {
        Block::Facts(facts) => {
            let wide = facts.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
            let line = |(name, value): &(String, String)| {
                format!(" {:wide$}  {}\n", plain(name), plain(value))
            };
            Some(facts.iter().map(line).collect::<String>())
        }
        Block::Table(table) => Some(format!("{}\n", drawn(table, terminal))),
        Block::Note(note) => Some(format!("{}\n", plain(note))),
        Block::Chart(_) | Block::Picture(_) | Block::Steps(_) => None,
    };
    let blocks: Vec<String> = section.blocks.iter().filter_map(block).collect();
    match blocks.is_empty() {
        true => String::new(),
        false => format!("{}\n{}\n", styled(STRONG, &plain(&section.title)), blocks.join("\n")),
    }
}

/// What an asset must show by its file.
pub(super) fn required(asset: &Asset, terminal: &Terminal) -> String {
    let tables = WINGS.tables(asset).into_iter();
    tables
        .map(|(title, required)| {
            format!("{}\n{}\n\n", styled(STRONG, &plain(&title)), drawn(&required, terminal))
        })
        .collect()
}
