//! The plan file.

use super::curve_form::Spannable;
use super::field::{AnyQuantityText, Field, QuantityText, Text};
use super::problem::{DocumentError, Problem, Problems, Source};
use super::{Form, load, optional};
use crate::asset::{Asset, Element};
use crate::expression::Settings;
use crate::fault_loop::FaultLoop;
use crate::grading::Rule;
use crate::name::{Name, nearest};
use crate::plan::{Plan, Precautions, ProcedureSettings, ScriptPlace, SequenceSettings, Test};
use crate::procedure::{Level, PickupSettings, TripTimeSettings};
use crate::quantity::{Current, Dimension, Measure, Quantity, Ratio, Time, seconds};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::ops::Range;

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
    /// The tests, run in this order.
    test: Option<Vec<Spannable<TestForm>>>,
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

/// Ways of testing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum ProcedureForm {
    /// Ramp up to operation and down to reset.
    Pickup,
    /// Pre-fault, fault, time until trip.
    TripTime,
    /// A script of your own.
    Sequence,
}

impl ProcedureForm {
    const fn word(self) -> &'static str {
        match self {
            Self::Pickup => "pickup",
            Self::TripTime => "trip-time",
            Self::Sequence => "sequence",
        }
    }

    const fn keys(self) -> &'static [&'static str] {
        match self {
            Self::Pickup => &["element", "loops", "from", "to", "step", "dwell", "rest"],
            Self::TripTime => &[
                "element",
                "loops",
                "at",
                "repeat",
                "prefault",
                "prefault_time",
                "wait",
                "reset",
                "rest",
                "of",
            ],
            Self::Sequence => &["script"],
        }
    }
}

/// How a latched contact is reset between points.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum ResetForm {
    /// It resets by itself.
    #[serde(rename = "self")]
    BySelf,
    /// The attendant is asked after each operation.
    Ask,
}

/// What the times of a test are graded as.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum OfForm {
    /// The element under test; where another one may operate first, the point is not tested.
    Element,
    /// Whatever closes the contact first.
    Contact,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct TestForm {
    /// Its id, unique in the plan.
    id: Text,
    /// The way of testing.
    procedure: ProcedureForm,
    /// The element under test (pickup, trip-time).
    element: Option<Text>,
    /// Fault loops to inject: `A-N`, `B-N`, `C-N`, `A-B`, `B-C`, `C-A`, `A-B-C`.
    loops: Option<Spannable<Vec<Text>>>,
    /// The script: a file's name ending in `.seq`, or the script itself (sequence).
    script: Option<Text>,
    /// Levels to inject: multiples of pickup (`2 x`) or currents (`3 A`) (trip-time).
    at: Option<Spannable<Vec<Text>>>,
    /// How often each point is injected; once if not given (trip-time).
    repeat: Option<Spannable<u32>>,
    /// Balanced load current before the fault (trip-time).
    prefault: Option<QuantityText<Current>>,
    /// How long the pre-fault state lasts; 500 ms if not given (trip-time).
    prefault_time: Option<QuantityText<Time>>,
    /// How long to wait where no operation is expected; derived if not given (trip-time).
    wait: Option<QuantityText<Time>>,
    /// `self` (default) or `ask` for contacts that latch (trip-time).
    reset: Option<Spannable<ResetForm>>,
    /// `element` (default), or `contact` to grade whatever closes the trip contact first (trip-time).
    of: Option<Spannable<OfForm>>,
    /// First level of the ramp; `0.8 x` if not given (pickup).
    from: Option<QuantityText<Ratio>>,
    /// Last level of the ramp; `1.2 x` if not given (pickup).
    to: Option<QuantityText<Ratio>>,
    /// Step of the ramp; a fifth of the tolerance if not given (pickup).
    step: Option<QuantityText<Current>>,
    /// Time on each level; twice the element's start time if not given (pickup).
    dwell: Option<QuantityText<Time>>,
    /// Time with outputs off before each injection; 1 s if not given.
    rest: Option<QuantityText<Time>>,
}

/// Most points one test may hold; beyond it a typing error is likelier than a wish.
const MOST_POINTS: usize = 100_000;

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
    pub fn load(source: &Source) -> Result<Self, DocumentError> {
        load(source, |form, _| Some(form))
    }

    /// Reads all values and checks them against the asset.
    ///
    /// # Errors
    /// Every problem: values, elements that the asset lacks, loops that do not exist, no tests.
    pub fn resolve(&self, source: &Source, asset: &Asset) -> Result<Plan, DocumentError> {
        let mut problems = Problems::with(Settings::of(asset));
        let lets = self.read_lets(&mut problems);
        let forms = self.test.as_deref().unwrap_or_default();
        if forms.is_empty() {
            problems.push(
                Problem::new(0..0, "the plan has no tests")
                    .help("add a `[[test]]` with id, procedure, element and loops"),
            );
        }
        let mut tests: Vec<Test> = Vec::new();
        for form in forms {
            let (inner, span) = (form.get(), form.span());
            if inner.id.as_str().contains('/') {
                let message = "a test's id has no `/`: it parts the test from its points";
                problems.push(Problem::new(inner.id.span(), message));
            }
            if tests.iter().any(|t| t.id == inner.id.as_str()) {
                let message = format!("test `{}` is there twice", inner.id.as_str());
                problems.push(Problem::new(inner.id.span(), message));
            }
            tests.extend(inner.read(span, source, asset, &mut problems));
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
    fn read(
        &self,
        span: Range<usize>,
        source: &Source,
        asset: &Asset,
        problems: &mut Problems,
    ) -> Option<Test> {
        self.refuse_foreign_keys(problems);
        if self.procedure == ProcedureForm::Sequence {
            let script = self.script_of(source, problems)?;
            let procedure = ProcedureSettings::Sequence(SequenceSettings { script });
            return Some(Test { id: self.id.as_str().into(), span, procedure });
        }
        let element = self.element_of(asset, problems);
        let loops = self.loops_of(problems);
        let rest = time_or(&self.rest, 1.0, problems);
        let id = self.id.as_str().into();
        let procedure = match self.procedure {
            ProcedureForm::Sequence => return None,
            ProcedureForm::Pickup => {
                let settings = self.pickup(problems);
                let (from, to, step, dwell) = settings?;
                let element = element?;
                let span = (element.pickup * (to - from)).value;
                if let (Some(step), Some(field)) = (step, &self.step)
                    && span / step.value > 10_000.0
                {
                    let message = "this step makes a ramp of more than 10 000 levels";
                    problems.push(Problem::new(field.span(), message));
                }
                ProcedureSettings::Pickup(PickupSettings {
                    test: id,
                    element: element.id.clone(),
                    loops: loops?,
                    from,
                    to,
                    step,
                    dwell,
                    rest: rest?,
                })
            }
            ProcedureForm::TripTime => {
                let at = self.levels(problems);
                let repeat = self.repeat_of(problems);
                let prefault = self.prefault.as_ref().map(|f| f.positive(problems));
                let prefault_time = time_or(&self.prefault_time, 0.5, problems);
                let wait = self.wait.as_ref().map(|f| f.positive(problems));
                let (at, loops, repeat) = (at?, loops?, repeat?);
                if at.len() * loops.len() * repeat as usize > MOST_POINTS {
                    let message = format!("this test makes more than {MOST_POINTS} points");
                    problems.push(Problem::new(self.id.span(), message));
                    return None;
                }
                ProcedureSettings::TripTime(TripTimeSettings {
                    test: id,
                    element: element?.id.clone(),
                    loops,
                    at,
                    repeat,
                    prefault: optional(prefault)?,
                    prefault_time: prefault_time?,
                    rest: rest?,
                    wait: optional(wait)?,
                    ask_reset: self.reset.as_ref().is_some_and(|r| *r.get() == ResetForm::Ask),
                    of_contact: self.of.as_ref().is_some_and(|o| *o.get() == OfForm::Contact),
                })
            }
        };
        Some(Test { id: self.id.as_str().into(), span, procedure })
    }

    /// The script: a file's name, or the text in place.
    fn script_of(&self, source: &Source, problems: &mut Problems) -> Option<ScriptPlace> {
        let Some(text) = &self.script else {
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

    fn refuse_foreign_keys(&self, problems: &mut Problems) {
        let given: [(&str, Option<Range<usize>>); 15] = [
            ("element", self.element.as_ref().map(Field::span)),
            ("loops", self.loops.as_ref().map(Spannable::span)),
            ("script", self.script.as_ref().map(Field::span)),
            ("rest", self.rest.as_ref().map(Field::span)),
            ("from", self.from.as_ref().map(Field::span)),
            ("to", self.to.as_ref().map(Field::span)),
            ("step", self.step.as_ref().map(Field::span)),
            ("dwell", self.dwell.as_ref().map(Field::span)),
            ("at", self.at.as_ref().map(Field::span)),
            ("repeat", self.repeat.as_ref().map(Field::span)),
            ("prefault", self.prefault.as_ref().map(Field::span)),
            ("prefault_time", self.prefault_time.as_ref().map(Field::span)),
            ("wait", self.wait.as_ref().map(Field::span)),
            ("reset", self.reset.as_ref().map(Field::span)),
            ("of", self.of.as_ref().map(Field::span)),
        ];
        let word = self.procedure.word();
        for (key, span) in given {
            if let Some(span) = span.filter(|_| !self.procedure.keys().contains(&key)) {
                problems.push(
                    Problem::new(span, format!("`{key}` does not belong to procedure `{word}`"))
                        .help(format!("`{word}` takes {}", self.procedure.keys().join(", "))),
                );
            }
        }
    }

    fn element_of<'a>(&self, asset: &'a Asset, problems: &mut Problems) -> Option<&'a Element> {
        let Some(element) = &self.element else {
            let message = format!("test `{}` has no `element`", self.id.as_str());
            problems.push(Problem::new(self.id.span(), message));
            return None;
        };
        let id = element.as_str();
        let found = asset.element(id);
        if found.is_none() {
            if let Some(stage) = asset.stage(id) {
                let procedure = self.procedure.word();
                let what = stage.function.name();
                let message = format!("`{procedure}` tests overcurrent elements; `{id}` is {what}");
                problems.push(
                    Problem::new(element.span(), message)
                        .help("test it with `procedure = \"sequence\"` and a script of its own"),
                );
                return None;
            }
            let ids: Vec<&str> = asset.elements.iter().map(|e| e.id.as_str()).collect();
            let message = format!("{} has no element `{id}`", asset.identity.tag);
            problems.push(
                Problem::new(element.span(), message)
                    .did_you_mean(asset.nearest_element(id).map(|n| n.as_str()), || {
                        format!("its elements are {}", ids.join(", "))
                    }),
            );
        }
        found
    }

    fn loops_of(&self, problems: &mut Problems) -> Option<Vec<FaultLoop>> {
        let Some(given) = self.loops.as_ref().filter(|l| !l.get().is_empty()) else {
            let (place, message) = match &self.loops {
                Some(empty) => (empty.span(), "`loops` is empty".to_owned()),
                None => (self.id.span(), format!("test `{}` has no `loops`", self.id.as_str())),
            };
            problems.push(Problem::new(place, message));
            return None;
        };
        let mut loops = Vec::new();
        for text in given.get() {
            match FaultLoop::parse(text.as_str()) {
                Some(found) if loops.contains(&found) => {
                    let message = format!("loop `{found}` is listed twice");
                    problems.push(Problem::new(text.span(), message));
                }
                Some(found) => loops.push(found),
                None => {
                    let names = FaultLoop::ALL.map(FaultLoop::name);
                    let message = format!("there is no loop `{}`", text.as_str());
                    problems.push(
                        Problem::new(text.span(), message)
                            .did_you_mean(nearest(text.as_str(), names), || {
                                format!("loops are {}", names.join(", "))
                            }),
                    );
                }
            }
        }
        Some(loops)
    }

    fn levels(&self, problems: &mut Problems) -> Option<Vec<Level>> {
        let Some(at) = self.at.as_ref().filter(|at| !at.get().is_empty()) else {
            let place = self.at.as_ref().map_or_else(|| self.id.span(), Field::span);
            problems.push(
                Problem::new(place, "a trip-time test needs levels in `at`")
                    .help("write multiples of pickup or currents: at = [\"2 x\", \"3 A\"]"),
            );
            return None;
        };
        let mut levels = Vec::new();
        for text in at.get() {
            // What is worked out is a current, or a multiple: an expression has a unit anyway.
            if let Some(worked_out) = text.expression(&problems.settings) {
                match worked_out {
                    Ok(q) if q.si > 0.0 && q.dimension == Dimension::NUMBER => {
                        levels.push(Level::Multiple(q.si));
                    }
                    Ok(q) if q.si > 0.0 && q.dimension == Dimension::CURRENT => {
                        levels.push(Level::Absolute(Current::from_si(q.si)));
                    }
                    Ok(q) => {
                        let message = format!(
                            "`{}` is {q}, but a multiple of pickup or a current is wanted",
                            text.as_str()
                        );
                        problems.push(Problem::new(text.span(), message));
                    }
                    Err(problem) => problems.push(problem),
                }
                continue;
            }
            let problem = match Quantity::parse(text.as_str()) {
                Ok(q) if q.si <= 0.0 => {
                    Problem::new(text.span(), format!("`{}` must be above zero", text.as_str()))
                }
                // A bare number would be ambiguous: twice the pickup, or two amperes?
                Ok(q) if q.dimension == Dimension::NUMBER => {
                    if text.as_str().trim().ends_with(['x', '%']) {
                        levels.push(Level::Multiple(q.si));
                        continue;
                    }
                    Problem::new(text.span(), format!("`{}` has no unit", text.as_str()))
                        .help("write `2 x` for a multiple of pickup, `2 A` for a current")
                }
                Ok(q) => match q.get::<Current>() {
                    Some(i) => {
                        levels.push(Level::Absolute(i));
                        continue;
                    }
                    None => Problem::new(
                        text.span(),
                        format!(
                            "`{}` is {}, but a multiple of pickup or a current is wanted",
                            text.as_str(),
                            q.dimension
                        ),
                    ),
                },
                Err(error) => Problem::quantity(text.span(), &error),
            };
            problems.push(problem);
        }
        Some(levels)
    }

    fn repeat_of(&self, problems: &mut Problems) -> Option<u32> {
        match &self.repeat {
            None => Some(1),
            Some(n) if *n.get() == 0 => {
                problems.push(Problem::new(n.span(), "`repeat` must be at least 1"));
                None
            }
            Some(n) => Some(*n.get()),
        }
    }

    fn pickup(&self, problems: &mut Problems) -> Option<(f64, f64, Option<Current>, Option<Time>)> {
        let ratio = |field: &Option<QuantityText<Ratio>>, default, problems: &mut Problems| {
            field.as_ref().map_or(Some(default), |f| f.positive(problems).map(|r| r.value))
        };
        let from = ratio(&self.from, 0.8, problems);
        let to = ratio(&self.to, 1.2, problems);
        let step = self.step.as_ref().map(|s| s.positive(problems));
        let dwell = self.dwell.as_ref().map(|d| d.positive(problems));
        if let (Some(from), Some(to)) = (from, to)
            && from >= to
        {
            let field = self.to.as_ref().or(self.from.as_ref());
            let place = field.map_or_else(|| self.id.span(), Field::span);
            let message = format!("the ramp goes up, but `from` {from} x is not below `to` {to} x");
            problems.push(Problem::new(place, message));
        }
        Some((from?, to?, optional(step)?, optional(dwell)?))
    }
}

fn time_or(
    field: &Option<QuantityText<Time>>,
    default_s: f64,
    problems: &mut Problems,
) -> Option<Time> {
    field.as_ref().map_or(Some(seconds(default_s)), |f| f.not_negative(problems))
}
