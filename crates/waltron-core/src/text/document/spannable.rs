//! A value with its place.

use super::Field;
use schemars::JsonSchema;
use serde::Deserialize;
use std::ops::Range;
use toml::Spanned;

/// A value with its place whose schema is that of the value.
#[derive(Clone, Debug, Deserialize)]
#[serde(transparent)]
pub struct Spannable<T>(Spanned<T>);

impl<T> Spannable<T> {
    /// The value.
    pub fn get(&self) -> &T {
        self.0.get_ref()
    }
}

impl<T> Spannable<T> {
    /// The value, without its place.
    pub fn into_inner(self) -> T {
        self.0.into_inner()
    }
}

impl<T> Field for Spannable<T> {
    fn span(&self) -> Range<usize> {
        self.0.span()
    }
}

impl<T: JsonSchema> JsonSchema for Spannable<T> {
    fn inline_schema() -> bool {
        T::inline_schema()
    }
    fn schema_name() -> std::borrow::Cow<'static, str> {
        T::schema_name()
    }
    fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
        T::json_schema(generator)
    }
}
