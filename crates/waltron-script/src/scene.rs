//! What a running sequence knows: variables, what is out, what happened in the last injection.

use super::context::Context;
use super::names::Frames;
use super::stimuli::Stimuli;
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;
use waltron_core::grading::TripOutcome;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Profile, Program};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{closed_already, seen_trip};
use waltron_core::quantity::{Dimension, Measure, Quantity, Time, seconds};
use waltron_core::text::document::Problem;
use waltron_core::text::expression::{
    Event, Expr, ExprKind, Measured, Names, Range as Bounds, Stage, Type, Value, Which, evaluate,
};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Estimate;

/// An injection, as far as it is known.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Injection {
    pub(super) program: Arc<Program>,
    /// What was seen; while previewing nothing was, and what follows from it is unknown.
    pub(super) observation: Option<Arc<Observation>>,
    /// What its ramp goes through, from and to.
    pub(super) swept: Option<[Quantity; 2]>,
    /// The segment that is the fault.
    pub(super) fault: Option<usize>,
    /// Whether everything that was put out is known.
    pub(super) is_exact: bool,
}

/// What is known of the last injection; `wait`, `read` and `set` are none.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Last {
    /// Nothing was put out yet.
    Nothing,
    /// This.
    Injection(Injection),
    /// It should have been put out and was not, for this reason.
    Lost(bool, String),
    /// While previewing: one of several.
    Unclear,
}

/// What rounding may leave of a time, in s.
pub(super) const HAIR_S: f64 = 1e-9;

/// What is out.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Out {
    /// What is out, or the most that can be.
    pub(super) stimulus: Stimulus,
    /// Whether it is just that; while previewing it may depend on what is measured.
    pub(super) is_exact: bool,
}

impl Out {
    pub(super) fn off() -> Self {
        Self::exactly(Stimulus::off())
    }

    pub(super) fn exactly(stimulus: Stimulus) -> Self {
        Self { stimulus, is_exact: true }
    }
}

/// What a running sequence knows.
#[derive(Clone, Debug)]
pub(super) struct Scene {
    pub(super) context: Arc<Context>,
    pub(super) names: Frames,
    /// What steps yielded: `ramp.value`, `up.reached`.
    pub(super) results: HashMap<String, Value>,
    /// What was injected for them.
    pub(super) stimuli: Stimuli,
    /// Values of a `read` being worked out, by the probe's text.
    pub(super) readings: Option<HashMap<String, Value>>,
    pub(super) out: Out,
    pub(super) last: Last,
    /// Time since the sequence began, in s: the least and the most it can be.
    pub(super) elapsed: (f64, f64),
    /// What it is gone through for.
    pub(super) mode: Mode,
}

/// What a sequence is gone through for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Mode {
    /// Every block once, for its mistakes: values have their kinds, and no more.
    Kinds,
    /// Every course it can take, for what it can put out: values have their bounds.
    Bounds,
    /// To be run.
    Run,
}

impl Scene {
    pub(super) fn new(context: Arc<Context>, mode: Mode) -> Self {
        Self {
            context,
            names: Frames::default(),
            results: HashMap::new(),
            stimuli: Stimuli::default(),
            readings: None,
            out: Out::off(),
            last: Last::Nothing,
            elapsed: (0.0, 0.0),
            mode,
        }
    }

    pub(super) fn variable(&self, name: &str) -> Option<&Value> {
        self.names.value(name)
    }

    /// Whether it is only gone through: nothing that is measured is known.
    pub(super) fn is_preview(&self) -> bool {
        self.mode != Mode::Run
    }

    /// Notes what a step yielded, under its kind and its label.
    pub(super) fn result(&mut self, owners: &[&str], key: &str, value: Value) {
        for owner in owners {
            self.results.insert(format!("{owner}.{key}"), value.clone());
        }
    }

    /// The last injection.
    pub(super) fn injection(&self) -> Option<&Injection> {
        if let Last::Injection(injection) = &self.last { Some(injection) } else { None }
    }

    /// What is known after one of two courses was taken.
    #[must_use]
    pub(super) fn joined(mut self, other: &Self) -> Self {
        self.names.join(&other.names);
        for (name, value) in &other.results {
            let joined = self.results.get(name).map_or_else(|| value.clone(), |v| v.joined(value));
            self.results.insert(name.clone(), joined);
        }
        self.stimuli.join(&other.stimuli);
        if self.out != other.out {
            let stimulus = self.out.stimulus.most(&other.out.stimulus);
            self.out = Out { stimulus, is_exact: false };
        }
        if self.last != other.last {
            self.last = Last::Unclear;
        }
        let (a, b) = (self.elapsed, other.elapsed);
        self.elapsed = (a.0.min(b.0), a.1.max(b.1));
        self
    }

    /// When the fault began; the injection's start where it has none.
    pub(super) fn inception(injection: &Injection) -> Option<Time> {
        let observation = injection.observation.as_ref()?;
        match injection.fault {
            Some(index) => observation.segments.get(index).map(|s| s.start),
            None => Some(seconds(0.0)),
        }
    }

    /// When an event happened in the last injection, at or after a time.
    ///
    /// # Errors
    /// Where the event makes no sense for the last injection.
    pub(super) fn moment(
        injection: &Injection,
        observation: &Observation,
        event: &Event,
        from: Option<Time>,
    ) -> Result<Option<Time>, String> {
        let named = |label: &Name| {
            let at = injection.program.segments.iter().position(|s| s.name == *label);
            at.map(|i| observation.segments.get(i))
        };
        Ok(match event {
            Event::Inception => match injection.fault {
                None => return Err("the last injection has no fault, so no inception".into()),
                Some(_) => Self::inception(injection),
            },
            Event::Contact { signal, closes, which } => {
                let mut edges = observation
                    .edges
                    .iter()
                    .filter(|e| e.signal == *signal && e.closed == *closes)
                    .filter(|e| from.is_none_or(|t| e.time >= t))
                    .map(|e| e.time);
                match which {
                    Which::First => edges.next(),
                    Which::Last => edges.next_back(),
                    Which::Nth(n) => edges.nth(*n as usize - 1),
                }
            }
            Event::Begin(Stage::Named(label)) => match named(label) {
                Some(span) => span.map(|s| s.start),
                None => return Err(format!("the last injection has no stage `{label}`")),
            },
            Event::End(Stage::Named(label)) => match named(label) {
                Some(span) => span.map(|s| s.end),
                None => return Err(format!("the last injection has no stage `{label}`")),
            },
            Event::Begin(Stage::Level(n)) => Self::level(injection, observation, *n, false),
            Event::End(Stage::Level(n)) => Self::level(injection, observation, *n, true),
        })
    }

    fn level(injection: &Injection, observation: &Observation, n: u32, end: bool) -> Option<Time> {
        let ramp = |p: &Profile| match p {
            Profile::Stairs(s) => Some((s.period(), s.dwell)),
            Profile::Steps(s) => Some((s.period(), s.dwell)),
            _ => None,
        };
        let mut segments = injection.program.segments.iter().zip(&observation.segments);
        let (span, (period, dwell)) =
            segments.find_map(|(s, span)| ramp(&s.profile).map(|found| (span, found)))?;
        let begin = span.start + period * f64::from(n - 1);
        let at = if end { begin + dwell } else { begin };
        (at <= span.end).then_some(at)
    }

    /// The time between two events of the last injection.
    ///
    /// # Errors
    /// Where an event makes no sense for the last injection.
    fn between(&self, from: &Event, to: &Event) -> Result<Value, String> {
        let kind = Type::Quantity(Dimension::TIME);
        let injection = match &self.last {
            Last::Injection(injection) => injection,
            Last::Lost(fails, why) => return Ok(Value::missing(kind, *fails, why.as_str())),
            Last::Nothing if !self.is_preview() => {
                return Err("nothing has been put out yet".into());
            }
            Last::Nothing | Last::Unclear => return Ok(any_time()),
        };
        let Some(observation) = &injection.observation else {
            // Which stages there are is known already.
            let nothing = Observation::default();
            for event in [from, to] {
                Self::moment(injection, &nothing, event, None)?;
            }
            let most = injection.program.longest().map_or(f64::INFINITY, Measure::si);
            return Ok(Value::Range(Bounds { low: 0.0, high: most, dimension: Dimension::TIME }));
        };
        let gone = |event: &Event| {
            Value::missing(kind.clone(), true, format!("{} did not come", said(event)))
        };
        let Some(start) = Self::moment(injection, observation, from, None)? else {
            return Ok(gone(from));
        };
        // A contact that is closed already cannot close: nothing is proven by it.
        if let Event::Contact { signal, closes: true, .. } = to
            && let Some(judged) = closed_already(observation, signal, start, &called(from))
        {
            let fails = judged.verdict == waltron_core::grading::Verdict::Fail;
            return Ok(Value::missing(kind, fails, judged.reason));
        }
        let Some(end) = Self::moment(injection, observation, to, Some(start))? else {
            return Ok(gone(to));
        };
        let time = end - start;
        let ends = [from, to].map(|event| match event {
            Event::Contact { signal, .. } => Some(signal),
            _ => None,
        });
        let capability = &self.context.capability;
        let estimate = Some(capability.timed_between(time, ends, observation.host_timing));
        Ok(Value::Measured(Measured { value: Quantity::of(time), estimate }))
    }

    /// Whether a contact operated in the last injection: a change to closed, from inception on.
    fn operated(&self, contact: &str) -> Value {
        let injection = match &self.last {
            Last::Injection(injection) => injection,
            Last::Lost(fails, why) => return Value::missing(Type::Bool, *fails, why.as_str()),
            Last::Nothing if !self.is_preview() => return Value::Bool(false),
            Last::Nothing | Last::Unclear => return Value::Unknown(Type::Bool),
        };
        let Some(observation) = &injection.observation else { return Value::Unknown(Type::Bool) };
        let Some(inception) = Self::inception(injection) else {
            return Value::missing(Type::Bool, false, "the injection ended before inception");
        };
        match seen_trip(observation, &Name::from(contact), inception, observation.length()) {
            Ok(TripOutcome::Operated(_)) => Value::Bool(true),
            Ok(TripOutcome::Waited(_)) => Value::Bool(false),
            Err(judged) => {
                let fails = judged.verdict == waltron_core::grading::Verdict::Fail;
                Value::missing(Type::Bool, fails, judged.reason)
            }
        }
    }
}

fn any_time() -> Value {
    Value::Range(Bounds { low: 0.0, high: f64::INFINITY, dimension: Dimension::TIME })
}

/// An event in words.
/// An event as the moment that something was before.
fn called(event: &Event) -> String {
    match event {
        Event::Inception => "inception".to_owned(),
        other => said(other),
    }
}

fn said(event: &Event) -> String {
    match event {
        Event::Inception => "the inception".to_owned(),
        Event::Contact { signal, closes: true, .. } => format!("the closing of `{signal}`"),
        Event::Contact { signal, closes: false, .. } => format!("the opening of `{signal}`"),
        Event::Begin(Stage::Named(label)) => format!("the begin of `{label}`"),
        Event::End(Stage::Named(label)) => format!("the end of `{label}`"),
        Event::Begin(Stage::Level(n)) | Event::End(Stage::Level(n)) => format!("level {n}"),
    }
}

impl Names for Scene {
    fn value(&self, path: &str) -> Option<Value> {
        if let Some(reading) = self.readings.as_ref().and_then(|r| r.get(path)) {
            return Some(reading.clone());
        }
        if let Some(value) = self.variable(path).or_else(|| self.results.get(path)) {
            return Some(value.clone());
        }
        if path == "elapsed" {
            let (low, high) = self.elapsed;
            if low == high {
                return Some(Value::Quantity(Quantity::of(seconds(low))));
            }
            return Some(Value::Range(Bounds { low, high, dimension: Dimension::TIME }));
        }
        if let Some(value) = self.context.settings.value(path) {
            return Some(value);
        }
        self.context.is_contact(path).then(|| self.operated(path))
    }

    fn known(&self) -> Vec<String> {
        let mut names = self.context.settings.known();
        names.extend(self.names.all());
        names.extend(self.results.keys().cloned());
        names.extend(self.context.contacts().iter().map(ToString::to_string));
        names.push("elapsed".into());
        names
    }

    fn no_value(&self, path: &str) -> Option<(String, String)> {
        let capability = &self.context.capability;
        if capability.reading(path).is_some() {
            return Some((
                format!("`{path}` is measured, and has no value of its own here"),
                format!("give its value a name first, with `read seen = {path}`"),
            ));
        }
        if capability.parameter(path).is_some() {
            let all: Vec<&str> = capability.readings.iter().map(|r| r.name.as_str()).collect();
            let help = match all.as_slice() {
                [] => "this rig measures nothing besides its outputs".to_owned(),
                all => format!("what is measured: {}", all.join(", ")),
            };
            return Some((format!("`{path}` is set, not measured"), help));
        }
        if capability.channel_dimension(path).is_some() {
            return Some((
                format!("`{path}` is an output, not a value"),
                format!("measure it first, with `read seen = magnitude({path})`"),
            ));
        }
        path.starts_with("ramp.").then(|| {
            let help = "a ramp's values are known behind it: `ramp.value`, `ramp.reached`, …";
            ("no ramp stands before this line".to_owned(), help.to_owned())
        })
    }

    fn call(
        &self,
        name: &str,
        args: &[Expr],
        span: &Range<usize>,
    ) -> Option<Result<Value, Problem>> {
        Some(match name {
            "curve" => self.curve(args, span),
            "mean" | "lowest" | "highest" | "count" => self.statistics(name, args, span),
            _ => match self.context.probe(&Expr {
                kind: ExprKind::Call(name.into(), args.to_vec()),
                span: span.clone(),
            }) {
                Ok(None) => return None,
                Err(problem) => Err(problem),
                Ok(Some(probe)) => {
                    let text = probe.to_string();
                    self.readings.as_ref().and_then(|r| r.get(&text)).cloned().ok_or_else(|| {
                        Problem::new(span.clone(), format!("`{text}` is measured"))
                            .help(format!("give its value a name first, with `read seen = {text}`"))
                    })
                }
            },
        })
    }

    fn interval(&self, from: &Event, to: &Event, span: &Range<usize>) -> Result<Value, Problem> {
        for event in [from, to] {
            if let Event::Contact { signal, .. } = event
                && !self.context.is_contact(signal.as_str())
            {
                let contacts: Vec<String> =
                    self.context.contacts().iter().map(ToString::to_string).collect();
                let near = waltron_core::text::name::nearest(
                    signal.as_str(),
                    contacts.iter().map(String::as_str),
                );
                return Err(Problem::new(span.clone(), format!("there is no contact `{signal}`"))
                    .did_you_mean(near, || format!("contacts are {}", contacts.join(", "))));
            }
        }
        self.between(from, to).map_err(|why| Problem::new(span.clone(), why))
    }
}

impl Scene {
    /// `curve(51P, 2 x)` or `curve(51P, 2.4 A)`: the operate time by the settings.
    fn curve(&self, args: &[Expr], span: &Range<usize>) -> Result<Value, Problem> {
        let wrong = || {
            Problem::new(span.clone(), "`curve` takes an element and a multiple or a current")
                .help("write it like `curve(51P, 2 x)`")
        };
        let [element, at] = args else { return Err(wrong()) };
        let id = self.context.name_argument(element).ok_or_else(wrong)?;
        let at = evaluate(at, self)?.plain();
        let Some(found) = self.context.asset.element(id.as_str()) else {
            return Err(self.context.no_element(&id, &element.span));
        };
        let setting = found.setting();
        let multiple = match at {
            _ if found.once_picked_up().is_some() => 1.0,
            Value::Quantity(q) if q.dimension == Dimension::NUMBER => q.si,
            Value::Quantity(q) if q.dimension == setting.dimension => q.si / setting.si,
            Value::Missing(missing) => {
                let kind = Type::Quantity(Dimension::TIME);
                return Ok(Value::missing(kind, missing.fails, missing.why));
            }
            other if other.is_unknown() => return Ok(any_time()),
            _ => return Err(wrong()),
        };
        match found.required_at(multiple).expected {
            Some(time) => Ok(Value::Quantity(Quantity::of(time))),
            None => {
                Err(Problem::new(span.clone(), format!("{id} does not operate at {multiple} x"))
                    .help("expect `not trip` instead"))
            }
        }
    }

    /// `mean(u)`: over every value that `read u = …` has given the name.
    fn statistics(&self, name: &str, args: &[Expr], span: &Range<usize>) -> Result<Value, Problem> {
        let of = match args {
            [arg] => self.context.name_argument(arg),
            _ => None,
        };
        let Some(of) = of else {
            return Err(Problem::new(
                span.clone(),
                format!("`{name}` takes the name that `read` gave"),
            ));
        };
        let Some(current) = self.variable(of.as_str()) else {
            let message = match self.value(of.as_str()) {
                Some(_) => {
                    format!("`{of}` was not read, so there is nothing to take the {name} of")
                }
                None => format!("nothing is called `{of}`"),
            };
            return Err(
                Problem::new(span.clone(), message).help(format!("read it first: `read {of} = …`"))
            );
        };
        let kind = match current.kind() {
            _ if name == "count" => Type::NUMBER,
            kind @ Type::Quantity(_) => kind,
            _ => Type::NUMBER,
        };
        let values = self.names.read(of.as_str());
        let known: Vec<Measured> = values
            .iter()
            .filter_map(|v| match v {
                Value::Measured(m) => Some(m.clone()),
                Value::Quantity(q) => Some(Measured { value: *q, estimate: None }),
                _ => None,
            })
            .collect();
        let Some(first) = known.first() else {
            return Ok(match (current, name) {
                // How often is not known before.
                _ if self.is_preview() && name == "count" => Value::later(kind),
                _ if name == "count" => Value::number(0.0),
                (Value::Missing(missing), _) => {
                    Value::missing(kind, missing.fails, missing.why.as_str())
                }
                (Value::Range(bounds), _) => Value::Range(*bounds),
                _ => Value::later(kind),
            });
        };
        if self.is_preview() {
            return Ok(Value::later(kind));
        }
        let by_value = |a: &&Measured, b: &&Measured| a.value.si.total_cmp(&b.value.si);
        let one = match name {
            "mean" => {
                let count = known.len() as f64;
                let si = known.iter().map(|m| m.value.si).sum::<f64>() / count;
                // What the readings share, a mean does not make smaller.
                let estimate = known.iter().try_fold(Estimate::exact(si), |all, m| {
                    Some(all.joined(m.estimate.as_ref()?, si, [1.0, 1.0 / count]))
                });
                Some(Measured { value: Quantity { si, ..first.value }, estimate })
            }
            "lowest" => known.iter().min_by(by_value).cloned(),
            "highest" => known.iter().max_by(by_value).cloned(),
            _ => return Ok(Value::number(known.len() as f64)),
        };
        Ok(Value::Measured(one.unwrap_or_else(|| first.clone())))
    }
}
