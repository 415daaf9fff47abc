//! The user's own defaults: which there are, where their file is, what it holds.

use crate::failure::Failure;
use crate::files::read_source;
use crate::wings::WINGS;
use etcetera::BaseStrategy;
use std::path::PathBuf;
use waltron_core::defaults::{DefaultKey, Defaults, Holds};

/// Who tests, in new plans.
pub(crate) const TESTER: &str = "plan.tester";

/// All that a user may want otherwise.
pub(crate) fn keys() -> Vec<DefaultKey> {
    let tester = DefaultKey {
        key: TESTER,
        about: "who tests, in new plans",
        usual: "nobody",
        holds: Holds::Text,
    };
    let of_wings = WINGS.0.iter().flat_map(|wing| wing.defaults());
    std::iter::once(tester).chain(of_wings).collect()
}

/// Where the file is.
///
/// # Errors
/// Where neither the user's home nor `WALTRON_CONFIG` is known.
pub(crate) fn path() -> Result<PathBuf, Failure> {
    if let Some(path) = std::env::var_os("WALTRON_CONFIG").filter(|path| !path.is_empty()) {
        return Ok(path.into());
    }
    let base = etcetera::choose_base_strategy().map_err(|_| {
        Failure::trouble("your home folder is not known")
            .help("name a file of defaults with WALTRON_CONFIG")
    })?;
    Ok(base.config_dir().join("waltron").join("defaults.toml"))
}

/// What the user wants otherwise; nothing where there is no file.
///
/// # Errors
/// A file that cannot be read, or that holds what there is not.
pub(crate) fn defaults() -> Result<Defaults, Failure> {
    // Without a home there is no file of the user's either.
    let Ok(path) = path() else { return Ok(Defaults::default()) };
    if !path.exists() {
        return Ok(Defaults::default());
    }
    Ok(Defaults::load(&read_source(&path)?, &keys())?)
}
