//! Operations: C, O, CO, OC, O-C-O, with times of every pole and unit, coil currents, auxiliary contacts
//! and travel.

use super::grade::{Setup, Wanted};
use super::step::{CHARGING, Operation, Step};
use super::task::{Breaking, Task, Tested};
use crate::circuit_breaker::asset::{CircuitBreaker, Coil, Measurand};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::Values;
use waltron_core::procedure::{Bench, FamilyKeys, Method, SetupError, TestHead};
use waltron_core::quantity::{Ratio, Time, seconds, significant};
use waltron_core::text::document::{Field, Number, Problem, Problems, QuantityText, Text};
use waltron_core::text::name::{Name, nearest};

/// Operations of a circuit breaker, timed at every pole and unit.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OperationKeys {
    /// `C`, `O`, `CO`, `OC`, `O-C-O`, in this order; `["C", "O"]` if not given.
    operations: Option<Vec<Text>>,
    /// Control voltages as shares of the rated one; `["100 %"]` if not given.
    voltage: Option<Vec<QuantityText<Ratio>>>,
    /// Trips by this coil; an `O` is made by each of them, the others by the first, if not given.
    coil: Option<Text>,
    /// How often each is made; 1 if not given.
    repeat: Option<Number>,
    /// Between opening and closing again; 300 ms if not given (IEC 62271-100, 5.105).
    pause: Option<QuantityText<Time>>,
    /// How long a command lasts; 200 ms if not given.
    pulse: Option<QuantityText<Time>>,
    /// Whether it is the first operation after a long rest, which comes only once: nothing is moved before
    /// it; false if not given.
    first: Option<bool>,
}

/// An operation test with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct OperationTest {
    test: Name,
    steps: Vec<Step>,
    is_first: bool,
}

impl FamilyKeys for OperationKeys {
    type Family = CircuitBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &CircuitBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let operations = self.operations(problems)?;
        let mut shares = Vec::new();
        for text in self.voltage.iter().flatten() {
            let share = text.positive(problems)?.value;
            if share > 1.1 + 1e-9 {
                let message = "a coil withstands 110 % of its rated voltage (IEC 62271-1)";
                problems.push(Problem::new(text.span(), message));
                return None;
            }
            shares.push(share);
        }
        if shares.is_empty() {
            shares.push(1.0);
        }
        let trips = self.trips(of, problems)?;
        let close = of.coils(true).next();
        let needs = [
            (operations.iter().any(|o| o.closes()) && close.is_none(), "closes"),
            (operations.iter().any(|o| o.opens()) && trips.is_empty(), "trips"),
        ];
        if let Some((_, does)) = needs.into_iter().find(|(lacks, _)| *lacks) {
            let message = format!("the asset's file has no coil that {does} the breaker");
            problems.push(Problem::new(head.id.span(), message));
            return None;
        }
        let repeat = match &self.repeat {
            None => 1,
            Some(n) => match n.positive(problems)? {
                count if count.fract() == 0.0 && count <= 1000.0 => count as usize,
                _ => {
                    let message = "an operation is repeated a whole number of times, up to 1000";
                    problems.push(Problem::new(n.span(), message));
                    return None;
                }
            },
        };
        let time = |field: &Option<QuantityText<Time>>, usual, problems: &mut Problems| {
            field.as_ref().map_or(Some(seconds(usual)), |t| t.positive(problems))
        };
        let (pause, pulse) = (time(&self.pause, 0.3, problems)?, time(&self.pulse, 0.2, problems)?);
        let is_first = self.first.unwrap_or(false);
        let mut steps = Vec::new();
        for share in &shares {
            for operation in &operations {
                let by: Vec<Option<&Coil>> = match operation {
                    Operation::Open => trips.iter().map(|coil| Some(*coil)).collect(),
                    Operation::Close => vec![None],
                    _ => vec![trips.first().copied()],
                };
                for trip in by {
                    for n in 1..=repeat {
                        let mut label = operation.word().to_owned();
                        if trips.len() > 1
                            && let Some(coil) = trip
                        {
                            label.push_str(&format!("/{}", coil.name.replace(' ', "-")));
                        }
                        if shares.len() > 1 || *share != 1.0 {
                            label.push_str(&format!("/{}%", significant(share * 100.0, 4)));
                        }
                        if repeat > 1 {
                            label.push_str(&format!("#{n}"));
                        }
                        steps.push(Step {
                            operation: *operation,
                            trip: trip.cloned(),
                            close: operation.closes().then(|| close.cloned()).flatten(),
                            share: *share,
                            turn: n,
                            label,
                            pause,
                            pulse,
                        });
                    }
                }
            }
        }
        if is_first && steps.len() != 1 {
            let message = "the first operation after a long rest is one operation, made once";
            problems.push(
                Problem::new(head.id.span(), message)
                    .help("give one of `operations`, one `coil`, and no `repeat`"),
            );
            return None;
        }
        let labels: Vec<&str> = steps.iter().map(|s| s.label.as_str()).collect();
        if let Some(twice) = labels.iter().enumerate().find(|(k, l)| labels[..*k].contains(l)) {
            let message = format!("`{}` stands there twice; say `repeat` instead", twice.1);
            problems.push(Problem::new(head.id.span(), message));
            return None;
        }
        Some(Arc::new(Tested(OperationTest { test: head.name(), steps, is_first })))
    }
}

impl OperationKeys {
    fn operations(&self, problems: &mut Problems) -> Option<Vec<Operation>> {
        let mut all = Vec::new();
        for text in self.operations.iter().flatten() {
            let found = Operation::ALL.iter().find(|(word, _)| *word == text.as_str());
            let Some((_, operation)) = found else {
                let words = || Operation::ALL.iter().map(|(word, _)| *word);
                let near = nearest(text.as_str(), words());
                let message = format!("`{}` is no operation", text.as_str());
                let list = || format!("use one of {}", words().collect::<Vec<_>>().join(", "));
                problems.push(Problem::new(text.span(), message).did_you_mean(near, list));
                return None;
            };
            all.push(*operation);
        }
        if all.is_empty() {
            all = vec![Operation::Close, Operation::Open];
        }
        Some(all)
    }

    fn trips<'a>(&self, of: &'a CircuitBreaker, problems: &mut Problems) -> Option<Vec<&'a Coil>> {
        let Some(text) = &self.coil else { return Some(of.coils(false).collect()) };
        let found = of.coils(false).find(|c| c.name == text.as_str());
        if found.is_none() {
            let names = || of.coils(false).map(|c| c.name.as_str());
            let near = nearest(text.as_str(), names());
            let message = format!("no coil that trips is called `{}`", text.as_str());
            let list = || format!("it has {}", names().collect::<Vec<_>>().join(", "));
            problems.push(Problem::new(text.span(), message).did_you_mean(near, list));
        }
        found.map(|coil| vec![coil])
    }
}

impl OperationTest {
    /// The openings by the trip coils that are compared after this one: it is the last of them.
    fn compared(&self, last: &Step) -> Vec<String> {
        let is_same = |s: &&Step| {
            s.operation == Operation::Open && s.share == last.share && s.turn == last.turn
        };
        let all: Vec<&Step> = self.steps.iter().filter(is_same).collect();
        match all.last() {
            Some(step) if *step == last && all.len() > 1 => {
                all.iter().map(|s| s.label.clone()).collect()
            }
            _ => Vec::new(),
        }
    }
}

impl Breaking for OperationTest {
    const WORD: &'static str = "operation";

    fn test(&self) -> &Name {
        &self.test
    }

    fn tasks(&self, setup: &Setup, bench: Bench<'_>) -> Result<Vec<Task>, SetupError> {
        let frequency = bench.frequency()?;
        let task = |step: &Step| {
            let program = step.program(&setup.of, &setup.rig, frequency)?;
            let id =
                format!("{} {}", self.test, step.label).replace(['/', '#'], " ").replace('%', "");
            let name: Name = id.as_str().into();
            let mut program = program;
            program.capture = (!program.captures.is_empty()).then(|| name.clone());
            program.captures.iter_mut().for_each(|capture| capture.name = name.clone());
            let program = Arc::new(program);
            let compared = self.compared(step);
            let mut points = setup.wanted(step);
            if !compared.is_empty() {
                points.push(Wanted { share: step.share, ..Wanted::of(Measurand::CoilSpread, "") });
            }
            let charging = program.position("spring").map_or(0.0, |_| CHARGING);
            let likely = program.longest().unwrap_or_default() - seconds(charging);
            let (grader, made, put_out) = (setup.clone(), step.clone(), Arc::clone(&program));
            Ok(Task {
                label: step.label.clone(),
                begins_closed: Some(step.operation.begins_closed()),
                points,
                stimulus: Values::none().with_percent("control_voltage", step.share),
                likely: likely.max(seconds(0.0)),
                program,
                grade: Arc::new(move |seen| grader.grade(&made, &put_out, seen)),
                compared,
            })
        };
        self.steps.iter().map(task).collect()
    }

    fn is_first(&self) -> bool {
        self.is_first
    }

    fn first_see_to(&self) -> Vec<String> {
        match self.is_first {
            true => vec![
                "The first operation after a long rest comes only once: operate nothing before it"
                    .to_owned(),
            ],
            false => Vec::new(),
        }
    }
}
