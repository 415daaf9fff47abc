//! Files people write: TOML text to checked values, or all of its errors with their places.
//!
//! A file is read in four steps, so that one look shows every mistake:
//!
//! 1. syntax, recovering after each error;
//! 2. shape: keys and value types against the schema derived from the Rust types, which is also
//!    what [`schema`] prints for editors;
//! 3. values: quantities, tolerances, names, each with the place it was written at;
//! 4. meaning: what refers to other parts of the file or to another file.
//!
//! The text comes in as a string: reading files is the command line's business.

mod beside;
mod field;
mod problems;
pub mod shape;
mod spannable;

pub use super::problem::{DocumentError, Problem, Source};
pub use beside::{file_named, load_beside};
pub use field::{
    AccuracyText, AnyQuantityText, AnyToleranceText, Field, Number, QuantityText, Text,
    ToleranceText,
};
pub use problems::Problems;
pub use spannable::Spannable;

use schemars::JsonSchema;
use serde::de::DeserializeOwned;

/// A file as it is written: the Rust type gives its keys, its schema and its documentation.
pub trait Form: DeserializeOwned + JsonSchema {
    /// The word for it in messages and for `waltron schema`: `asset`, `plan`, …
    const KIND: &'static str;
}

/// The JSON Schema (2020-12) of a form, for editors.
pub fn schema<F: Form>() -> serde_json::Value {
    let mut schema = schemars::schema_for!(F).to_value();
    if let Some(object) = schema.as_object_mut() {
        object.insert("title".into(), format!("Waltron {}", F::KIND).into());
    }
    schema
}

/// Reads a form from a file's text: syntax and shape. Problems are noted; a form comes back where
/// the rest of the file can still be read, so that its values' problems are found too.
pub fn parse<F: Form>(source: &Source, problems: &mut Problems) -> Option<F> {
    parse_without(source, "", problems, |_, _| ())
}

/// As [`parse`], with a key taken out of the file and read by `with` instead.
pub fn parse_without<F: Form>(
    source: &Source,
    key: &str,
    problems: &mut Problems,
    with: impl FnOnce(Option<toml::Spanned<toml::de::DeValue<'_>>>, &mut Problems),
) -> Option<F> {
    let (mut table, errors) = toml::de::DeTable::parse_recoverable(&source.text);
    for error in &errors {
        let span = error.span().unwrap_or(0..0);
        problems.push(Problem::new(span, error.message().to_owned()));
    }
    if !problems.is_empty() {
        return None;
    }
    with(table.get_mut().remove(key), problems);
    shape::check(&mut table, &schema::<F>(), problems);
    match F::deserialize(toml::de::Deserializer::from(table)) {
        Ok(form) => Some(form),
        Err(error) => {
            // What the shape has told already need not be told in the library's words.
            if problems.is_empty() {
                let span = error.span().unwrap_or(0..0);
                problems.push(Problem::new(span, error.message().to_owned()));
            }
            None
        }
    }
}

/// The tables and keys at the top of a file's text, as far as it can be read: what tells one kind of file from
/// another.
pub fn top_keys(source: &Source) -> Vec<String> {
    let (table, _) = toml::de::DeTable::parse_recoverable(&source.text);
    table.get_ref().keys().map(|key| key.get_ref().to_string()).collect()
}

/// Reads a form and what it means, or every problem that kept either from being read.
///
/// # Errors
/// All problems found.
pub fn load<F: Form, T>(
    source: &Source,
    read: impl FnOnce(F, &mut Problems) -> Option<T>,
) -> Result<T, DocumentError> {
    let mut problems = Problems::default();
    let value = parse(source, &mut problems).and_then(|form| read(form, &mut problems));
    problems.none_or(source)?;
    let unreadable = || DocumentError::new(source, vec![Problem::new(0..0, "nothing to read")]);
    value.ok_or_else(unreadable)
}

/// An optional value that was read: `None` only where reading it failed.
pub fn optional<T>(read: Option<Option<T>>) -> Option<Option<T>> {
    match read {
        None => Some(None),
        Some(value) => value.map(Some),
    }
}
