//! What a running sequence knows: variables, what is out, what happened in the last injection.

use super::context::Context;
use crate::characteristic::acceptance;
use crate::document::Problem;
use crate::expression::{Event, Expr, ExprKind, Names, Stage, Type, Value, Which, evaluate};
use crate::grading::Verdict;
use crate::name::Name;
use crate::observation::Observation;
use crate::program::{Profile, Program};
use crate::quantity::{Dimension, Measure, Quantity, Time, seconds};
use crate::stimulus::Stimulus;
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;

/// The last injection, as far as it is known.
#[derive(Clone, Debug)]
pub(super) struct Injection {
    pub(super) program: Program,
    /// What was seen; while previewing nothing was, and what follows from it is unknown.
    pub(super) observation: Option<Observation>,
    /// What its ramp goes through, from and to.
    pub(super) swept: Option<[Quantity; 2]>,
}

/// What a running sequence knows.
#[derive(Clone, Debug)]
pub(super) struct Scene {
    pub(super) context: Arc<Context>,
    /// Variables, those of the innermost sub-sequence last.
    frames: Vec<HashMap<String, Value>>,
    /// What steps yielded: `ramp.value`, `up.reached`.
    results: HashMap<String, Value>,
    /// Why a result has no value: its name, the verdict this gives, the reason.
    excuses: HashMap<String, (Verdict, String)>,
    /// Every value that a name has been given by `read`.
    history: HashMap<String, Vec<Quantity>>,
    /// Values of a `read` being worked out, by the probe's text.
    pub(super) readings: Option<HashMap<String, Value>>,
    /// What is out now.
    pub(super) state: Stimulus,
    pub(super) last: Option<Injection>,
    pub(super) elapsed: Time,
    /// While checking, nothing that is measured is known.
    pub(super) preview: bool,
}

impl Scene {
    pub(super) fn new(context: Arc<Context>, preview: bool) -> Self {
        Self {
            context,
            frames: vec![HashMap::new()],
            results: HashMap::new(),
            excuses: HashMap::new(),
            history: HashMap::new(),
            readings: None,
            state: Stimulus::off(),
            last: None,
            elapsed: seconds(0.0),
            preview,
        }
    }

    pub(super) fn let_value(&mut self, name: &str, value: Value) {
        if let Some(frame) = self.frames.last_mut() {
            frame.insert(name.to_owned(), value);
        }
    }

    pub(super) fn variable(&self, name: &str) -> Option<&Value> {
        self.frames.last().and_then(|f| f.get(name))
    }

    pub(super) fn forget(&mut self, name: &str) {
        if let Some(frame) = self.frames.last_mut() {
            frame.remove(name);
        }
    }

    pub(super) fn variables(&self) -> Vec<String> {
        self.frames.last().map(|f| f.keys().cloned().collect()).unwrap_or_default()
    }

    pub(super) fn enter(&mut self, parameters: HashMap<String, Value>) {
        self.frames.push(parameters);
    }

    pub(super) fn leave(&mut self) {
        self.frames.pop();
    }

    /// Notes what a step yielded, under its kind and its label.
    pub(super) fn result(&mut self, owners: &[&str], key: &str, value: Value) {
        for owner in owners {
            self.results.insert(format!("{owner}.{key}"), value.clone());
        }
    }

    /// Notes why a step yielded no value, or that it did.
    pub(super) fn excuse(&mut self, owners: &[&str], why: Option<(Verdict, String)>) {
        for owner in owners {
            let key = format!("{owner}.value");
            match &why {
                Some(why) => self.excuses.insert(key, why.clone()),
                None => self.excuses.remove(&key),
            };
        }
    }

    /// Why an expression has no value though it could have one.
    pub(super) fn excuse_of(&self, expr: &Expr) -> Option<&(Verdict, String)> {
        match &expr.kind {
            ExprKind::Name(name) => self.excuses.get(name.as_str()),
            ExprKind::Unary(_, inner) => self.excuse_of(inner),
            ExprKind::Binary(_, a, b) => self.excuse_of(a).or_else(|| self.excuse_of(b)),
            ExprKind::Call(_, args) => args.iter().find_map(|a| self.excuse_of(a)),
            _ => None,
        }
    }

    pub(super) fn why_unknown(&self, expr: &Expr) -> String {
        let why = self.excuse_of(expr).map(|(_, why)| why.clone());
        why.unwrap_or_else(|| "this was not measured".to_owned())
    }

    pub(super) fn remember(&mut self, name: &str, value: Quantity) {
        self.history.entry(name.to_owned()).or_default().push(value);
    }

    /// The index of the segment that is the fault.
    pub(super) fn fault_segment(program: &Program) -> Option<usize> {
        program.segments.iter().rposition(|s| s.name == "fault")
    }

    /// When the fault began; the injection's start where it has none.
    pub(super) fn inception(injection: &Injection) -> Option<Time> {
        let observation = injection.observation.as_ref()?;
        match Self::fault_segment(&injection.program) {
            Some(index) => observation.segments.get(index).map(|s| s.start),
            None => Some(seconds(0.0)),
        }
    }

    /// When an event happened in the last injection, at or after a time.
    fn moment(&self, event: &Event, from: Option<Time>) -> Result<Option<Time>, String> {
        let Some(injection) = &self.last else { return Err("nothing has been put out yet".into()) };
        let Some(observation) = &injection.observation else { return Ok(None) };
        let named = |label: &Name| {
            let at = injection.program.segments.iter().position(|s| s.name == *label);
            at.map(|i| observation.segments.get(i))
        };
        Ok(match event {
            Event::Inception => {
                if Self::fault_segment(&injection.program).is_none() {
                    return Err("the last injection has no fault, so no inception".into());
                }
                Self::inception(injection)
            }
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

    /// The time between two events; `None` where one of them did not happen.
    ///
    /// # Errors
    /// Where an event makes no sense for the last injection.
    pub(super) fn between(&self, from: &Event, to: &Event) -> Result<Option<Time>, String> {
        let Some(start) = self.moment(from, None)? else { return Ok(None) };
        Ok(self.moment(to, Some(start))?.map(|end| end - start))
    }

    /// Whether a contact closed during the last injection, from inception on.
    fn operated(&self, contact: &str) -> Value {
        let Some(injection) = &self.last else { return Value::Unknown(Type::Bool) };
        let (Some(observation), Some(inception)) =
            (&injection.observation, Self::inception(injection))
        else {
            return if self.preview { Value::Unknown(Type::Bool) } else { Value::Bool(false) };
        };
        let closed =
            |e: &crate::observation::Edge| e.signal == contact && e.closed && e.time >= inception;
        Value::Bool(observation.edges.iter().any(closed))
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
            return Some(Value::Quantity(Quantity::of(self.elapsed)));
        }
        if let Some(value) = self.context.settings.value(path) {
            return Some(value);
        }
        self.context.is_contact(path).then(|| self.operated(path))
    }

    fn known(&self) -> Vec<String> {
        let mut names = self.context.settings.known();
        names.extend(self.variables());
        names.extend(self.results.keys().cloned());
        names.extend(self.context.contacts().iter().map(ToString::to_string));
        names.push("elapsed".into());
        names
    }

    fn hint(&self, path: &str) -> Option<String> {
        if self.context.capability.reading(path).is_some() {
            return Some(format!(
                "`{path}` is measured: give its value a name first with `read x = {path}`"
            ));
        }
        if self.context.capability.channel_dimension(path).is_some() {
            return Some(format!(
                "`{path}` is an output: measure it first with `read x = magnitude({path})`"
            ));
        }
        if path.starts_with("ramp.") {
            return Some("no ramp stands before this line".to_owned());
        }
        None
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
                            .help(format!("give its value a name first with `read x = {text}`"))
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
                let near =
                    crate::name::nearest(signal.as_str(), contacts.iter().map(String::as_str));
                return Err(Problem::new(span.clone(), format!("there is no contact `{signal}`"))
                    .did_you_mean(near, || format!("contacts are {}", contacts.join(", "))));
            }
        }
        match self.between(from, to) {
            Ok(Some(time)) => Ok(Value::Quantity(Quantity::of(time))),
            Ok(None) if self.preview => Ok(Value::Unknown(Type::Quantity(Dimension::TIME))),
            Ok(None) => Err(Problem::new(span.clone(), "one of the two events did not happen")),
            // While checking, what was put out before is known only in part.
            Err(_) if self.preview && self.last.is_none() => {
                Ok(Value::Unknown(Type::Quantity(Dimension::TIME)))
            }
            Err(why) => Err(Problem::new(span.clone(), why)),
        }
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
        let at = evaluate(at, self)?;
        if let Some(stage) = self.context.asset.stage(id.as_str()) {
            return Ok(Value::Quantity(Quantity::of(stage.delay)));
        }
        let Some(found) = self.context.asset.element(id.as_str()) else {
            let near = self.context.asset.nearest_element(id.as_str()).map(Name::as_str);
            return Err(Problem::new(
                element.span.clone(),
                format!("the asset has no element `{id}`"),
            )
            .did_you_mean(near, || "elements are listed in the asset's file".to_owned()));
        };
        let multiple = match at {
            Value::Quantity(q) if q.dimension == Dimension::NUMBER => q.si,
            Value::Quantity(q) if q.dimension == Dimension::CURRENT => q.si / found.pickup.si(),
            Value::Unknown(_) => return Ok(Value::Unknown(Type::Quantity(Dimension::TIME))),
            _ => return Err(wrong()),
        };
        let seen = found.pickup * multiple;
        let t = &found.tolerances;
        let band = acceptance(&found.characteristic, found.pickup, seen, &t.current, &t.time);
        match band.expected {
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
            return Err(Problem::new(span.clone(), format!("nothing is called `{of}`"))
                .help(format!("read it first: `read {of} = …`")));
        };
        let dimension = match current.kind() {
            Type::Quantity(d) => d,
            _ => Dimension::NUMBER,
        };
        let values = self.history.get(of.as_str()).map(Vec::as_slice).unwrap_or_default();
        if values.is_empty() || current.is_unknown() {
            let kind = if name == "count" { Type::NUMBER } else { Type::Quantity(dimension) };
            return Ok(Value::Unknown(kind));
        }
        let all = values.iter().map(|q| q.si);
        let si = match name {
            "mean" => all.sum::<f64>() / values.len() as f64,
            "lowest" => all.fold(f64::INFINITY, f64::min),
            "highest" => all.fold(f64::NEG_INFINITY, f64::max),
            _ => return Ok(Value::number(values.len() as f64)),
        };
        Ok(Value::Quantity(Quantity { si, dimension }))
    }
}
