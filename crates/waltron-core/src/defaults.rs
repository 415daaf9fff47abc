//! What a user wants to stand in new files where nothing else is said: a file of the user's own, by family and key.

use crate::quantity::tolerance::AnyTolerance;
use crate::quantity::{Dimension, Quantity};
use crate::text::document::{DocumentError, Problem, Problems, Source};
use crate::text::name::nearest;
use std::collections::BTreeMap;
use toml::de::{DeTable, DeValue};

/// Something that a user may want otherwise in new files.
#[derive(Clone, Copy, Debug)]
pub struct DefaultKey {
    /// Its name, with the family before the dot: `power-transformer.temperature`.
    pub key: &'static str,
    /// What it does, in a line.
    pub about: &'static str,
    /// What stands in new files without it.
    pub usual: &'static str,
    /// What it can be.
    pub holds: Holds,
}

/// What a value can be.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Holds {
    /// Any words.
    Text,
    /// So many words, such as labels.
    Words(usize),
    /// One of these.
    OneOf(&'static [&'static str]),
    /// A positive quantity.
    Quantity(Dimension),
    /// A tolerance.
    Tolerance(Dimension),
}

impl Holds {
    /// Whether a text is such a value.
    ///
    /// # Errors
    /// What is expected.
    pub fn check(self, text: &str) -> Result<(), String> {
        match self {
            Self::Text if text.chars().any(char::is_control) => {
                Err("a single line of words is wanted".to_owned())
            }
            Self::Text if !text.trim().is_empty() => Ok(()),
            Self::Text => Err("some words are wanted".to_owned()),
            Self::Words(count) if text.split_whitespace().count() == count => Ok(()),
            Self::Words(count) => Err(format!("{count} words are wanted")),
            Self::OneOf(all) if all.contains(&text) => Ok(()),
            Self::OneOf(all) => Err(format!("use one of {}", all.join(", "))),
            Self::Quantity(dimension) => {
                let read = Quantity::parse(text).map_err(|e| e.to_string())?;
                match read.dimension == dimension && read.si > 0.0 {
                    true => Ok(()),
                    false => Err(format!("{dimension} above zero is wanted")),
                }
            }
            Self::Tolerance(dimension) => {
                AnyTolerance::parse(text, dimension).map(|_| ()).map_err(|e| e.to_string())
            }
        }
    }
}

/// A user's own values by their keys.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Defaults {
    values: BTreeMap<String, String>,
}

impl Defaults {
    /// Values that were checked already.
    pub fn of(values: BTreeMap<String, String>) -> Self {
        Self { values }
    }

    /// Reads a file of tables by family: `[power-transformer]`, `temperature = "15 degC"`.
    ///
    /// # Errors
    /// Every problem of its text: keys that there are not, values that they do not hold.
    pub fn load(source: &Source, keys: &[DefaultKey]) -> Result<Self, DocumentError> {
        let mut problems = Problems::default();
        let (table, errors) = DeTable::parse_recoverable(&source.text);
        for error in errors {
            let place = error.span().unwrap_or(0..0);
            problems.push(Problem::new(place, error.message()));
        }
        let mut values = BTreeMap::new();
        for (family, inside) in table.get_ref() {
            let DeValue::Table(inside) = inside.get_ref() else {
                let message = "values stand in tables by family, such as `[plan]`";
                problems.push(Problem::new(family.span(), message));
                continue;
            };
            for (name, value) in inside {
                let key = format!("{}.{}", family.get_ref(), name.get_ref());
                let Some(known) = keys.iter().find(|k| k.key == key) else {
                    let names = keys.iter().map(|k| k.key);
                    let near = nearest(&key, names.clone());
                    let list = || format!("there are {}", names.collect::<Vec<_>>().join(", "));
                    let message = format!("there is no default `{key}`");
                    problems.push(Problem::new(name.span(), message).did_you_mean(near, list));
                    continue;
                };
                let text = value.get_ref().as_str().unwrap_or_default();
                match known.holds.check(text) {
                    Ok(()) => {
                        values.insert(key, text.to_owned());
                    }
                    Err(why) => {
                        let message = format!("`{text}` is no value of `{key}`");
                        problems.push(Problem::new(value.span(), message).help(why));
                    }
                }
            }
        }
        problems.none_or(source)?;
        Ok(Self { values })
    }

    /// A value by its key.
    pub fn get(&self, key: &str) -> Option<&str> {
        self.values.get(key).map(String::as_str)
    }

    /// A line of a new file that takes a value from here, and says so; empty where there is none.
    pub fn line(&self, key: &str, name: &str) -> String {
        self.get(key).map_or(String::new(), |text| format!("{name} = {text:?}{FROM_HERE}\n"))
    }

    /// The keys of a family that have values, or of several.
    pub fn keys(&self) -> impl Iterator<Item = &str> {
        self.values.keys().map(String::as_str)
    }
}

/// What stands behind a value that was taken from here.
pub const FROM_HERE: &str = "    # from your defaults";
