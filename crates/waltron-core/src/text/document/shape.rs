//! Keys and value types of a file against the schema of its form.
//!
//! Deserialising stops at the first mistake; this walk finds all of them, each with its place and
//! the nearest valid key. The schema is the one that [`super::schema`] prints, so what editors
//! accept and what the program accepts cannot drift apart.

use super::{Problem, Problems};
use crate::quantity::{Dimension, parse_as};
use crate::text::name::nearest;
use serde_json::Value;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// Schema keyword that holds the exponents of the dimension a text must have, so that a wrong unit
/// shows together with wrong keys. Validators of others skip keywords they do not know.
pub(super) const DIMENSION_KEY: &str = "x-dimension";

/// Notes every key and type of `table` that the schema does not allow, and takes unknown keys out,
/// so that the rest can still be read and its mistakes found.
pub(super) fn check(table: &mut Spanned<DeTable<'_>>, schema: &Value, problems: &mut Problems) {
    check_as(table, schema, "the file", problems);
}

/// As [`check`], of a part of the file that is called so.
pub(crate) fn check_as(
    table: &mut Spanned<DeTable<'_>>,
    schema: &Value,
    what: &str,
    problems: &mut Problems,
) {
    let walk = Walk { root: schema };
    let span = table.span();
    walk.table(table.get_mut(), span, schema, what, problems);
}

struct Walk<'a> {
    root: &'a Value,
}

impl<'a> Walk<'a> {
    /// Follows `$ref`, and `anyOf` as it is used for optional values.
    fn resolve(&self, schema: &'a Value) -> &'a Value {
        if let Some(target) = schema.get("$ref").and_then(Value::as_str) {
            let pointer = target.trim_start_matches('#');
            return self.root.pointer(pointer).map_or(schema, |s| self.resolve(s));
        }
        let options = schema.get("anyOf").and_then(Value::as_array);
        match options.and_then(|o| o.iter().find(|s| s["type"] != "null")) {
            Some(some) => self.resolve(some),
            None => schema,
        }
    }

    fn value(
        &self,
        key: &str,
        value: &mut Spanned<DeValue<'_>>,
        schema: &'a Value,
        problems: &mut Problems,
    ) {
        let schema = self.resolve(schema);
        let found = kind_of(value.get_ref());
        let wanted = wanted_kinds(schema);
        let fits = wanted.is_empty()
            || wanted.contains(&found)
            || (found == "integer" && wanted.contains(&"number"));
        if !fits {
            let names: Vec<&str> = wanted.iter().map(|k| toml_name(k)).collect();
            let mut problem = Problem::new(
                value.span(),
                format!("`{key}` must be {}, not {}", names.join(" or "), toml_name(found)),
            );
            if wanted == ["string"] && matches!(found, "integer" | "number") {
                let unit = "quantities are text with their unit, such as \"1.2 A\"";
                problem = problem.help(unit);
            }
            problems.push(problem);
            return;
        }
        let span = value.span();
        match value.get_mut() {
            DeValue::Table(table) => self.table(table, span, schema, key, problems),
            DeValue::Array(items) => {
                if let Some(item_schema) = schema.get("items") {
                    for item in items.iter_mut() {
                        self.value(key, item, item_schema, problems);
                    }
                }
            }
            DeValue::String(text) => {
                // What is worked out from other values is checked when those are known.
                if let Some(dimension) = dimension(schema)
                    && let Err(error) = parse_as(text, dimension)
                    && super::field::expression_in(text).is_none()
                {
                    problems.push(Problem::quantity(span.clone(), &error));
                }
                let choices = choices(schema);
                if !choices.is_empty() && !choices.contains(&text.as_ref()) {
                    let near = nearest(text, choices.iter().copied());
                    problems.push(
                        Problem::new(span, format!("`{text}` is no valid `{key}`"))
                            .did_you_mean(near, || format!("use one of {}", choices.join(", "))),
                    );
                }
            }
            _ => {}
        }
    }

    fn table(
        &self,
        table: &mut DeTable<'_>,
        span: Range<usize>,
        schema: &'a Value,
        what: &str,
        problems: &mut Problems,
    ) {
        let schema = self.resolve(schema);
        let Some(properties) = schema.get("properties").and_then(Value::as_object) else {
            // A free table: any key, values of one kind.
            if let Some(values) = schema.get("additionalProperties") {
                for (key, value) in table.iter_mut() {
                    self.value(key.get_ref(), value, values, problems);
                }
            }
            return;
        };
        for (key, value) in table.iter_mut() {
            let name: &str = key.get_ref();
            match properties.get(name) {
                Some(property) => self.value(name, value, property, problems),
                None => {
                    let near = nearest(name, properties.keys().map(String::as_str));
                    let all = || {
                        let keys: Vec<&str> = properties.keys().map(String::as_str).collect();
                        format!("valid keys of {what}: {}", keys.join(", "))
                    };
                    problems.push(
                        Problem::new(key.span(), format!("unknown key `{name}`"))
                            .did_you_mean(near, all),
                    );
                }
            }
        }
        let known = |key: &str| properties.contains_key(key);
        let all = std::mem::take(table).into_iter();
        *table = all.filter(|(key, _)| known(key.get_ref())).collect();
        let required = schema.get("required").and_then(Value::as_array).into_iter().flatten();
        for key in required.filter_map(Value::as_str) {
            if !table.iter().any(|(k, _)| *k.get_ref() == key) {
                let owner = table
                    .iter()
                    .find(|(k, _)| matches!(k.get_ref().as_ref(), "id" | "tag"))
                    .and_then(|(_, v)| v.get_ref().as_str())
                    .map_or_else(|| format!("`{what}`"), |id| format!("{what} `{id}`"));
                let message = match what {
                    "the file" => format!("the file has no `[{key}]`"),
                    _ => format!("{owner} has no `{key}`"),
                };
                problems.push(Problem::new(span.clone(), message));
            }
        }
    }
}

fn dimension(schema: &Value) -> Option<Dimension> {
    let exponents: [i8; 5] = serde_json::from_value(schema.get(DIMENSION_KEY)?.clone()).ok()?;
    let [a, v, s, rad, k] = exponents;
    Some(Dimension::new(a, v, s, rad, k))
}

fn kind_of(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "string",
        DeValue::Integer(_) => "integer",
        DeValue::Float(_) => "number",
        DeValue::Boolean(_) => "boolean",
        DeValue::Datetime(_) => "datetime",
        DeValue::Array(_) => "array",
        DeValue::Table(_) => "object",
    }
}

/// JSON's type names in the words of TOML.
fn toml_name(kind: &str) -> &str {
    match kind {
        "string" => "text in quotes",
        "integer" => "a whole number",
        "number" => "a number",
        "boolean" => "true or false",
        "array" => "a list in [ ]",
        "object" => "a table",
        "datetime" => "a date",
        other => other,
    }
}

fn wanted_kinds(schema: &Value) -> Vec<&str> {
    match schema.get("type") {
        Some(Value::String(kind)) => vec![kind.as_str()],
        Some(Value::Array(kinds)) => {
            kinds.iter().filter_map(Value::as_str).filter(|k| *k != "null").collect()
        }
        _ if !choices(schema).is_empty() => vec!["string"],
        _ => Vec::new(),
    }
}

/// The allowed texts of an enumeration, with or without documentation on each.
fn choices(schema: &Value) -> Vec<&str> {
    let list = |key: &str| schema.get(key).and_then(Value::as_array).into_iter().flatten();
    let documented = list("oneOf").flat_map(|s| {
        let many = s.get("enum").and_then(Value::as_array).into_iter().flatten();
        many.chain(s.get("const")).filter_map(Value::as_str)
    });
    list("enum").filter_map(Value::as_str).chain(documented).collect()
}
