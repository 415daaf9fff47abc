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

mod asset_form;
mod curve_form;
mod field;
mod plan_form;
mod problem;
mod shape;
#[cfg(test)]
mod tests;

pub use asset_form::{AssetForm, MeasuresForm};
pub use curve_form::{CurveForm, Spannable};
pub use field::{Field, Number, QuantityText, Text, ToleranceText};
pub use plan_form::PlanForm;
pub use problem::{DocumentError, Problem, Problems, Source};

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

/// Reads a form from a file's text: syntax and shape.
///
/// # Errors
/// Every problem of syntax, or else every problem of shape.
pub fn parse<F: Form>(source: &Source) -> Result<F, DocumentError> {
    let (table, errors) = toml::de::DeTable::parse_recoverable(&source.text);
    let mut problems = Problems::default();
    for error in &errors {
        let span = error.span().unwrap_or(0..0);
        problems.push(Problem::new(span, error.message().to_owned()));
    }
    problems.none_or(source)?;
    let mut problems = Problems::default();
    shape::check(&table, &schema::<F>(), &mut problems);
    problems.none_or(source)?;
    toml::from_str(&source.text).map_err(|error| {
        let span = error.span().unwrap_or(0..0);
        DocumentError::new(source, vec![Problem::new(span, error.message().to_owned())])
    })
}
