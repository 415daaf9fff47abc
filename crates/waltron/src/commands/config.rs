//! `waltron config`: the user's own defaults for new files.

use crate::cli::Format;
use crate::cli::config::{Change, Config};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::files::{self, for_shell, read_source};
use crate::own;
use crate::tables::table;
use crate::terminal::Terminal;
use std::path::Path;
use toml_edit::{DocumentMut, Item, Table, value};
use waltron_core::defaults::{DefaultKey, Defaults};
use waltron_core::text::name::nearest;

/// Shows or changes them.
///
/// # Errors
/// A key that there is not, a value that it does not hold, a file that cannot be read or written.
pub(crate) fn config(args: &Config, terminal: &Terminal) -> Result<Exit, Failure> {
    let path = own::path()?;
    match &args.what {
        None => show(&path, args.format, terminal),
        Some(Change::Set { key, value }) => set(&path, key, value, terminal),
        Some(Change::Unset { key }) => unset(&path, key, terminal),
        Some(Change::Restore) => restore(&path, terminal),
    }
}

fn show(path: &Path, format: Format, terminal: &Terminal) -> Result<Exit, Failure> {
    let (own, keys) = (own::defaults()?, own::keys());
    if format == Format::Json {
        let all = keys.iter().map(|key| {
            let mut one =
                serde_json::json!({ "key": key.key, "usual": key.usual, "about": key.about });
            if let Some(text) = own.get(key.key) {
                one["own"] = text.into();
            }
            one
        });
        let all: Vec<serde_json::Value> = all.collect();
        let whole = serde_json::json!({ "file": path.display().to_string(), "defaults": all });
        terminal.print_data(&format!("{whole:#}\n"));
        return Ok(Exit::Pass);
    }
    let there = if path.exists() { "" } else { " (not there yet)" };
    terminal.print(&format!("File    {}{there}\n\n", path.display()));
    let mut all = table(["Default", "Yours", "Usual", "What it is"], terminal);
    for key in &keys {
        all.add_row([key.key, own.get(key.key).unwrap_or("–"), key.usual, key.about]);
    }
    terminal.print(&format!("{all}\n"));
    terminal.print("\nNext    waltron config set power-transformer.temperature \"15 degC\"\n");
    Ok(Exit::Pass)
}

fn known(key: &str) -> Result<DefaultKey, Failure> {
    let keys = own::keys();
    let names = keys.iter().map(|k| k.key);
    keys.iter().find(|k| k.key == key).copied().ok_or_else(|| {
        let help = match nearest(key, names) {
            Some(near) => format!("did you mean `{near}`?"),
            None => "waltron config lists all".to_owned(),
        };
        Failure::usage(format!("there is no default `{key}`")).help(help)
    })
}

/// The file as it is, comments and all; an empty one where there is none.
fn document(path: &Path) -> Result<DocumentMut, Failure> {
    if !path.exists() {
        return Ok(DocumentMut::new());
    }
    let source = read_source(path)?;
    // What is wrong in it is told before it is changed.
    Defaults::load(&source, &own::keys())?;
    source.text.parse::<DocumentMut>().map_err(|e| Failure::file(path, e.to_string()))
}

fn write(path: &Path, document: &DocumentMut) -> Result<(), Failure> {
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)
            .map_err(|e| Failure::trouble(format!("{}: {e}", folder.display())))?;
    }
    files::write(path, document.to_string().as_bytes(), true)
}

fn set(path: &Path, key: &str, text: &str, terminal: &Terminal) -> Result<Exit, Failure> {
    let known = known(key)?;
    known
        .holds
        .check(text)
        .map_err(|why| Failure::usage(format!("`{text}` is no value of `{key}`")).help(why))?;
    let mut document = document(path)?;
    let Some((family, name)) = key.split_once('.') else {
        return Err(Failure::usage(format!("`{key}` has no family")));
    };
    let table = document.entry(family).or_insert(Item::Table(Table::new()));
    table[name] = value(text);
    write(path, &document)?;
    terminal.print(&format!("Set     {key} = {text} ({})\n", known.about));
    terminal.print("Next    waltron new asset KIND, or waltron new plan --for ASSET\n");
    Ok(Exit::Pass)
}

fn unset(path: &Path, key: &str, terminal: &Terminal) -> Result<Exit, Failure> {
    let known = known(key)?;
    let mut document = document(path)?;
    let (family, name) = key.split_once('.').unwrap_or((key, ""));
    let table = document.get_mut(family).and_then(Item::as_table_mut);
    let was = table.and_then(|table| table.remove(name));
    if was.is_none() {
        terminal.print(&format!("`{key}` was not yours: {} is usual\n", known.usual));
        return Ok(Exit::Pass);
    }
    write(path, &document)?;
    terminal.print(&format!("Unset   {key}: {} is usual\n", known.usual));
    Ok(Exit::Pass)
}

fn restore(path: &Path, terminal: &Terminal) -> Result<Exit, Failure> {
    if !path.exists() {
        terminal.print("Nothing was yours: what is usual stands in new files\n");
        return Ok(Exit::Pass);
    }
    // Nothing that was kept before is written over.
    let name = |n: u32| match n {
        1 => path.with_extension("toml.old"),
        n => path.with_extension(format!("toml.old-{n}")),
    };
    let kept = (1..).map(name).find(|name| !name.exists()).unwrap_or_else(|| name(1));
    std::fs::rename(path, &kept)
        .map_err(|e| Failure::trouble(format!("{}: {e}", path.display())))?;
    terminal.print(&format!(
        "Restored: what is usual stands in new files from now on\nKept    {}\n",
        for_shell(&kept)
    ));
    Ok(Exit::Pass)
}
