//! Procedures as plans name them: their keys, and what the keys mean.

use crate::alike::Alike;
use crate::asset::Asset;
use crate::grading::{Finding, Grade};
use crate::injection::observation::Observation;
use crate::injection::program::Program;
use crate::procedure::{Answer, Bench, Procedure, Question, SetupError};
use crate::text::document::{Field, Problem, Problems, Text};
use crate::text::name::Name;
use schemars::JsonSchema;
use serde::de::DeserializeOwned;
use serde_json::Value;
use std::any::Any;
use std::fmt::Debug;
use std::sync::Arc;
use toml::Spanned;
use toml::de::DeTable;

/// A procedure with its parameters, read and checked against the asset.
pub trait Method: Alike + Debug + Send + Sync {
    /// Its name as written in plans.
    fn word(&self) -> &'static str;

    /// Sets it up for an asset on a rig.
    ///
    /// # Errors
    /// [`SetupError`] where it makes no sense for this asset or cannot be done on this rig.
    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError>;

    /// The element under test, where it is one.
    fn element(&self) -> Option<&Name> {
        None
    }

    /// What the person at the panel must see to before outputs come on, a line each.
    fn precautions(&self) -> Vec<String> {
        Vec::new()
    }

    /// The same with what the attendant was asked in a run, in its order; `None` where that changes nothing.
    fn answered(&self, _said: &[(Question, Answer)]) -> Option<Arc<dyn Method>> {
        None
    }

    /// Whether all of its points are graded again by the injections that served them; else by what was told of them
    /// alone, such as what somebody has read.
    fn injects(&self) -> bool {
        true
    }

    /// Grades a point of a record again: by this procedure's parameters, from the injections that served
    /// it, the last one last.
    ///
    /// # Errors
    /// Why there is no verdict to be had of them.
    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String>;

    /// All that it grades by its parameters of injections that serve points together, where other
    /// parameters or another nameplate may make other points of them; `None` where they make the same.
    fn all_again(
        &self,
        _bench: Bench<'_>,
        _served: &[(&Program, &Observation)],
    ) -> Option<Vec<Finding>> {
        None
    }
}

impl PartialEq for dyn Method {
    fn eq(&self, other: &Self) -> bool {
        self.is_same(other as &dyn Any)
    }
}

/// The part of a test that every procedure has.
#[derive(Clone, Copy, Debug)]
pub struct TestHead<'a> {
    /// Its id.
    pub id: &'a Text,
    /// The procedure's word.
    pub procedure: &'static str,
}

impl TestHead<'_> {
    /// The test's id as a name.
    pub fn name(&self) -> Name {
        self.id.as_str().into()
    }

    /// Notes that a key is missing that the procedure cannot do without.
    pub fn lacks(&self, key: &str, problems: &mut Problems) {
        let message = format!("test `{}` has no `{key}`", self.id.as_str());
        problems.push(Problem::new(self.id.span(), message));
    }
}

/// A procedure's own keys as they are written in a plan.
pub trait TestKeys: Debug + Send + Sync {
    /// What they mean for an asset; problems are noted.
    fn read(
        &self,
        head: TestHead<'_>,
        asset: &Asset,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>>;
}

/// A procedure that plans can name.
#[derive(Clone, Copy)]
pub struct Registration {
    /// Its word.
    pub word: &'static str,
    /// What it does, in a line.
    pub about: &'static str,
    schema: fn() -> Value,
    parse: fn(Spanned<DeTable<'_>>) -> Parsed,
}

/// A procedure's keys, or why they cannot be read.
type Parsed = Result<Arc<dyn TestKeys>, toml::de::Error>;

impl Debug for Registration {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.word)
    }
}

impl Registration {
    /// A procedure whose keys are the fields of a form.
    pub const fn of<F>(word: &'static str, about: &'static str) -> Self
    where
        F: TestKeys + DeserializeOwned + JsonSchema + 'static,
    {
        Self { word, about, schema: schema_of::<F>, parse: parse_as::<F> }
    }

    /// The JSON Schema of its own keys.
    pub fn schema(&self) -> Value {
        (self.schema)()
    }

    /// The names of its own keys.
    pub fn keys(&self) -> Vec<String> {
        let schema = self.schema();
        let keys = schema.get("properties").and_then(Value::as_object);
        keys.map(|keys| keys.keys().cloned().collect()).unwrap_or_default()
    }

    /// Reads its own keys, of which the shape has been checked.
    pub(crate) fn parse(
        &self,
        table: Spanned<DeTable<'_>>,
    ) -> Result<Arc<dyn TestKeys>, toml::de::Error> {
        (self.parse)(table)
    }
}

/// The JSON Schema of keys, whole in itself.
pub(crate) fn schema_of<F: JsonSchema>() -> Value {
    let settings = schemars::generate::SchemaSettings::draft2020_12();
    let settings = settings.with(|s| s.inline_subschemas = true);
    let mut schema = settings.into_generator().into_root_schema_for::<F>().to_value();
    if let Some(object) = schema.as_object_mut() {
        object.remove("$schema");
    }
    schema
}

fn parse_as<F: TestKeys + DeserializeOwned + 'static>(
    table: Spanned<DeTable<'_>>,
) -> Result<Arc<dyn TestKeys>, toml::de::Error> {
    let form = F::deserialize(toml::de::Deserializer::from(table))?;
    Ok(Arc::new(form))
}
