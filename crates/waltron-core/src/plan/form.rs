//! The plan file.

use super::entries;
use crate::asset::Asset;
use crate::asset::Precautions;
use crate::grading::Rule;
use crate::plan::{Plan, ProcedureSettings, ScriptPlace, SequenceSettings, Test};
use crate::procedure::{TestHead, TestKeys};
use crate::quantity::Quantity;
use crate::text::document::{
    AnyQuantityText, DocumentError, Field, Form, Problem, Problems, Source, Text, parse_without,
};
use crate::text::name::Name;
use crate::wing::Wings;
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

/// A plan: the list of tests for an asset.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PlanForm {
    /// What the plan is for.
    plan: HeadForm,
    /// Conditions on site, such as `temperature = "19 °C"`; shown in the report.
    ambient: Option<BTreeMap<String, String>>,
    /// Values by name, for expressions in this plan and in its sequences.
    #[serde(rename = "let")]
    lets: Option<BTreeMap<String, AnyQuantityText>>,
    /// How verdicts are reached.
    grading: Option<GradingForm>,
    /// The connection sheet.
    hookup: Option<HookupForm>,
    /// The tests, which are read by their procedures.
    #[serde(skip)]
    #[schemars(skip)]
    tests: Vec<TestForm>,
}

impl Form for PlanForm {
    const KIND: &'static str = "plan";
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct HeadForm {
    /// What the job is called.
    title: String,
    /// The asset's file, relative to the plan.
    asset: Text,
    /// The rig's file, relative to the plan.
    rig: Option<Text>,
    /// Who tests.
    tester: Option<String>,
    /// Why the job is done, such as `annual maintenance`.
    reason: Option<String>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct GradingForm {
    /// `simple` if not given.
    rule: RuleForm,
}

/// How measurement uncertainty bears on a verdict.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum RuleForm {
    /// A value inside its limits passes.
    Simple,
    /// A value passes if it is inside by at least its uncertainty.
    Guarded,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct HookupForm {
    /// What must be seen to before everything else, a line each.
    first: Option<Vec<String>>,
    /// What must be isolated, shorted, earthed, closed, bypassed or reset besides, a line each.
    before: Option<Vec<String>>,
    /// What must be seen to afterwards, before the tripping circuits are closed, a line each.
    after: Option<Vec<String>>,
}

/// A test as it is written: what every one has, and its procedure's own keys.
#[derive(Clone, Debug)]
pub(super) struct TestForm {
    pub(super) id: Text,
    pub(super) span: Range<usize>,
    pub(super) procedure: &'static str,
    pub(super) keys: Keys,
}

#[derive(Clone, Debug)]
pub(super) enum Keys {
    /// A script of the plan's own.
    Script(Option<Text>),
    /// Those of a registered procedure.
    Of(Arc<dyn TestKeys>),
}

/// A script of your own.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct SequenceKeys {
    /// The script: a file's name ending in `.seq`, or the script itself.
    pub(super) script: Option<Text>,
}

/// The word of the procedure that every plan has.
pub(super) const SEQUENCE: &str = "sequence";

impl PlanForm {
    /// The asset file's name as written, with its place.
    pub fn asset_file(&self) -> &Text {
        &self.plan.asset
    }

    /// The rig file's name as written, with its place.
    pub fn rig_file(&self) -> Option<&Text> {
        self.plan.rig.as_ref()
    }

    /// Reads a plan file's syntax and shape; [`PlanForm::resolve`] does the rest.
    ///
    /// # Errors
    /// Every problem of syntax or shape; the asset is needed to find those of meaning.
    pub fn load(source: &Source, wings: Wings) -> Result<Self, DocumentError> {
        let mut problems = Problems::default();
        let mut tests = Vec::new();
        let form: Option<Self> = parse_without(source, "test", &mut problems, |taken, problems| {
            tests = entries::read(taken, wings, problems);
        });
        problems.none_or(source)?;
        let unreadable = || DocumentError::new(source, vec![Problem::new(0..0, "nothing to read")]);
        let form = form.ok_or_else(unreadable)?;
        Ok(Self { tests, ..form })
    }

    /// The JSON Schema of plans with the procedures of these wings.
    pub fn schema(wings: Wings) -> serde_json::Value {
        entries::schema(crate::text::document::schema::<Self>(), wings)
    }

    /// Reads all values and checks them against the asset.
    ///
    /// # Errors
    /// Every problem: values, elements that the asset lacks, loops that do not exist, no tests.
    pub fn resolve(&self, source: &Source, asset: &Asset) -> Result<Plan, DocumentError> {
        let mut problems = Problems::with(asset.settings());
        let lets = self.read_lets(&mut problems);
        if self.tests.is_empty() {
            problems.push(
                Problem::new(0..0, "the plan has no tests")
                    .help("add a `[[test]]` with id, procedure, element and loops"),
            );
        }
        let mut tests: Vec<Test> = Vec::new();
        for inner in &self.tests {
            if inner.id.as_str().contains('/') {
                let message = "a test's id has no `/`: it parts the test from its points";
                problems.push(Problem::new(inner.id.span(), message));
            }
            if tests.iter().any(|t| t.id == inner.id.as_str()) {
                let message = format!("test `{}` is there twice", inner.id.as_str());
                problems.push(Problem::new(inner.id.span(), message));
            }
            tests.extend(inner.read(source, asset, &mut problems));
        }
        problems.none_or(source)?;
        Ok(Plan {
            title: self.plan.title.clone(),
            tester: self.plan.tester.clone(),
            reason: self.plan.reason.clone(),
            ambient: self.ambient.clone().unwrap_or_default().into_iter().collect(),
            lets,
            rule: match self.grading.as_ref().map(|g| g.rule) {
                Some(RuleForm::Guarded) => Rule::Guarded,
                _ => Rule::Simple,
            },
            hookup: self.hookup.clone().map_or_else(Precautions::default, |h| Precautions {
                first: h.first.unwrap_or_default(),
                before: h.before.unwrap_or_default(),
                after: h.after.unwrap_or_default(),
                ..Precautions::default()
            }),
            tests,
        })
    }
}

impl PlanForm {
    /// The plan's own values, each of which may refer to the others: they are read in rounds, since
    /// the table keeps no order.
    fn read_lets(&self, problems: &mut Problems) -> Vec<(Name, Quantity)> {
        let (settings, mut open): (Vec<_>, Vec<_>) =
            self.lets.iter().flatten().partition(|(name, _)| problems.settings.get(name).is_some());
        // What is graded against a setting is graded against the asset's, whatever a plan says.
        for (name, text) in settings {
            let message =
                format!("`{name}` is a setting of the asset, and cannot be another value");
            problems.push(Problem::new(text.span(), message).help("choose another name"));
        }
        let mut read = Vec::new();
        loop {
            let before = open.len();
            open.retain(|(name, text)| {
                let mut attempt = Problems::with(problems.settings.clone());
                let Some(value) = text.read(&mut attempt) else { return true };
                problems.settings.insert(name.as_str(), value);
                read.push((Name::from(name.as_str()), value));
                false
            });
            if open.is_empty() || open.len() == before {
                break;
            }
        }
        for (_, text) in open {
            text.read(problems);
        }
        read
    }
}

impl TestForm {
    fn read(&self, source: &Source, asset: &Asset, problems: &mut Problems) -> Option<Test> {
        let procedure = match &self.keys {
            Keys::Script(text) => {
                let script = self.script_of(text.as_ref(), source, problems)?;
                ProcedureSettings::Sequence(SequenceSettings { script })
            }
            Keys::Of(keys) => {
                let head = TestHead { id: &self.id, procedure: self.procedure };
                ProcedureSettings::Built(keys.read(head, asset, problems)?)
            }
        };
        Some(Test { id: self.id.as_str().into(), span: self.span.clone(), procedure })
    }

    /// The script: a file's name, or the text in place.
    fn script_of(
        &self,
        text: Option<&Text>,
        source: &Source,
        problems: &mut Problems,
    ) -> Option<ScriptPlace> {
        let Some(text) = text else {
            let message = format!("test `{}` has no `script`", self.id.as_str());
            let problem = Problem::new(self.id.span(), message);
            problems.push(
                problem.help("name a file such as `cold-load.seq`, or write the script in '''…'''"),
            );
            return None;
        };
        let written = text.as_str();
        let span = text.span();
        if !written.contains('\n') && written.trim_end().ends_with(".seq") {
            return Some(ScriptPlace::File(written.to_owned(), span));
        }
        // In place, so that a mistake shows at its line of the plan: everything around is blanked.
        let start = source.text[span.clone()].find(written.trim_end()).map(|at| span.start + at);
        Some(ScriptPlace::Inline(match start {
            Some(start) if !written.trim().is_empty() => {
                let end = start + written.trim_end().len();
                let blank = |text: &str| -> String {
                    text.chars()
                        .map(|c| if c == '\n' { "\n".to_owned() } else { " ".repeat(c.len_utf8()) })
                        .collect()
                };
                let (before, inside) = (blank(&source.text[..start]), &source.text[start..end]);
                Source::new(
                    source.name.clone(),
                    format!("{before}{inside}{}", blank(&source.text[end..])),
                )
            }
            // With escapes in it, the text stands alone.
            _ => Source::new(format!("{}, script of `{}`", source.name, self.id.as_str()), written),
        }))
    }
}
