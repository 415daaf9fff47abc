//! The tests of a plan: each is read by the procedure that it names.

use super::form::{Keys, SEQUENCE, SequenceKeys, TestForm};
use crate::procedure::Registration;
use crate::text::document::{Field, Problem, Problems, Text, shape};
use crate::text::name::nearest;
use crate::wing::Wings;
use serde::Deserialize;
use serde_json::{Value, json};
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// Keys that every test has, whatever its procedure.
const COMMON: [&str; 2] = ["id", "procedure"];

/// What a test can be done by: a registered procedure, or a script.
enum Way {
    Script,
    Of(Registration),
}

impl Way {
    fn word(&self) -> &'static str {
        match self {
            Self::Script => SEQUENCE,
            Self::Of(registration) => registration.word,
        }
    }

    fn schema(&self) -> Value {
        match self {
            Self::Script => crate::procedure::schema_of::<SequenceKeys>(),
            Self::Of(registration) => registration.schema(),
        }
    }

    fn keys(&self) -> Vec<String> {
        let schema = self.schema();
        let keys = schema.get("properties").and_then(Value::as_object);
        keys.map(|keys| keys.keys().cloned().collect()).unwrap_or_default()
    }
}

fn ways(wings: Wings) -> Vec<Way> {
    wings.procedures().into_iter().map(Way::Of).chain([Way::Script]).collect()
}

/// Puts the keys of every procedure into the schema of a plan.
pub(super) fn schema(mut plan: Value, wings: Wings) -> Value {
    let ways = ways(wings).into_iter().map(|way| {
        let mut schema = way.schema();
        let word = way.word();
        if let Some(properties) = schema.get_mut("properties").and_then(Value::as_object_mut) {
            let id = json!({ "type": "string", "description": "Its id, unique in the plan." });
            properties.insert("id".into(), id);
            let procedure = json!({ "const": word, "description": "The way of testing." });
            properties.insert("procedure".into(), procedure);
        }
        let required =
            schema.get("required").and_then(Value::as_array).cloned().unwrap_or_default();
        let all = COMMON.iter().map(|key| json!(key)).chain(required);
        let all: Vec<Value> = all.collect();
        if let Some(schema) = schema.as_object_mut() {
            schema.insert("required".into(), all.into());
        }
        schema
    });
    let items = json!({ "oneOf": ways.collect::<Vec<_>>() });
    let test = json!({
        "type": "array", "items": items, "description": "The tests, run in this order.",
    });
    if let Some(properties) = plan.get_mut("properties").and_then(Value::as_object_mut) {
        properties.insert("test".into(), test);
    }
    plan
}

/// Reads the entries; problems are noted.
pub(super) fn read(
    taken: Option<Spanned<DeValue<'_>>>,
    wings: Wings,
    problems: &mut Problems,
) -> Vec<TestForm> {
    let Some(taken) = taken else { return Vec::new() };
    let span = taken.span();
    let DeValue::Array(items) = taken.into_inner() else {
        let problem = Problem::new(span, "`test` must be a list of tables");
        problems.push(problem.help("write every test under a heading of its own: `[[test]]`"));
        return Vec::new();
    };
    let ways = ways(wings);
    let mut all = Vec::new();
    for item in items {
        let span = item.span();
        match item.into_inner() {
            DeValue::Table(table) => all.extend(entry(span, table, &ways, problems)),
            _ => problems.push(Problem::new(span, "a test is a table")),
        }
    }
    all
}

fn entry(
    span: Range<usize>,
    mut table: DeTable<'_>,
    ways: &[Way],
    problems: &mut Problems,
) -> Option<TestForm> {
    let id = text("id", "test", &span, table.remove("id"), problems);
    let owner = match &id {
        Some(id) => format!("test `{}`", id.as_str()),
        None => "test".to_owned(),
    };
    let named = text("procedure", &owner, &span, table.remove("procedure"), problems)?;
    let Some(way) = ways.iter().find(|way| way.word() == named.as_str()) else {
        let words: Vec<&str> = ways.iter().map(Way::word).collect();
        let near = nearest(named.as_str(), words.iter().copied());
        let message = format!("`{}` is no valid `procedure`", named.as_str());
        problems.push(
            Problem::new(named.span(), message)
                .did_you_mean(near, || format!("use one of {}", words.join(", "))),
        );
        return None;
    };
    refuse_foreign(&mut table, way, ways, problems);
    let before = problems.count();
    let mut table = Spanned::new(span.clone(), table);
    shape::check_as(&mut table, &way.schema(), &owner, problems);
    let keys = match way {
        Way::Script => SequenceKeys::deserialize(toml::de::Deserializer::from(table))
            .map(|keys| Keys::Script(keys.script)),
        Way::Of(registration) => registration.parse(table).map(Keys::Of),
    };
    match keys {
        Ok(keys) => Some(TestForm { id: id?, span, procedure: way.word(), keys }),
        Err(error) => {
            // What the shape has told already need not be told in the library's words.
            if problems.count() == before {
                let place = error.span().unwrap_or(span);
                problems.push(Problem::new(place, error.message().to_owned()));
            }
            None
        }
    }
}

/// Takes keys out that belong to other procedures, and says so.
fn refuse_foreign(table: &mut DeTable<'_>, way: &Way, ways: &[Way], problems: &mut Problems) {
    let own = way.keys();
    let others: Vec<String> = ways.iter().flat_map(Way::keys).collect();
    let word = way.word();
    let all = std::mem::take(table).into_iter();
    *table = all
        .filter(|(key, _)| {
            let name: &str = key.get_ref();
            if own.iter().any(|k| k == name) || !others.iter().any(|k| k == name) {
                return true;
            }
            let message = format!("`{name}` does not belong to procedure `{word}`");
            let help = format!("`{word}` takes {}", own.join(", "));
            problems.push(Problem::new(key.span(), message).help(help));
            false
        })
        .collect();
}

/// A key that every test has.
fn text(
    key: &str,
    owner: &str,
    span: &Range<usize>,
    value: Option<Spanned<DeValue<'_>>>,
    problems: &mut Problems,
) -> Option<Text> {
    let Some(value) = value else {
        problems.push(Problem::new(span.clone(), format!("{owner} has no `{key}`")));
        return None;
    };
    let place = value.span();
    let read = Text::deserialize(toml::de::ValueDeserializer::from(value));
    read.map_err(|_| problems.push(Problem::new(place, format!("`{key}` must be text in quotes"))))
        .ok()
}
